using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Takes a wish: decides it, records it under a number, and carries it out as far as it is granted.</summary>
public sealed class SubmitRequest(
    BeaconDb db,
    WishReading reading,
    CarryOutRequest carryOut,
    IssueEdition issue,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <param name="cause"><c>person</c> or <c>est</c>.</param>
    public async Task<long> RunAsync(NewRequest wish, Caller caller, string cause, CancellationToken ct)
    {
        var read = await reading.ReadAsync(wish, caller, Operation.SubmitRequest, ct);
        Bindings.Uncovered.ThrowUnlessSaid($"What {read.CertificateName} shall be bound to", read.Uncovered, wish.LeaveOut);
        var request = Recorded(read, wish, caller, cause, clock.GetUtcNow());
        if (read.Overall == Verdict.Granted)
            await carryOut.LookUpAsync(request, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            db.Requests.Add(request);
            await db.SaveChangesAsync(ct);
            await db.Note(
                request.At,
                caller.Actor,
                JournalAction.RequestSubmitted,
                $"request {request.Id}",
                $"{read.CertificateName} for {read.Host?.Name ?? "a CSR"}, profile {read.Profile.Id}: {string.Join(", ", read.Names)}"
            );
            await MoveOnAsync(request, read, ct);
            await write.CommitAsync(ct);
        }
        if (read.Overall == Verdict.Granted && read.Host is not null)
            bell.Ring(read.Host.AgentHostId);
        else if (read.Overall == Verdict.Granted)
            await IssueAsync(request, read, caller.Actor, ct);
        changes.Tell("request", request.Id.ToString());
        changes.Tell("certificate", read.CertificateName);
        return request.Id;
    }

    private static Request Recorded(ReadWish read, NewRequest wish, Caller caller, string cause, DateTimeOffset now) =>
        new()
        {
            At = now,
            Requester = caller.Name,
            Cause = cause,
            CertificateName = read.CertificateName,
            HostId = read.Host?.Id,
            Profile = read.Profile.Id,
            Subject = read.Subject.ToString(),
            NamesJson = Shapes.Json(read.Names.Select(n => n.ToString())),
            VerdictsJson = JsonSerializer.Serialize([.. read.Verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo),
            FindingsJson = JsonSerializer.Serialize([.. read.Findings.Select(Shapes.Of)], BeaconJson.Default.ListFindingInfo),
            Key = read.Key.ToString(),
            Life = wish.Life,
            Csr = read.Csr?.Der.ToArray(),
            BindToJson = Shapes.Json(read.BindTo),
            Port = wish.Port,
            RenewAfter = wish.RenewAfter,
            Note = wish.Note,
            From = caller.From,
            Outside = string.IsNullOrWhiteSpace(wish.Outside) ? null : wish.Outside,
        };

    private async Task MoveOnAsync(Request request, ReadWish read, CancellationToken ct)
    {
        switch (read.Overall)
        {
            case Verdict.Refused:
                var reason = ReasonOf(read);
                request.Refuse(reason, "rules");
                await db.Note(request.At, Actor.Rules, JournalAction.RequestRefused, $"request {request.Id}", reason);
                break;
            case Verdict.NeedsApproval:
                request.WaitForApproval(read.Decided.PeopleNeeded);
                break;
            default:
                if (read.Host is not null)
                    await carryOut.RunAsync(request, request.At, ct);
                break;
        }
    }

    private static string ReasonOf(ReadWish read) =>
        read.Findings.FirstOrDefault(f => f.Weight == FindingWeight.Fatal) is { } fatal
            ? fatal.Message
            : string.Join(" ", read.Verdicts.Where(v => v.Verdict == Verdict.Refused).Select(v => $"{v.Name}: {v.Evidence}"));

    private async Task IssueAsync(Request request, ReadWish read, Actor actor, CancellationToken ct)
    {
        try
        {
            await issue.RunAsync(
                read.Decided.Granted!,
                read.Csr!.PublicKey,
                new(read.CertificateName, EditionState.Current, actor, $"request {request.Id}")
                {
                    CertificateId = read.Existing?.Id ?? 0,
                    RequestId = request.Id,
                    Life = read.Life,
                },
                ct
            );
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
        {
            await using var write = await db.BeginWriteAsync(ct);
            request.WaitForAuthority(p.Message);
            await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestWaits, $"request {request.Id}", p.Message);
            await write.CommitAsync(ct);
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.KeyNotAllowed)
        {
            await using var write = await db.BeginWriteAsync(ct);
            request.Refuse(p.Message, "rules");
            await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestRefused, $"request {request.Id}", p.Message);
            await write.CommitAsync(ct);
        }
    }
}
