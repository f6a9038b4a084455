using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Approves, refuses or withdraws a request that waits.</summary>
public sealed class DecideRequest(BeaconDb db, CarryOutRequest carryOut, IssueEdition issue, ProfileCatalogue profiles, WorkBell bell, Changes changes, TimeProvider clock)
{
    public async Task ApproveAsync(long id, Caller caller, CancellationToken ct)
    {
        Request request;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            request = await FindAsync(id, ct);
            var now = clock.GetUtcNow();
            var verdicts = JsonSerializer.Deserialize(request.VerdictsJson, BeaconJson.Default.ListNameVerdictInfo)!
                .Select(v => v.Verdict == Verdict.NeedsApproval ? v with { Verdict = Verdict.Granted, Evidence = $"{v.Evidence} Approved by {caller.Name}.", Cure = "" } : v).ToList();
            request.Approve(caller.Name, JsonSerializer.Serialize(verdicts, BeaconJson.Default.ListNameVerdictInfo));
            await db.Note(now, caller.Actor, "request.approved", $"request {id}", $"{request.CertificateName}, asked for by {request.Requester}");
            if (request.HostId is { } hostId)
            {
                (await db.Hosts.SingleAsync(h => h.Id == hostId, ct)).ThrowIfGone();
                await carryOut.RunAsync(request, now, ct);
            }
            await write.CommitAsync(ct);
        }
        if (request.HostId is { } h) bell.Ring(h);
        else
        {
            var csr = CertificationRequest.Read(request.Csr);
            await issue.RunAsync(new(profiles.Get(request.Profile), DistinguishedName.Parse(request.Subject), [.. Shapes.Strings(request.NamesJson).Select(AlternativeName.Parse)], csr.PublicKey,
                ProfileWords.ParseLife(request.Life), 0, request.CertificateName, request.NamesJson, id, EditionState.Current, caller.Actor, $"request {id}"), ct);
        }
        changes.Tell("request", id.ToString());
    }

    public async Task RefuseAsync(long id, string reason, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(reason)) throw new BeaconProblem(ProblemCode.InputInvalid, "A refusal needs a reason; the requester reads it.", "Say why.");
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
            throw new BeaconProblem(ProblemCode.NotAllowed, $"Request {id} is {request.Requester}'s.", "Ask them or an administrator to withdraw it.");
        request.Withdraw(caller.Name);
        var now = clock.GetUtcNow();
        if (request.OrderId is { } o && await db.Orders.SingleAsync(x => x.Id == o, ct) is { IsOpen: true } order) order.Cancel(now);
        await db.Note(now, caller.Actor, "request.withdrawn", $"request {id}");
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    private async Task<Request> FindAsync(long id, CancellationToken ct) =>
        await db.Requests.FirstOrDefaultAsync(r => r.Id == id, ct) ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
}
