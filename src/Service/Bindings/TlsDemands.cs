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

/// <summary>Ends what a service lets pass without TLS, or what it takes of old versions, or allows it again; or only says what that would change.</summary>
public sealed class TlsDemands(BeaconDb db, OrderDesk desk, BeaconOptions options)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    public async Task<OrderInfo> PlanAsync(string hostName, string service, TlsWish wish, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.PlanTls, caller, ct);
        var content = Content(OrderKind.Preview, service) with { Of = KindOf(wish), Lowest = wish.Lowest };
        if (content.Of == OrderKind.RequireTls)
            await ThrowIfListsGoThereAsync(host, service, ct);
        var order = await desk.AskAsync(host, content, Patience, ct);
        return (await OrderDesk.InfosAsync(db, db.Orders.Where(o => o.Id == order.Id), ct)).Single();
    }

    public async Task<long> RequireAsync(string hostName, string service, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.RequireTls, caller, ct);
        await ThrowIfListsGoThereAsync(host, service, ct);
        return await PlaceAsync(host, Content(OrderKind.RequireTls, service), JournalAction.ServiceTlsOrdered, caller, ct);
    }

    public async Task<long> AllowClearTextAsync(string hostName, string service, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.AllowClearText, caller, ct);
        return await PlaceAsync(host, Content(OrderKind.AllowClearText, service), JournalAction.ServiceClearTextOrdered, caller, ct);
    }

    public async Task<long> RaiseAsync(string hostName, string service, LowestWish wish, Caller caller, CancellationToken ct)
    {
        var host = await FindAsync(hostName, service, Operation.RaiseTls, caller, ct);
        if (wish.Lowest == LowestTls.Unknown)
            throw new BeaconProblem(ProblemCode.InputInvalid, "This is no version that can be the lowest.", "Give tls12 or tls13.");
        var content = Content(OrderKind.RaiseTls, service) with { Lowest = wish.Lowest };
        return await PlaceAsync(host, content, JournalAction.ServiceTlsRaiseOrdered, caller, ct);
    }

    private static OrderKind KindOf(TlsWish wish) =>
        (wish.Required, wish.Lowest) switch
        {
            (false, _) => OrderKind.AllowClearText,
            (true, null) => OrderKind.RequireTls,
            _ => OrderKind.RaiseTls,
        };

    /// <summary>Lists and answers about revocation are fetched without TLS: who had to check a certificate to get them would turn in a circle (RFC 5280 section 8).</summary>
    private async Task ThrowIfListsGoThereAsync(Hosts.Host host, string service, CancellationToken ct)
    {
        var published = new Uri(options.PublicUrl);
        var names = await db.Services.Where(s => s.HostId == host.Id && s.Name == service).Select(s => s.NamesJson).SingleAsync(ct);
        if (published.Scheme == Uri.UriSchemeHttp && Shapes.Strings(names).Contains(published.Host, StringComparer.OrdinalIgnoreCase))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Clients fetch revocation lists and OCSP answers from {options.PublicUrl}, which goes through this service. Sent to TLS, they would have to check its certificate to get what they check it with.",
                "Leave it as it is, and require TLS by hand of all but /crl, /ocsp and /issuer."
            );
    }

    private async Task<long> PlaceAsync(Hosts.Host host, Order content, JournalAction action, Caller caller, CancellationToken ct) =>
        (await desk.PlaceAsync(host, content, new(caller.Actor, action, $"{host.Name}/{content.Services![0]}"), ct)).Id;

    private static Order Content(OrderKind kind, string service) =>
        new(0, kind, null, null, null, null, null, [service], null, null, null, null);

    private async Task<Hosts.Host> FindAsync(string hostName, string service, Operation operation, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, hostName, ct);
        host.ThrowIfGone();
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        if (!await db.Services.AnyAsync(s => s.HostId == host.Id && s.Name == service, ct))
            throw await NotThere.ServiceAsync(db, host, service, ct);
        return host;
    }
}
