using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Approves, refuses or withdraws a request that waits.</summary>
public sealed class DecideRequest(
    BeaconDb db,
    CarryOutRequest carryOut,
    IssueEdition issue,
    ProfileCatalogue profiles,
    DecideNames decide,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    public async Task ApproveAsync(long id, Caller caller, CancellationToken ct)
    {
        Request request;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            request = await FindAsync(id, ct);
            var now = clock.GetUtcNow();
            if (profiles.Get(request.Profile) is { Offered: false })
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"The profile \"{request.Profile}\" was withdrawn since the request was made: nothing new is issued under it.",
                    "Refuse the request with that reason, or offer the profile again."
                );
            var last = request.Approve(caller.Name, now);
            await db.Note(
                now,
                caller.Actor,
                "request.approved",
                $"request {id}",
                $"{request.CertificateName}, asked for by {request.Requester}; {request.Approvals.Count} of {request.Needed}"
            );
            if (!last)
            {
                await write.CommitAsync(ct);
                changes.Tell("request", id.ToString());
                return;
            }
            var by = string.Join(" and ", request.Approvals.Select(a => a.By));
            request.Grant(
                JsonSerializer.Serialize(
                    [
                        .. JsonSerializer
                            .Deserialize(request.VerdictsJson, BeaconJson.Default.ListNameVerdictInfo)!
                            .Select(v =>
                                v.Verdict == Contracts.Verdict.NeedsApproval
                                    ? v with
                                    {
                                        Verdict = Contracts.Verdict.Granted,
                                        Evidence = $"{v.Evidence} Approved by {by}.",
                                        Cure = "",
                                    }
                                    : v
                            ),
                    ],
                    BeaconJson.Default.ListNameVerdictInfo
                )
            );
            if (request.HostId is { } hostId)
            {
                (await db.Hosts.SingleAsync(h => h.Id == hostId, ct)).ThrowIfGone();
                await carryOut.RunAsync(request, now, ct);
            }
            await write.CommitAsync(ct);
        }
        if (request.HostId is { } h)
            bell.Ring(h);
        else
        {
            try
            {
                await FinishAsync(request, caller.Actor, ct);
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
            {
                await using var write = await db.BeginWriteAsync(ct);
                request.WaitForAuthority(p.Message);
                await db.Note(clock.GetUtcNow(), "rules", "request.waits", $"request {id}", p.Message);
                await write.CommitAsync(ct);
            }
        }
        changes.Tell("request", id.ToString());
    }

    /// <summary>What was approved and has no edition yet, since the service was stopped or the authority's key could not be used: it gets it now.</summary>
    public async Task FinishOpenAsync(CancellationToken ct)
    {
        foreach (
            var r in await db
                .Requests.AsNoTracking()
                .Where(r =>
                    (r.State == RequestState.WaitingForApproval || r.State == RequestState.WaitingOutside) && r.Approved && r.HostId == null
                )
                .OrderBy(r => r.Id)
                .Take(50)
                .ToListAsync(ct)
        )
        {
            try
            {
                await FinishAsync(r, r.Approvals.LastOrDefault()?.By ?? r.Requester, ct);
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
            {
                return;
            }
            catch (BeaconProblem p)
            {
                await using var write = await db.BeginWriteAsync(ct);
                (await FindAsync(r.Id, ct)).Refuse($"It was approved, but cannot be issued: {p.Message}", "rules");
                await db.Note(clock.GetUtcNow(), "rules", "request.refused", $"request {r.Id}", p.Message);
                await write.CommitAsync(ct);
            }
            changes.Tell("request", r.Id.ToString());
        }
    }

    private async Task FinishAsync(Request request, string actor, CancellationToken ct)
    {
        var csr = CertificationRequest.Read(request.Csr);
        await issue.RunAsync(
            new(
                profiles.Get(request.Profile),
                (request.Subject.Length > 0 ? DistinguishedName.Parse(request.Subject) : DistinguishedName.Empty),
                [.. Shapes.Strings(request.NamesJson).Select(AlternativeName.Parse)],
                csr.PublicKey,
                ProfileWords.ParseLife(request.Life),
                0,
                request.CertificateName,
                request.NamesJson,
                request.Id,
                EditionState.Current,
                actor,
                $"request {request.Id}"
            ),
            ct
        );
        changes.Tell("certificate", request.CertificateName);
    }

    /// <summary>Other names before the approval. They go through the same verdicts, by the requester's zones: nobody gets a name by somebody else's.</summary>
    public async Task AmendAsync(long id, Amendment wish, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(wish.Reason))
            throw new BeaconProblem(ProblemCode.InputInvalid, "An amendment needs a reason; the requester reads it.", "Say why.");
        var request = await FindAsync(id, ct);
        var profile = profiles.Get(request.Profile);
        if (profile.AuthorityDepth is not null)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                "An authority's request has no names that could be amended.",
                "Refuse it with a reason instead."
            );
        var requester = await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == request.Requester, ct);
        var host = request.HostId is { } h ? await db.Hosts.AsNoTracking().SingleAsync(x => x.Id == h, ct) : null;
        var verdicts = await decide.RunAsync(
            [.. wish.Names.Where(n => !string.IsNullOrWhiteSpace(n)).Select(n => n.Trim())],
            profile,
            host,
            requester?.GroupList ?? [],
            [],
            ct
        );
        if (verdicts.Count == 0)
            throw new BeaconProblem(ProblemCode.InputInvalid, "No name would be left.", "Refuse the request instead.");
        if (verdicts.FirstOrDefault(v => v.Verdict == Core.Profiles.Verdict.Refused) is { } no)
            throw new BeaconProblem(ProblemCode.RequestRefused, $"{no.Name}: {no.Evidence}", no.Cure);
        await using var write = await db.BeginWriteAsync(ct);
        var (now, before, after) = (
            clock.GetUtcNow(),
            Shapes.Strings(request.NamesJson),
            verdicts.Select(v => AlternativeName.Parse(v.Name).ToString()).ToList()
        );
        var cn = request.Subject.Length > 0 ? DistinguishedName.Parse(request.Subject).CommonName : null;
        // A common name that is no name any more would be one that nobody judged.
        var subject =
            cn is null || after.Contains(cn)
                ? request.Subject
                : DistinguishedName.ForCommonName(AlternativeName.Parse(after[0]).Value).ToString();
        if (before.ToHashSet().SetEquals(after))
            throw new BeaconProblem(ProblemCode.WrongState, "These are the names that it has.", "Approve it as it is.");
        request.Amend(
            new(caller.Name, now, before, after, wish.Reason.Trim()),
            JsonSerializer.Serialize([.. verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo),
            subject,
            ReadWish.Needs(profile, NameDecision.Overall(verdicts)) is > 0 and var n ? n : 1
        );
        await db.Note(
            now,
            caller.Actor,
            "request.amended",
            $"request {id}",
            $"{string.Join(", ", before)} → {string.Join(", ", after)}: {wish.Reason.Trim()}"
        );
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    public async Task RefuseAsync(long id, string reason, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(reason))
            throw new BeaconProblem(ProblemCode.InputInvalid, "A refusal needs a reason; the requester reads it.", "Say why.");
        await using var write = await db.BeginWriteAsync(ct);
        (await FindAsync(id, ct)).Refuse(reason.Trim(), caller.Name);
        await db.Note(clock.GetUtcNow(), caller.Actor, "request.refused", $"request {id}", reason.Trim());
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    public async Task WithdrawAsync(long id, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var request = await FindAsync(id, ct);
        if (request.Requester != caller.Name && !caller.IsAdministrator)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"Request {id} is {request.Requester}'s.",
                "Ask them or an administrator to withdraw it."
            );
        request.Withdraw(caller.Name);
        var now = clock.GetUtcNow();
        if (request.OrderId is { } o && await db.Orders.SingleAsync(x => x.Id == o, ct) is { IsOpen: true } order)
            order.Cancel(now);
        await db.Note(now, caller.Actor, "request.withdrawn", $"request {id}");
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    private async Task<Request> FindAsync(long id, CancellationToken ct) =>
        await db.Requests.FirstOrDefaultAsync(r => r.Id == id, ct)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
}
