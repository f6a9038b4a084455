using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>Hands an agent its open orders. Where there were none, and nothing at all was written since, there are none: ten thousand polls of an idle service ask the database nothing.</summary>
public sealed class OpenOrders(WriteGate gate)
{
    /// <summary>Hosts without an open order, each with the count of writes at which that was so.</summary>
    private readonly ConcurrentDictionary<int, long> _none = [];

    public async Task<List<Order>> TakeAsync(BeaconDb db, int hostId, CancellationToken ct)
    {
        // Before the question: what is written meanwhile counts for the next.
        var writes = gate.Writes;
        if (_none.TryGetValue(hostId, out var known) && known == writes)
            return [];
        var open = await db
            .Orders.Where(o => o.HostId == hostId && (o.State == OrderState.Queued || o.State == OrderState.Taken))
            .OrderBy(o => o.Id)
            .Take(50)
            .ToListAsync(ct);
        if (open.Count == 0)
        {
            _none[hostId] = writes;
            return [];
        }
        if (open.Any(o => o.State == OrderState.Queued))
        {
            await using var write = await db.BeginWriteAsync(ct);
            foreach (var o in open)
                o.Take();
            await write.CommitAsync(ct);
        }
        db.ChangeTracker.Clear();
        return [.. open.Select(o => o.Content)];
    }
}
