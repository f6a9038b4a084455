using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>
/// Plans and orders changes of trust. What is pushed are our roots, and those that an authority keeper said that clients trust: whoever keeps hosts does not decide who may vouch for
/// servers. A store that lets clients in is changed by its number alone.
/// </summary>
public sealed class ChangeTrust(
    BeaconDb db,
    AnchorQueries anchors,
    TakeTrust known,
    Trusted trusted,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <summary>Stores of one call: when these have proved good, the next ones are ordered by the same call again.</summary>
    private const int MostOrders = 500;
    private const int MostHosts = 200,
        MostShown = 50,
        MostReason = 500;

    public async Task<TrustPlan> PlanAsync(TrustWish wish, Caller caller, CancellationToken ct)
    {
        await known.KnowAllowedAsync(trusted.All, ct);
        var (anchor, named) = await FindAsync(wish, Operation.PlanTrust, caller, ct);
        var concerned = Concerned(named, anchor, wish);
        var count = await concerned.CountAsync(ct);
        var info = await anchors.InfoAsync(anchor, ct);
        if (count == 0)
            return new(wish.Act, info, [], 0, await named.CountAsync(ct), [], []);
        var shown = await anchors.StoreInfosAsync(concerned.OrderBy(s => s.Id).Take(MostShown), anchor, ct);
        var kinds = await concerned.Select(s => new { s.Kind, s.LetsIn }).Distinct().ToListAsync(ct);
        return new(
            wish.Act,
            info,
            shown,
            count,
            await named.CountAsync(ct) - count,
            [
                .. await ConsequencesAsync(wish.Act, anchor, info, count, ct),
                .. kinds.Exists(k => k.LetsIn) ? LetsIn(wish.Act) : [],
                .. kinds.Exists(k => k.Kind == TrustKind.Java)
                    ? ["Programs in Java that run already take it up when they are started again."]
                    : Array.Empty<string>(),
            ],
            await anchors.ServicesAsync(anchor, ct)
        );
    }

    private async Task<List<string>> ConsequencesAsync(TrustAct act, KnownAnchor anchor, AnchorInfo info, int count, CancellationToken ct)
    {
        var stores = count == 1 ? "this store" : "these stores";
        var hosts = await db.Services.Where(s => s.ChainEnd == anchor.Thumbprint).Select(s => s.HostId).Distinct().CountAsync(ct);
        var those =
            $"{Number(info.Services, "service")} on {Number(hosts, "host")} {(info.Services == 1 ? "sends" : "send")} a chain that ends there";
        var told = new List<string>();
        if (act is TrustAct.Withdraw or TrustAct.Distrust)
            told.Add(
                info.Services == 0
                    ? "No service that is looked after here sends a chain that ends there; what else its clients use is not known here."
                    : $"{those}; clients with {stores} refuse them afterwards."
            );
        else
            told.Add(
                info.Services == 0
                    ? "No service that is looked after here sends a chain that ends there."
                    : $"{those}; clients with {stores} accept them afterwards."
            );
        if (act == TrustAct.Push && !info.Ours)
            told.Add("It is not our own: whoever has its key can stand in for any server to these clients.");
        if (info.NotAfter < clock.GetUtcNow())
            told.Add($"It has expired on {info.NotAfter:yyyy-MM-dd}.");
        return told;
    }

    private static string[] LetsIn(TrustAct act) =>
        act is TrustAct.Push or TrustAct.TrustAgain
            ? ["A store among these lets clients in: whoever has a certificate of this authority may come in there afterwards."]
            : ["A store among these lets clients in: those with a certificate of this authority are refused there afterwards."];

    private static string Number(int count, string noun) => count == 1 ? $"1 {noun}" : $"{count} {noun}s";

    public async Task<TrustOrdered> OrderAsync(TrustWish wish, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(wish.Reason) || wish.Reason.Length > MostReason)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "A change of trust wants a reason, of 500 characters at most.",
                "Say why (client: --reason TEXT): who looks into the journal later has nothing else."
            );
        await known.KnowAllowedAsync(trusted.All, ct);
        await using var write = await db.BeginWriteAsync(ct);
        var (anchor, named) = await FindAsync(wish, Operation.ChangeTrust, caller, ct);
        var concerned = Concerned(named, anchor, wish);
        var count = await concerned.CountAsync(ct);
        var now = clock.GetUtcNow();
        var orders = new List<WorkOrder>();
        var chosen = await concerned.OrderBy(s => s.Id).Take(MostOrders).ToListAsync(ct);
        var open = await OpenAsync([.. chosen.Select(s => s.HostId).Distinct()], ct);
        foreach (var store in chosen)
        {
            var content = TrustOrders.Change(store, wish.Act, anchor.Der);
            if (!open[store.HostId].Any(o => o == content.Trust))
                orders.Add(WorkOrder.Of(now, store.HostId, content, null, null));
        }
        db.Orders.AddRange(orders);
        if (orders.Count > 0)
            await db.Note(
                now,
                caller.Actor,
                ActionOf(wish.Act),
                anchor.Subject,
                $"{Number(orders.Count, "store")}, {anchor.Thumbprint[..16]}: {wish.Reason.Trim()}"
            );
        await write.CommitAsync(ct);
        foreach (var host in orders.Select(o => o.HostId).Distinct())
            bell.Ring(host);
        changes.Tell("trust", "");
        return new([.. orders.Select(o => o.Id)], count - chosen.Count);
    }

    /// <summary>What is ordered already and not done yet: the same call again orders nothing twice.</summary>
    private async Task<ILookup<int, TrustOrder?>> OpenAsync(List<int> hosts, CancellationToken ct)
    {
        var open = new List<WorkOrder>();
        foreach (var part in hosts.Chunk(200))
            open.AddRange(
                await db
                    .Orders.AsNoTracking()
                    .Where(o =>
                        part.Contains(o.HostId)
                        && (o.State == OrderState.Queued || o.State == OrderState.Taken)
                        && o.Kind == OrderKind.Trust
                    )
                    .ToListAsync(ct)
            );
        return open.ToLookup(o => o.HostId, o => o.Content.Trust);
    }

    private static JournalAction ActionOf(TrustAct act) =>
        act switch
        {
            TrustAct.Push => JournalAction.TrustPushed,
            TrustAct.Withdraw => JournalAction.TrustWithdrawn,
            TrustAct.Distrust => JournalAction.TrustEnded,
            _ => JournalAction.TrustRestored,
        };

    /// <summary>The anchor, and the stores that were named, whatever they have: those of the caller's own hosts.</summary>
    private async Task<(KnownAnchor, IQueryable<TrustStore>)> FindAsync(
        TrustWish wish,
        Operation operation,
        Caller caller,
        CancellationToken ct
    )
    {
        if (wish.Act == TrustAct.Unknown)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "The change that is wanted is missing.",
                "Use push, withdraw, distrust or trust-again."
            );
        var anchor = await anchors.FindAsync(wish.Anchor, ct);
        if (wish.Act == TrustAct.Push && !trusted.Has(anchor.Thumbprint))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"{anchor.Subject} is neither a root of ours nor one that we say is trusted.",
                "An authority keeper decides who may vouch for servers: beacon outside set NAME FILES."
            );
        var stores = db.TrustStores.AsNoTracking().Where(s => db.Hosts.Any(h => h.Id == s.HostId && h.State == HostState.Joined));
        var ids = (wish.Stores ?? []).Take(MostOrders).ToList();
        stores = ids.Count > 0 ? stores.Where(s => ids.Contains(s.Id)) : stores.Where(s => !s.LetsIn);
        if (wish.Kind is { } kind)
            stores = stores.Where(s => s.Kind == kind);
        // A server's own file is narrow on purpose: what is meant for all programs is not put there along with them.
        else if (ids.Count == 0 && wish.Act == TrustAct.Push)
            stores = stores.Where(s => s.Kind != TrustKind.File);
        var hosts = new List<int>();
        foreach (var name in (wish.Hosts ?? []).Take(MostHosts))
            hosts.Add((await FindHost.ByNameAsync(db, name, ct)).Id);
        if (hosts.Count > 0)
            stores = stores.Where(s => hosts.Contains(s.HostId));
        return (anchor, await OwnedAsync(stores, operation, caller, ct));
    }

    /// <summary>Hosts of others are left out; where all are, it is said whose they are.</summary>
    private async Task<IQueryable<TrustStore>> OwnedAsync(
        IQueryable<TrustStore> stores,
        Operation operation,
        Caller caller,
        CancellationToken ct
    )
    {
        if (caller.IsAdministrator)
            return stores;
        var owners = caller.Groups.Select(g => Thing.GroupPrefix + g).Append(caller.Name).ToList();
        var own = stores.Where(s => db.Hosts.Any(h => h.Id == s.HostId && owners.Contains(h.Owner)));
        if (
            !await own.AnyAsync(ct)
            && await stores.Join(db.Hosts, s => s.HostId, h => h.Id, (s, h) => h).FirstOrDefaultAsync(ct) is { } other
        )
            MayAct.ThrowUnless(operation, caller, MayAct.Of(other));
        return own;
    }

    /// <summary>Those of the stores that the change would change.</summary>
    private IQueryable<TrustStore> Concerned(IQueryable<TrustStore> named, KnownAnchor anchor, TrustWish wish) =>
        wish.Act switch
        {
            TrustAct.Push => anchors.Standing(named, anchor, AnchorStanding.Lacking),
            TrustAct.Withdraw => anchors.Standing(named, anchor, AnchorStanding.Pushed),
            TrustAct.TrustAgain => anchors.Standing(named, anchor, AnchorStanding.Distrusted),
            // A browser brings roots along that are in no database: there it can be said of any.
            _ => anchors
                .Standing(named, anchor, AnchorStanding.Trusted)
                .Union(anchors.Standing(named.Where(s => s.Kind == TrustKind.Nss), anchor, AnchorStanding.Lacking)),
        };
}

/// <summary>Who may be pushed.</summary>
public sealed class Trusted(AuthorityRegistry registry, OutsideBook outside)
{
    public IEnumerable<Core.Issuing.X509> All => registry.Anchors.Concat(outside.Anchors);

    public bool Has(string thumbprint) => All.Any(a => a.Thumbprint.Hex == thumbprint);
}
