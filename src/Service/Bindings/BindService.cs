using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Puts a certificate's current edition into a service, or takes it out again; or only says what that would change.</summary>
public sealed class BindService(
    BeaconDb db,
    OrderDesk desk,
    CarryOutRequest carryOut,
    MatchRecords records,
    Changes changes,
    TimeProvider clock,
    WorkBell bell
)
{
    /// <summary>Without a certificate: what taking it out would change.</summary>
    public async Task<OrderInfo> PlanAsync(string hostName, string service, BindWish wish, Caller caller, CancellationToken ct)
    {
        Hosts.Host host;
        Order content;
        IReadOnlyList<string> uncovered = [];
        string? replaced = null;
        if (wish.Certificate is null)
        {
            host = await FindHost.ByNameAsync(db, hostName, ct);
            MayAct.ThrowUnless(Operation.PlanBinding, caller, MayAct.Of(host));
            await FindServiceAsync(host, service, ct);
            content = new Order(0, OrderKind.Plan, null, null, null, null, null, [service], null, null, null, null);
        }
        else
        {
            (host, var row, var certificate, var edition) = await FindAsync(
                hostName,
                service,
                wish.Certificate,
                caller,
                Operation.PlanBinding,
                ct
            );
            uncovered = await UncoveredAsync(row, certificate, edition, ct);
            replaced = ReplacedByIt.Of(host.Name, row, await SerialsAsync(certificate.Id, ct));
            content = Content(OrderKind.Plan, wish, edition.Serial, service);
        }
        var order = await desk.AskAsync(host, content, TimeSpan.FromSeconds(15), ct);
        var info = (await OrderDesk.InfosAsync(db, db.Orders.Where(o => o.Id == order.Id), ct)).Single();
        if (info.Plan is not { } plan)
            return info;
        return info with
        {
            Plan = plan with { Uncovered = uncovered, Warnings = replaced is null ? plan.Warnings : [replaced, .. plan.Warnings] },
        };
    }

    public async Task<long> PutInAsync(string hostName, string service, BindWish wish, Caller caller, CancellationToken ct)
    {
        var (host, row, certificate, edition) = await FindAsync(
            hostName,
            service,
            wish.Certificate
                ?? throw new BeaconProblem(ProblemCode.InputInvalid, "No certificate is given.", "Name the certificate to bind."),
            caller,
            Operation.BindService,
            ct
        );
        Uncovered.ThrowUnlessSaid($"{host.Name}/{service}", await UncoveredAsync(row, certificate, edition, ct), wish.LeaveOut);
        await records.ThrowUnlessAsync(row, wish.Port, edition, ct);
        long id;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            await carryOut.PlanBindingAsync(certificate.Id, host.Id, service, wish.Port, ct);
            (await db.Certificates.SingleAsync(c => c.Id == certificate.Id, ct)).Waiting();
            var order = WorkOrder.Of(now, host.Id, Content(OrderKind.Bind, wish, edition.Serial, service), certificate.Id, null);
            db.Orders.Add(order);
            await db.Note(
                now,
                caller.Actor,
                JournalAction.BindingOrdered,
                $"{host.Name}/{service}",
                $"{certificate.Name}, serial {edition.Serial}"
            );
            await write.CommitAsync(ct);
            id = order.Id;
        }
        bell.Ring(host.Id);
        changes.Tell("service", $"{host.Name}/{service}");
        return id;
    }

    private Task<List<string>> SerialsAsync(int certificate, CancellationToken ct) =>
        db.Editions.Where(e => e.CertificateId == certificate).Select(e => e.Serial).ToListAsync(ct);

    /// <summary>What is bound there already was said when it was bound.</summary>
    private async Task<IReadOnlyList<string>> UncoveredAsync(
        HostService row,
        Certificates.Certificate certificate,
        Certificates.Edition edition,
        CancellationToken ct
    ) =>
        await db.Bindings.AnyAsync(b => b.ServiceId == row.Id && b.CertificateId == certificate.Id, ct)
            ? []
            : Uncovered.Of(row, Core.Issuing.X509.Read(edition.Der).Names);

    public async Task<long> TakeOutAsync(string hostName, string service, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, hostName, ct);
        MayAct.ThrowUnless(Operation.UnbindService, caller, MayAct.Of(host));
        var row = await FindServiceAsync(host, service, ct);
        await ThrowUnlessMayReplaceAsync(row, caller, Operation.UnbindService, ct);
        if (!await db.Bindings.AnyAsync(b => b.ServiceId == row.Id, ct))
            throw new BeaconProblem(ProblemCode.NotFound, $"No certificate is bound to {host.Name}/{service}.", "Nothing to do.");
        var order = await desk.PlaceAsync(
            host,
            new Order(0, OrderKind.Unbind, null, null, null, null, null, [service], null, null, null, null),
            new(caller.Actor, JournalAction.UnbindingOrdered, $"{host.Name}/{service}"),
            ct
        );
        return order.Id;
    }

    /// <summary>A service that serves somebody else's certificate is not taken from them, even by who keeps the host.</summary>
    private async Task ThrowUnlessMayReplaceAsync(HostService row, Caller caller, Operation operation, CancellationToken ct)
    {
        var bound = await (
            from b in db.Bindings.AsNoTracking()
            where b.ServiceId == row.Id
            join c in db.Certificates on b.CertificateId equals c.Id
            select c
        ).FirstOrDefaultAsync(ct);
        if (bound is not null)
            MayAct.ThrowUnless(operation, caller, MayAct.Of(bound));
    }

    private Order Content(OrderKind kind, BindWish wish, string serial, string service) =>
        new(0, kind, wish.Certificate, null, null, null, serial, [service], wish.Port, null, null, carryOut.Anchors());

    private async Task<HostService> FindServiceAsync(Hosts.Host host, string service, CancellationToken ct) =>
        await db.Services.AsNoTracking().FirstOrDefaultAsync(s => s.HostId == host.Id && s.Name == service, ct)
        ?? throw await NotThere.ServiceAsync(db, host, service, ct);

    private async Task<(Hosts.Host, HostService, Certificates.Certificate, Certificates.Edition)> FindAsync(
        string hostName,
        string service,
        string certificateName,
        Caller caller,
        Operation operation,
        CancellationToken ct
    )
    {
        var host = await FindHost.ByNameAsync(db, hostName, ct);
        host.ThrowIfGone();
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        var row = await FindServiceAsync(host, service, ct);
        if (Shapes.Problem(row.ProblemJson) is { } p)
            throw new BeaconProblem(
                Enum.TryParse<ProblemCode>(p.Code.Replace("-", ""), true, out var code) ? code : ProblemCode.ConfigurationBroken,
                $"{host.Name}/{service} cannot be changed now: {p.Message}",
                p.Cure
            );
        var certificate =
            await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == certificateName, ct)
            ?? throw await NotThere.CertificateAsync(db, certificateName, ct);
        MayAct.ThrowUnless(operation, caller, MayAct.Of(certificate));
        await ThrowUnlessMayReplaceAsync(row, caller, operation, ct);
        if (certificate.HostId != host.Id)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The key of \"{certificateName}\" is not on {host.Name}; keys stay where they were made.",
                $"Request a certificate for {host.Name}."
            );
        var edition =
            await db
                .Editions.AsNoTracking()
                .FirstOrDefaultAsync(e => e.CertificateId == certificate.Id && e.State == EditionState.Current, ct)
            ?? throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{certificateName}\" has no edition in the store yet.",
                "Wait for its request to be carried out."
            );
        return (host, row, certificate, edition);
    }
}

