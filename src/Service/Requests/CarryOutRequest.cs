using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Requests;

/// <summary>What follows when all names of a host's request are granted: its certificate, its planned bindings, the order to its agent. Inside the caller's transaction.</summary>
public sealed class CarryOutRequest(
    BeaconDb db,
    AuthorityRegistry registry,
    OutsideBook outside,
    ProfileCatalogue profiles,
    BeginRollover rollover
)
{
    /// <summary>Asks DNS what it will go by: to be called before the transaction.</summary>
    public Task LookUpAsync(Request request, CancellationToken ct) => rollover.LookUpAsync(request, ct);

    /// <summary>The same of a certificate that is renewed as it is.</summary>
    public Task LookUpAsync(Certificate certificate, CancellationToken ct) => rollover.LookUpAsync(certificate, ct);

    public async Task<WorkOrder> RunAsync(Request request, DateTimeOffset now, CancellationToken ct)
    {
        var names = Shapes.Strings(request.NamesJson);
        var certificate = await db.Certificates.FirstOrDefaultAsync(c => c.Name == request.CertificateName, ct);
        if (certificate is null)
            db.Certificates.Add(
                certificate = Certificate.Of(request.CertificateName, request.HostId, request.RenewAfter, request.Requester)
            );
        else if (request.RenewAfter is { } after)
            certificate.ChangePolicy(new(after, certificate.NewKey, certificate.Automatic));
        certificate.Wish(request.Profile, request.Subject, request.NamesJson, request.Key, request.Life);
        certificate.SignedBy(request.Outside);
        certificate.Waiting();
        await db.SaveChangesAsync(ct);

        foreach (var service in Shapes.Strings(request.BindToJson))
            await PlanBindingAsync(certificate.Id, request.HostId!.Value, service, request.Port, ct);
        await db.SaveChangesAsync(ct);
        var bound = await BoundServicesAsync(certificate.Id, ct);
        request.WaitForHost(certificate.Id);
        var host = await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == request.HostId, ct);
        var isPrepared = request.Outside is not null || await rollover.IsNeededAsync(request, host, ct);
        var order = WorkOrder.Of(
            now,
            host.AgentHostId,
            new Order(
                0,
                isPrepared ? OrderKind.Prepare : OrderKind.Obtain,
                certificate.Name,
                request.Subject,
                names,
                request.Key,
                null,
                [.. bound.Select(b => b.Name)],
                request.Port ?? bound.Select(b => b.Port).FirstOrDefault(p => p is not null),
                null,
                null,
                Anchors()
            )
            {
                Releasable = IsReleasable(request),
                Device = host.Device is null ? null : host.Name,
            },
            certificate.Id,
            request.Id
        );
        db.Orders.Add(order);
        await db.SaveChangesAsync(ct);
        request.CarriedBy(order.Id);
        return order;
    }

    /// <summary>What puts an answer together with the key that the request's host has prepared, and into all services of its certificate.</summary>
    /// <param name="chain">PEM, the leaf first.</param>
    public async Task<Order> CompletionAsync(Request request, int certificateId, string serial, string chain, CancellationToken ct)
    {
        var bound = await BoundServicesAsync(certificateId, ct);
        return new Order(
            0,
            OrderKind.Complete,
            request.CertificateName,
            null,
            null,
            null,
            serial,
            [.. bound.Select(b => b.Name)],
            request.Port ?? bound.Select(b => b.Port).FirstOrDefault(p => p is not null),
            null,
            null,
            Anchors()
        )
        {
            Prepared = request.OrderId,
            Chain = chain,
            Releasable = IsReleasable(request),
        };
    }

    /// <summary>Whether its key is made as one that may leave the host.</summary>
    public bool IsReleasable(Request request) => profiles.Get(request.Profile).Releasable;

    /// <summary>A service serves one certificate: an older plan for it gives way.</summary>
    public async Task PlanBindingAsync(int certificateId, int hostId, string service, int? port, CancellationToken ct)
    {
        var row = await db.Services.SingleAsync(s => s.HostId == hostId && s.Name == service, ct);
        var old = await db.Bindings.FirstOrDefaultAsync(b => b.ServiceId == row.Id, ct);
        if (old is not null && old.CertificateId == certificateId)
            return;
        if (old is not null)
        {
            db.Bindings.Remove(old);
            await db.SaveChangesAsync(ct);
        }
        db.Bindings.Add(Binding.Plan(certificateId, row.Id, port));
    }

    public async Task<List<(string Name, int? Port)>> BoundServicesAsync(int certificateId, CancellationToken ct) =>
        [
            .. (
                await db
                    .Bindings.Where(b => b.CertificateId == certificateId)
                    .Join(db.Services, b => b.ServiceId, s => s.Id, (b, s) => new { s.Name, b.Port })
                    .OrderBy(x => x.Name)
                    .ToListAsync(ct)
            ).Select(x => (x.Name, x.Port)),
        ];

    /// <summary>Root and issuers, DER in Base64, root first.</summary>
    public IReadOnlyList<string> Anchors() =>
        [
            .. registry
                .All.Concat(outside.Anchors)
                .Concat(outside.Intermediates)
                .OrderByDescending(x => x.IsSelfIssued)
                .Select(x => Convert.ToBase64String(x.Der.Span)),
        ];
}
