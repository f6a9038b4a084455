using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Ends what a service lets pass without TLS, or allows it again; or only says what that would change.</summary>
public sealed class TlsDemands(BeaconDb db, OrderDesk desk)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    public async Task<OrderInfo> PlanAsync(string hostName, string service, TlsWish wish, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.PlanTls, caller, ct);
        var content = Content(OrderKind.Preview, service) with { Of = wish.Required ? OrderKind.RequireTls : OrderKind.AllowClearText };
        var order = await desk.AskAsync(host, content, Patience, ct);
        return (await OrderDesk.InfosAsync(db, db.Orders.Where(o => o.Id == order.Id), ct)).Single();
    }

    public async Task<long> RequireAsync(string hostName, string service, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.RequireTls, caller, ct);
        return await PlaceAsync(host, OrderKind.RequireTls, service, JournalAction.ServiceTlsOrdered, caller, ct);
    }

    public async Task<long> AllowClearTextAsync(string hostName, string service, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.AllowClearText, caller, ct);
        return await PlaceAsync(host, OrderKind.AllowClearText, service, JournalAction.ServiceClearTextOrdered, caller, ct);
    }

    private async Task<long> PlaceAsync(
        Hosts.Host host,
        OrderKind kind,
        string service,
        JournalAction action,
        Caller caller,
        CancellationToken ct
    ) => (await desk.PlaceAsync(host, Content(kind, service), new(caller.Actor, action, $"{host.Name}/{service}"), ct)).Id;

    private static Order Content(OrderKind kind, string service) =>
        new(0, kind, null, null, null, null, null, [service], null, null, null, null);

    private async Task<Hosts.Host> FindAsync(string hostName, string service, Operation operation, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, hostName, ct);
        host.ThrowIfGone();
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        if (!await db.Services.AnyAsync(s => s.HostId == host.Id && s.Name == service, ct))
            throw new BeaconProblem(ProblemCode.NotFound, $"There is no service \"{service}\" on {host.Name}.", "See beacon service list.");
        return host;
    }
}