internal static class ServiceEndpoints
{
    public static void MapServices(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/services").WithTags("Services");
        g.MapGet(
                "",
                async ([AsParameters] ServiceList list, ServiceQueries q, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(await q.PageAsync(list, ct), s => offers.To(caller, s)))
            )
            .Is(Operation.ListServices);
        g.MapGet(
                "/{host}/{service}",
                async (string host, string service, ServiceQueries q, BeaconDb db, Offers offers, Caller caller, CancellationToken ct) =>
                {
                    var h = await FindHost.ByNameAsync(db, host, ct);
                    var found = await q.OneAsync(h.Id, service, ct) ?? throw await NotThere.ServiceAsync(db, h, service, ct);
                    return TypedResults.Ok(offers.To(caller, found));
                }
            )
            .Is(Operation.GetService);
        g.MapGet(
                "/{host}/{service}/records",
                async (string host, string service, MatchRecords records, BeaconDb db, CancellationToken ct) =>
                {
                    var h = await FindHost.ByNameAsync(db, host, ct);
                    return TypedResults.Ok(await records.OfServiceAsync(db, h.Id, service, ct));
                }
            )
            .Is(Operation.GetRecords);
        g.MapPost(
                "/{host}/{service}/plan",
                async (string host, string service, BindWish wish, BindService bind, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await bind.PlanAsync(host, service, wish, caller, ct))
            )
            .Is(Operation.PlanBinding);
        g.MapPost(
                "/{host}/{service}/binding",
                async (string host, string service, BindWish wish, BindService bind, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await bind.PutInAsync(host, service, wish, caller, ct)))
            )
            .Is(Operation.BindService);
        g.MapDelete(
                "/{host}/{service}/binding",
                async (string host, string service, BindService bind, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await bind.TakeOutAsync(host, service, caller, ct)))
            )
            .Is(Operation.UnbindService);
        MapTls(g);
    }

    private static void MapTls(RouteGroupBuilder g)
    {
        g.MapPost(
                "/{host}/{service}/tls-required/plan",
                async (string host, string service, TlsWish wish, TlsDemands demands, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await demands.PlanAsync(host, service, wish, caller, ct))
            )
            .Is(Operation.PlanTls);
        g.MapPut(
                "/{host}/{service}/tls-required",
                async (string host, string service, TlsDemands demands, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await demands.RequireAsync(host, service, caller, ct)))
            )
            .Is(Operation.RequireTls);
        g.MapPut(
                "/{host}/{service}/lowest-version",
                async (string host, string service, LowestWish wish, TlsDemands demands, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await demands.RaiseAsync(host, service, wish, caller, ct)))
            )
            .Is(Operation.RaiseTls);
        g.MapDelete(
                "/{host}/{service}/tls-required",
                async (string host, string service, TlsDemands demands, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await demands.AllowClearTextAsync(host, service, caller, ct)))
            )
            .Is(Operation.AllowClearText);
    }
}
