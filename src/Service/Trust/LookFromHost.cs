using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Has an agent look at an address as a client would.</summary>
public sealed class LookFromHost(BeaconDb db, OrderDesk desk, FindDoor find)
{
    public async Task<LookInfo> RunAsync(LookWish wish, CancellationToken ct) => (await RawAsync(wish, ct)).Judged;

    /// <returns>The look with its judgement, and as the agent brought it; null when it brought none.</returns>
    public async Task<(LookInfo Judged, LookReport? Brought)> RawAsync(LookWish wish, CancellationToken ct)
    {
        var door = await find.RunAsync(wish, ct);
        var order = await desk.AskAsync(
            await HostAsync(wish, door, ct),
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

    /// <summary>Whose agent looks: who was named, else the service's own host, else who was here last.</summary>
    private async Task<Hosts.Host> HostAsync(LookWish wish, Door door, CancellationToken ct)
    {
        if (wish.From is not null)
            return await FindHost.ByNameAsync(db, wish.From, ct);
        if (door.HostId is { } id)
            return await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == id, ct);
        return await db
                .Hosts.AsNoTracking()
                .Where(h => h.State == HostState.Joined)
                .OrderByDescending(h => h.LastSeen)
                .FirstOrDefaultAsync(ct)
            ?? throw new BeaconProblem(
                ProblemCode.HostAway,
                "There is no host to look from.",
                "Invite a host first (beacon host invite NAME), or have the service itself look (beacon look --from-service)."
            );
    }
}
