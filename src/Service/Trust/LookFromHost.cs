using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Trust;

/// <summary>
/// Has an agent look at an address as a client would. Where a known service listens anybody's agent may be sent; anywhere else, only the agent of a host of one's own:
/// nobody finds out what listens in a network by others' hosts.
/// </summary>
public sealed class LookFromHost(BeaconDb db, OrderDesk desk, FindDoor find)
{
    public async Task<LookInfo> RunAsync(LookWish wish, Caller caller, CancellationToken ct) => (await RawAsync(wish, caller, ct)).Judged;

    /// <returns>The look with its judgement, and as the agent brought it; null when it brought none.</returns>
    public async Task<(LookInfo Judged, LookReport? Brought)> RawAsync(LookWish wish, Caller caller, CancellationToken ct)
    {
        var door = await find.RunAsync(wish, ct);
        var order = await desk.AskAsync(
            await HostAsync(wish, door, caller, ct),
            new Order(0, OrderKind.Look, null, null, null, null, null, null, door.Port, door.Address, door.ServerName, null)
            {
                Protocol = door.Protocol,
            },
            TimeSpan.FromSeconds(30),
            ct
        );
        var ended = await db.Orders.AsNoTracking().SingleAsync(o => o.Id == order.Id, ct);
        var judged =
            Shapes.Looks(ended.LooksJson).FirstOrDefault()
            ?? throw new BeaconProblem(ProblemCode.Unreachable, "The agent brought no answer.", "Look into its log.");
        return (judged, ended.Result?.Looks?.FirstOrDefault());
    }

    /// <summary>Whose agent looks: who was named, else the service's own host, else who of one's own hosts was here last.</summary>
    private async Task<Hosts.Host> HostAsync(LookWish wish, Door door, Caller caller, CancellationToken ct)
    {
        if (wish.From is not null)
        {
            var named = await FindHost.ByNameAsync(db, wish.From, ct);
            if (door.HostId is null && !await ListensAsync(named, door, ct))
                ThrowUnlessOwn(named, door, caller);
            return named;
        }
        if (door.HostId is { } id)
            return await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == id, ct);
        return await OwnOf(caller).OrderByDescending(h => h.LastSeen).FirstOrDefaultAsync(ct)
            ?? throw new BeaconProblem(
                ProblemCode.HostAway,
                "There is no host of yours to look from.",
                "Invite a host first (beacon host invite NAME), or have the service itself look (beacon look --from-service); both are for host keepers."
            );
    }

    /// <summary>Whether one of the host's own services is there: its agent goes there by itself.</summary>
    private async Task<bool> ListensAsync(Hosts.Host host, Door door, CancellationToken ct)
    {
        var port = $"\"port\":{door.Port},";
        var endpoints = await db
            .Services.AsNoTracking()
            .Where(s => s.HostId == host.Id && s.EndpointsJson.Contains(port))
            .Select(s => s.EndpointsJson)
            .ToListAsync(ct);
        return endpoints.SelectMany(Shapes.Endpoints).Any(e => e.Port == door.Port && e.Address == door.Address);
    }

    private IQueryable<Hosts.Host> OwnOf(Caller caller)
    {
        var joined = db.Hosts.AsNoTracking().Where(h => h.State == HostState.Joined);
        if (caller.IsAdministrator)
            return joined;
        string[] owners = [caller.Name, .. caller.Groups.Select(g => Thing.GroupPrefix + g)];
        return joined.Where(h => owners.Contains(h.Owner));
    }

    private static void ThrowUnlessOwn(Hosts.Host host, Door door, Caller caller)
    {
        var thing = MayAct.Of(host);
        if (caller.IsAdministrator || thing.IsOwnedBy(caller.Who))
            return;
        var denial = new Denial(
            ProblemCode.NotAllowed,
            $"No service that is known here listens at {door.Address}:{door.Port}, and {thing.Called} is not yours to look from.",
            "Look at a service by its name, or from a host of your own (--from HOST)."
        );
        throw new RefusedAttempt(Operation.Look, caller, thing, denial);
    }
}
