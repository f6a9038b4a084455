using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Records;

/// <summary>Issues the edition for a key that its host has prepared, and orders the host to put it in. Done twice, it issues and orders once.</summary>
public sealed class FinishPrepared(
    BeaconDb db,
    AnswerCsr answer,
    CarryOutRequest carryOut,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <exception cref="BeaconProblem">It is not granted any more, or cannot be signed now.</exception>
    public async Task RunAsync(KeyRollover rollover, CancellationToken ct)
    {
        var request = await db.Requests.AsNoTracking().SingleAsync(r => r.Id == rollover.RequestId, ct);
        var host = await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == request.HostId, ct);
        host.ThrowIfGone();
        if (!await db.Editions.AnyAsync(e => e.RequestId == request.Id, ct))
            await answer.IssueAsync(request, host, CertificationRequest.Read(request.Csr).PublicKey, Actor.Agent(host.Name), ct);
        var edition = await db.Editions.AsNoTracking().SingleAsync(e => e.RequestId == request.Id, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            if (!await db.Orders.AnyAsync(o => o.RequestId == request.Id && o.Kind == OrderKind.Complete, ct))
                await OrderAsync(request, host, edition, ct);
            (await db.Rollovers.SingleAsync(r => r.Id == rollover.Id, ct)).Swap();
            await write.CommitAsync(ct);
        }
        bell.Ring(host.AgentHostId);
        changes.Tell("certificate", request.CertificateName);
    }

    private async Task OrderAsync(Request request, Hosts.Host host, Certificates.Edition edition, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var chain = CompleteRequest.Pem(answer.ChainOf(X509.Read(edition.Der)));
        var content = await carryOut.CompletionAsync(request, edition.CertificateId, edition.Serial, chain, ct);
        (await db.Certificates.SingleAsync(c => c.Id == edition.CertificateId, ct)).Waiting();
        db.Orders.Add(WorkOrder.Of(now, host.Id, content, edition.CertificateId, request.Id));
        await db.SaveChangesAsync(ct);
    }
}
