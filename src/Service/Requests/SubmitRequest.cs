using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

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
    public async Task<long> RunAsync(NewRequest wish, Caller caller, string cause, CancellationToken ct)
    {
        var read = await reading.ReadAsync(wish, caller, ct);
        var now = clock.GetUtcNow();
        var namesJson = Shapes.Json(read.Names.Select(n => n.ToString()));
        var request = Request.Of(
            now,
            caller.Name,
            cause,
            read.CertificateName,
            read.Host?.Id,
            read.Profile.Id,
            read.Subject.ToString(),
            namesJson,
            JsonSerializer.Serialize([.. read.Verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo),
            JsonSerializer.Serialize([.. read.Findings.Select(Shapes.Of)], BeaconJson.Default.ListFindingInfo),
            read.Key.ToString(),
            wish.Life,
            read.Csr?.Der.ToArray(),
            Shapes.Json(read.BindTo),
            wish.Port,
            wish.RenewAfter,
            wish.Note,
            caller.From
        );
        var hostName = read.Host?.Name;

        await using (var write = await db.BeginWriteAsync(ct))
        {
            db.Requests.Add(request);
            await db.SaveChangesAsync(ct);
            await db.Note(
                now,
                caller.Actor,
                "request.submitted",
                $"request {request.Id}",
                $"{read.CertificateName} for {hostName ?? "a CSR"}, profile {read.Profile.Id}: {string.Join(", ", read.Names)}"
            );
            switch (read.Overall)
            {
                case Core.Profiles.Verdict.Refused:
                    var reason = read.Findings.FirstOrDefault(f => f.Weight == FindingWeight.Fatal) is { } fatal
                        ? fatal.Message
                        : string.Join(
                            " ",
                            read.Verdicts.Where(v => v.Verdict == Core.Profiles.Verdict.Refused).Select(v => $"{v.Name}: {v.Evidence}")
                        );
                    request.Refuse(reason, "rules");
                    await db.Note(now, "rules", "request.refused", $"request {request.Id}", reason);
                    break;
                case Core.Profiles.Verdict.NeedsApproval:
                    request.WaitForApproval(read.PeopleNeeded);
                    break;
                default:
                    if (read.Host is not null)
                        await carryOut.RunAsync(request, now, ct);
                    break;
            }
            await write.CommitAsync(ct);
        }

        if (read.Overall == Core.Profiles.Verdict.Granted)
        {
            if (read.Host is not null)
                bell.Ring(read.Host.Id);
            else
            {
                try
                {
                    await IssueForCsrAsync(request.Id, read, caller.Actor, ct);
                }
                catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
                {
                    await using var write = await db.BeginWriteAsync(ct);
                    request.WaitForAuthority(p.Message);
                    await db.Note(now, "rules", "request.waits", $"request {request.Id}", p.Message);
                    await write.CommitAsync(ct);
                }
            }
        }
        changes.Tell("request", request.Id.ToString());
        changes.Tell("certificate", read.CertificateName);
        return request.Id;
    }

    private Task<Recorded> IssueForCsrAsync(long id, ReadWish read, string actor, CancellationToken ct) =>
        issue.RunAsync(
            new(
                read.Profile,
                read.Subject,
                read.Names,
                read.Csr!.PublicKey,
                read.Life,
                read.Existing?.Id ?? 0,
                read.CertificateName,
                Shapes.Json(read.Names.Select(n => n.ToString())),
                id,
                EditionState.Current,
                actor,
                $"request {id}"
            ),
            ct
        );
}
