using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Records;

/// <summary>Which rollovers are open and when each is looked at next. In memory: looking writes nothing, and where none is open nothing is asked.</summary>
public sealed class RolloverBook(TimeProvider clock)
{
    private readonly ConcurrentDictionary<int, DateTimeOffset> _next = [];

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        foreach (var id in await db.Rollovers.Where(r => r.Step != RolloverStep.Done).Select(r => r.Id).ToListAsync(ct))
            At(id, clock.GetUtcNow());
    }

    public void At(int id, DateTimeOffset next) => _next[id] = next;

    public void Ended(int id) => _next.TryRemove(id, out _);

    public bool HasDue => !_next.IsEmpty && _next.Values.Any(n => n <= clock.GetUtcNow());

    /// <summary>Those whose time has come, the longest first.</summary>
    public IReadOnlyList<int> Due(int most)
    {
        var now = clock.GetUtcNow();
        return [.. _next.Where(n => n.Value <= now).OrderBy(n => n.Value).Select(n => n.Key).Take(most)];
    }
}
