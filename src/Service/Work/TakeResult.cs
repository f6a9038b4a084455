using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Stores;
using OrderlyBeacon.Service.Sweeps;
using OrderlyBeacon.Service.Trust;

namespace OrderlyBeacon.Service.Work;

/// <summary>What the ends of orders bring besides an edition in use.</summary>
public sealed record OrderOutcomes(
    TakeServices Services,
    TakePrepared Prepared,
    TakeBrought Brought,
    PublishEditions Publish,
    TakeSweepPart Sweeps,
    TakeTrust Trust,
    TakeProviders Providers
);

/// <summary>Takes the end of an order, once: a second report of the same order changes nothing.</summary>
public sealed class TakeResult(
    BeaconDb db,
    TakeReport reports,
    JudgeLook judge,
    OrderOutcomes outcomes,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    public async Task RunAsync(Hosts.Host host, long orderId, OrderResult result, CancellationToken ct)
    {
        reports.TakeNextWhole(host.Id);
        string? certificateName = null;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var order =
                await db.Orders.FirstOrDefaultAsync(o => o.Id == orderId && o.HostId == host.Id, ct)
                ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no order {orderId} for {host.Name}.", "Forget its result.");
            if (!order.IsOpen)
                return;
            var now = clock.GetUtcNow();
            // What a sweep met is kept as its findings.
            var looks = (order.Kind == OrderKind.Sweep ? [] : result.Looks ?? []).Take(50).Select(l => judge.Run(l, host.Name)).ToList();
            order.End(result, JsonSerializer.Serialize(looks, BeaconJson.Default.ListLookInfo), now);
            if (order is { Kind: OrderKind.Prepare, CertificateId: not null } && result.Done)
                certificateName = await outcomes.Prepared.RunAsync(host, order, result, now, ct);
            else if (
                order.CertificateId is { } id
                && order.Kind is OrderKind.Obtain or OrderKind.Bind or OrderKind.Prepare or OrderKind.Complete
            )
            {
                var certificate = await db.Certificates.SingleAsync(c => c.Id == id, ct);
                certificateName = certificate.Name;
                if (result.Done)
                    await SettleAsync(host, order, certificate, result, now, ct);
                else
                    await FailAsync(host, order, certificate, result, now, ct);
            }
            else if (order is { Kind: OrderKind.Store, Content.Store: { } store } && result.Done)
                await StoredAsync(host, order, store, result, ct);
            else if (order.Kind == OrderKind.KeepDevice)
                await TriedAsync(host, order, result, ct);
            else if (order.Kind is OrderKind.Trust or OrderKind.TellTrust)
                await outcomes.Trust.EndedAsync(host, order, result, now, ct);
            else if (order.Kind == OrderKind.Federate)
                await outcomes.Providers.EndedAsync(host, order, result, now, ct);
            else if (order.Kind == OrderKind.Sweep)
                await outcomes.Sweeps.RunAsync(host, order, result, now, ct);
            else if (order.Kind == OrderKind.Unbind && result.Done)
                await UnboundAsync(host, order, result, now, ct);
            else if (order.Kind is OrderKind.RequireTls or OrderKind.RaiseTls or OrderKind.AllowClearText && result.Done)
                await NoteTlsAsync(host, order, now);
            await write.CommitAsync(ct);
        }
        await outcomes.Brought.SettledAsync(ct);
        await outcomes.Trust.SettledAsync(ct);
        outcomes.Providers.Settled();
        bell.Ended(orderId);
        changes.Tell("order", orderId.ToString());
        if (certificateName is not null)
            changes.Tell("certificate", certificateName);
    }

    private Task NoteTlsAsync(Hosts.Host host, WorkOrder order, DateTimeOffset now) =>
        db.Note(
            now,
            Actor.Agent(host.Name),
            order.Kind switch
            {
                OrderKind.RequireTls => JournalAction.ServiceTlsRequired,
                OrderKind.RaiseTls => JournalAction.ServiceTlsRaised,
                _ => JournalAction.ServiceClearTextAllowed,
            },
            $"{host.Name}/{order.Content.Services?.FirstOrDefault()}",
            order.Content.Lowest is { } lowest ? $"{TlsVersions.NameOf(lowest)} at least, order {order.Id}" : $"order {order.Id}"
        );

    /// <summary>A device that nobody gets into is not one that is connected.</summary>
    private async Task TriedAsync(Hosts.Host host, WorkOrder order, OrderResult result, CancellationToken ct)
    {
        var device = await db.Hosts.FirstOrDefaultAsync(
            h => h.Name == order.Content.Device && h.ViaHostId == host.Id && h.State == HostState.Joined,
            ct
        );
        device?.Tried(
            result.Done || result.Problem is null ? null : JsonSerializer.Serialize(result.Problem, BeaconJson.Default.ProblemInfo)
        );
        if (device is not null)
            changes.Tell("host", device.Name);
    }

    private async Task StoredAsync(Hosts.Host host, WorkOrder order, StoreOrder done, OrderResult result, CancellationToken ct)
    {
        if (done.Act == StoreAct.Import)
            foreach (var told in await outcomes.Brought.RunAsync(host, result, ct))
                order.AddStep(told);
        else if (done.Act == StoreAct.Remove)
            await outcomes.Brought.RemovedAsync(host, done.Thumbprint, ct);
    }

    private async Task SettleAsync(
        Hosts.Host host,
        WorkOrder order,
        Certificate certificate,
        OrderResult result,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        var editions = await db.Editions.Where(e => e.CertificateId == certificate.Id && e.State != EditionState.Previous).ToListAsync(ct);
        var edition = order.Kind is OrderKind.Obtain or OrderKind.Complete
            ? editions.SingleOrDefault(e => e.RequestId == order.RequestId)
            : editions.SingleOrDefault(e => e.Serial == order.Content.Serial);
        if (edition is null)
            return;
        foreach (var e in editions.Where(e => e.Id != edition.Id))
            e.Supersede();
        edition.Promote();
        outcomes.Publish.Settled(certificate, edition, now);
        certificate.Settled(certificate.Policy.PlannedFor(edition.NotBefore, edition.NotAfter, edition.Serial));
        await TakeServicesAsync(host, order, result, edition.Serial, now, ct);
        var services = order.Content.Services ?? [];
        await db.Note(
            now,
            Actor.Agent(host.Name),
            services.Count > 0 ? JournalAction.CertificateServing : JournalAction.CertificateStored,
            certificate.Name,
            $"serial {edition.Serial}{(services.Count > 0 ? " seen on " + string.Join(", ", services) : " in the store")}, order {order.Id}"
        );
    }

    private async Task TakeServicesAsync(
        Hosts.Host host,
        WorkOrder order,
        OrderResult result,
        string serial,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        foreach (var name in order.Content.Services ?? [])
        {
            var service = await db.Services.FirstOrDefaultAsync(s => s.HostId == host.Id && s.Name == name, ct);
            if (service is null)
                continue;
            var binding = await db.Bindings.FirstOrDefaultAsync(
                b => b.ServiceId == service.Id && b.CertificateId == order.CertificateId,
                ct
            );
            // By the agent's clock, as all looks are.
            binding?.Took(serial, result.Looks is { Count: > 0 } looks ? looks.Min(l => l.At) : now);
            outcomes.Services.TakeLooks(
                service,
                [
                    .. (result.Looks ?? []).Where(l =>
                        l.Service is { } looked ? looked == name : Shapes.Strings(service.NamesJson).Contains(l.ServerName)
                    ),
                ],
                host.Name,
                binding
            );
        }
    }

    private async Task FailAsync(
        Hosts.Host host,
        WorkOrder order,
        Certificate certificate,
        OrderResult result,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        var problem = result.Problem ?? new ProblemInfo("internal", "The agent gave no reason.", "Look into the agent's log.");
        var current = await db
            .Editions.Where(e => e.CertificateId == certificate.Id)
            .OrderByDescending(e => e.State == EditionState.Current)
            .ThenByDescending(e => e.Id)
            .FirstOrDefaultAsync(ct);
        var (told, isStuck) = ($"{problem.Message} {problem.Cure}", problem.Code == BeaconProblem.SlugOf(ProblemCode.SwapStuck));
        if (isStuck)
            certificate.Stuck(told);
        else
            certificate.Failed(
                told,
                RenewalPolicy.RetryAt(now, current?.NotBefore ?? now, current?.NotAfter ?? now.AddDays(90), certificate.Failures + 1)
            );
        // The store lost the edition, or it was made for a key that is gone: the next try starts afresh.
        if (problem.Code is "not-found" or "data-damaged" or "wrong-state")
            foreach (
                var next in await db.Editions.Where(e => e.CertificateId == certificate.Id && e.State == EditionState.Next).ToListAsync(ct)
            )
                next.Supersede();
        foreach (var b in await db.Bindings.Where(b => b.CertificateId == certificate.Id).ToListAsync(ct))
            b.NoteFailure(problem.Message);
        await db.Note(
            now,
            Actor.Agent(host.Name),
            JournalAction.CertificateFailed,
            certificate.Name,
            isStuck
                ? $"order {order.Id}, stuck: {told}"
                : $"order {order.Id}: {problem.Message} Everything is as it was; next try at {certificate.RetryAt:yyyy-MM-dd HH:mm:ss}Z"
        );
    }

    private async Task UnboundAsync(Hosts.Host host, WorkOrder order, OrderResult result, DateTimeOffset now, CancellationToken ct)
    {
        foreach (var name in order.Content.Services ?? [])
        {
            var service = await db.Services.FirstOrDefaultAsync(s => s.HostId == host.Id && s.Name == name, ct);
            if (service is null)
                continue;
            if (await db.Bindings.FirstOrDefaultAsync(b => b.ServiceId == service.Id, ct) is { } binding)
                db.Bindings.Remove(binding);
            outcomes.Services.TakeLooks(service, [.. result.Looks ?? []], host.Name, null);
            await db.Note(
                now,
                Actor.Agent(host.Name),
                JournalAction.ServiceUnbound,
                $"{host.Name}/{name}",
                $"as it was before, order {order.Id}"
            );
        }
    }
}
