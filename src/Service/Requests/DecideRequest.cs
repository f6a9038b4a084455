using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Approves, refuses or withdraws a request that waits.</summary>
public sealed class DecideRequest(
    BeaconDb db,
    CarryOutRequest carryOut,
    IssueEdition issue,
    DecideAgain again,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <summary>One more person approves. With the last one it is decided again, and carried out if it is still granted.</summary>
    public async Task ApproveAsync(long id, Caller caller, CancellationToken ct)
    {
        Request request;
        EnrolmentVerdict? decided = null;
        BeaconProblem? refused = null;
        await LookUpAsync(id, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            request = await FindAsync(id, ct);
            MayAct.ThrowUnless(Operation.ApproveRequest, caller, MayAct.Of(request));
            var now = clock.GetUtcNow();
            // An approval by somebody who may approve no more counts no more.
            var still = await again.ApproversAsync(request, ct);
            request.DropApprovals(by => still.All(a => a.Name != by));
            ThrowUnlessTheirs(Operation.ApproveRequest, request, caller);
            var isLast = request.Approve(caller.Name, now);
            await db.Note(
                now,
                caller.Actor,
                JournalAction.RequestApproved,
                $"request {id}",
                $"{request.CertificateName}, asked for by {request.Requester}; {request.Approvals.Count} of {request.Needed}"
            );
            if (isLast)
            {
                var host = request.HostId is { } hostId ? await db.Hosts.SingleAsync(h => h.Id == hostId, ct) : null;
                host?.ThrowIfGone();
                decided = await again.RunAsync(request, host, await ExistingAsync(request, ct), ct);
                refused = await SettleAsync(request, decided, host, now, ct);
            }
            await write.CommitAsync(ct);
        }
        changes.Tell("request", id.ToString());
        if (refused is not null)
            throw refused;
        if (decided?.Granted is null)
            return;
        if (await HostOfAsync(request, ct) is { } about)
            bell.Ring(about.AgentHostId);
        else
            await FinishAsync(request, decided, caller.Actor, ct);
        changes.Tell("request", id.ToString());
    }

    /// <summary>Directory and DNS are asked before the transaction; inside of it, what they said is at hand.</summary>
    private async Task LookUpAsync(long id, CancellationToken ct)
    {
        var request = await db.Requests.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, ct);
        if (request?.State == RequestState.WaitingForApproval)
        {
            await again.LookUpAsync(request, await HostOfAsync(request, ct), ct);
            await carryOut.LookUpAsync(request, ct);
        }
    }

    private async Task<Hosts.Host?> HostOfAsync(Request r, CancellationToken ct) =>
        r.HostId is { } id ? await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == id, ct) : null;

    private static void ThrowUnlessTheirs(Operation operation, Request request, Caller caller)
    {
        var thing = MayAct.Of(request);
        if (
            request.State == RequestState.WaitingForApproval
            && RightsOf.Decide(caller.Who, thing.Called, DecideAgain.Holders(request)) is { } denial
        )
            throw new RefusedAttempt(operation, caller, thing, denial);
    }

    /// <returns>What the approver is told when it is not granted any more.</returns>
    private async Task<BeaconProblem?> SettleAsync(
        Request request,
        EnrolmentVerdict decided,
        Hosts.Host? host,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        if (decided.Overall == Verdict.NeedsApproval)
        {
            request.NeedMore(decided.PeopleNeeded);
            return null;
        }
        if (decided.Overall != Verdict.Granted)
        {
            var why = $"It was approved, and is not granted any more: {DecideAgain.Why(decided)}";
            request.Refuse(why, "rules");
            await db.Note(now, Actor.Rules, JournalAction.RequestRefused, $"request {request.Id}", why);
            return new(ProblemCode.RequestRefused, why, "Have it requested again by somebody who may have these names.");
        }
        request.ApprovedByAll();
        request.Grant(DecideAgain.Json(decided));
        if (host is not null)
            await carryOut.RunAsync(request, now, ct);
        return null;
    }

    /// <summary>What was approved and has no edition yet, since the service was stopped or the authority's key could not be used: it is decided again and gets it now.</summary>
    /// <returns>Whether some are left, since the authority's key cannot be used now.</returns>
    public async Task<bool> FinishOpenAsync(CancellationToken ct)
    {
        var open = await db
            .Requests.AsNoTracking()
            .Where(r =>
                (r.State == RequestState.WaitingForApproval || r.State == RequestState.WaitingOutside)
                && r.Approved
                && r.HostId == null
                && r.Outside == null
            )
            .OrderBy(r => r.Id)
            .Take(50)
            .ToListAsync(ct);
        foreach (var r in open)
        {
            try
            {
                var decided = await again.RunAsync(r, null, await ExistingAsync(r, ct), ct);
                if (decided.Granted is null)
                    throw new BeaconProblem(ProblemCode.RequestRefused, DecideAgain.Why(decided), "Request it again.");
                await IssueAsync(r, decided.Granted, Actor.Of(r.Approvals.LastOrDefault()?.By ?? r.Requester), ct);
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
            {
                return true;
            }
            catch (BeaconProblem p)
            {
                await using var write = await db.BeginWriteAsync(ct);
                (await FindAsync(r.Id, ct)).Refuse($"It was approved, but cannot be issued: {p.Message}", "rules");
                await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestRefused, $"request {r.Id}", p.Message);
                await write.CommitAsync(ct);
            }
            changes.Tell("request", r.Id.ToString());
        }
        return false;
    }

    private async Task FinishAsync(Request request, EnrolmentVerdict decided, Actor actor, CancellationToken ct)
    {
        try
        {
            await IssueAsync(request, decided.Granted!, actor, ct);
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
        {
            await using var write = await db.BeginWriteAsync(ct);
            request.WaitForAuthority(p.Message);
            await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestWaits, $"request {request.Id}", p.Message);
            await write.CommitAsync(ct);
        }
    }

    private async Task IssueAsync(Request request, GrantedDecision granted, Actor actor, CancellationToken ct)
    {
        var csr = CertificationRequest.Read(request.Csr);
        await issue.RunAsync(
            granted,
            csr.PublicKey,
            new(request.CertificateName, EditionState.Current, actor, $"request {request.Id}")
            {
                RequestId = request.Id,
                Life = ProfileWords.ParseLife(request.Life),
            },
            ct
        );
        changes.Tell("certificate", request.CertificateName);
    }

    private async Task<Certificates.Certificate?> ExistingAsync(Request r, CancellationToken ct) =>
        await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == r.CertificateName, ct);

    public async Task RefuseAsync(long id, string reason, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(reason))
            throw new BeaconProblem(ProblemCode.InputInvalid, "A refusal needs a reason; the requester reads it.", "Say why.");
        await using var write = await db.BeginWriteAsync(ct);
        var request = await FindAsync(id, ct);
        ThrowUnlessTheirs(Operation.RefuseRequest, request, caller);
        request.Refuse(reason.Trim(), caller.Name);
        await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.RequestRefused, $"request {id}", reason.Trim());
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    public async Task WithdrawAsync(long id, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var request = await FindAsync(id, ct);
        MayAct.ThrowUnless(Operation.WithdrawRequest, caller, MayAct.Of(request));
        request.Withdraw(caller.Name);
        var now = clock.GetUtcNow();
        if (request.OrderId is { } o && await db.Orders.SingleAsync(x => x.Id == o, ct) is { IsOpen: true } order)
            order.Cancel(now);
        // What is in use goes on; the next try comes by itself, so that nobody forgets it.
        if (
            await db.Certificates.FirstOrDefaultAsync(c => c.Id == request.CertificateId, ct) is { HasEdition: true } existing
            && (request.Outside is not null || existing.Automatic)
        )
            existing.ActAt(now.AddDays(1));
        await db.Note(now, caller.Actor, JournalAction.RequestWithdrawn, $"request {id}");
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    private async Task<Request> FindAsync(long id, CancellationToken ct) =>
        await db.Requests.FirstOrDefaultAsync(r => r.Id == id, ct)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
}
