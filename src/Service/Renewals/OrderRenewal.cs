using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>
/// Orders a certificate's next edition: the same line as a first request, with the same names decided again. An edition that was issued before
/// but did not get into its services is tried again rather than issued twice.
/// </summary>
public sealed class OrderRenewal(
    BeaconDb db,
    DecideNames decide,
    CarryOutRequest carryOut,
    ProfileCatalogue profiles,
    AuthorityRegistry registry,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <returns>The order's number.</returns>
    public async Task<long> RunAsync(int certificateId, string actor, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        var certificate = await db.Certificates.SingleAsync(c => c.Id == certificateId, ct);
        if (certificate.HostId is not { } hostId)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{certificate.Name}\" was issued for a CSR; its key is not on a host of ours.",
                "Whoever has the key makes the next request."
            );
        var host = await db.Hosts.SingleAsync(h => h.Id == hostId, ct);
        host.ThrowIfGone();
        if (
            await db
                .Orders.Where(o => o.CertificateId == certificateId && (o.State == OrderState.Queued || o.State == OrderState.Taken))
                .Select(o => (long?)o.Id)
                .FirstOrDefaultAsync(ct) is
            { } open
        )
            return open;

        var order = await RetryNextEditionAsync(certificate, hostId, now, ct) ?? await RequestAsync(certificate, host, actor, now, ct);
        await write.CommitAsync(ct);
        bell.Ring(hostId);
        changes.Tell("certificate", certificate.Name);
        return order;
    }

    private async Task<long?> RetryNextEditionAsync(Certificate certificate, int hostId, DateTimeOffset now, CancellationToken ct)
    {
        var next = await db
            .Editions.Where(e => e.CertificateId == certificate.Id && e.State == EditionState.Next && e.RevokedAt == null)
            .OrderByDescending(e => e.Id)
            .FirstOrDefaultAsync(ct);
        if (next is null || certificate.Policy.PlannedFor(next.NotBefore, next.NotAfter, next.Serial) <= now)
            return null;
        var bound = await carryOut.BoundServicesAsync(certificate.Id, ct);
        var order = WorkOrder.Of(
            now,
            hostId,
            new Order(
                0,
                OrderKind.Bind,
                certificate.Name,
                null,
                null,
                null,
                next.Serial,
                [.. bound.Select(b => b.Name)],
                bound.Select(b => b.Port).FirstOrDefault(p => p is not null),
                null,
                null,
                CarryOutRequest.Anchors(registry)
            ),
            certificate.Id,
            null
        );
        db.Orders.Add(order);
        certificate.Waiting();
        await db.SaveChangesAsync(ct);
        await db.Note(now, "renewal", "renewal.tried-again", certificate.Name, $"serial {next.Serial}, order {order.Id}");
        return order.Id;
    }

    private async Task<long> RequestAsync(Certificate certificate, Hosts.Host host, string actor, DateTimeOffset now, CancellationToken ct)
    {
        var owner = await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == certificate.Owner, ct);
        var names = Shapes.Strings(certificate.NamesJson);
        var verdicts = await decide.RunAsync(
            names,
            profiles.Get(certificate.Profile),
            host,
            owner?.GroupList ?? [],
            Shapes.Strings(certificate.ApprovedJson),
            ct
        );
        var request = Request.Of(
            now,
            actor,
            "renewal",
            certificate.Name,
            host.Id,
            certificate.Profile,
            certificate.Subject,
            certificate.NamesJson,
            JsonSerializer.Serialize([.. verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo),
            "[]",
            certificate.Key,
            certificate.Life,
            null,
            "[]",
            null,
            null,
            null,
            null
        );
        db.Requests.Add(request);
        await db.SaveChangesAsync(ct);
        var overall = NameDecision.Overall(verdicts);
        if (overall != Core.Profiles.Verdict.Granted)
        {
            // The names are not what they were: somebody has to look, and the running edition stays.
            var why = string.Join(
                " ",
                verdicts.Where(v => v.Verdict != Core.Profiles.Verdict.Granted).Select(v => $"{v.Name}: {v.Evidence}")
            );
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"\"{certificate.Name}\" cannot be renewed as it is: {why}",
                "Request it anew with the names that are right now."
            );
        }
        var order = await carryOut.RunAsync(request, now, ct);
        await db.Note(now, actor, "renewal.ordered", certificate.Name, $"request {request.Id}, order {order.Id}, new key");
        return order.Id;
    }
}
