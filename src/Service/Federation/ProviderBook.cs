using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Federation;

/// <summary>Which providers are looked at next, and when. In memory: where nothing is under way, nothing is asked.</summary>
public sealed class ProviderBook(TimeProvider clock)
{
    private readonly ConcurrentDictionary<int, DateTimeOffset> _next = [];

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        foreach (var id in await db.Providers.Where(p => p.CertificateId != null).Select(p => p.Id).ToListAsync(ct))
            At(id, clock.GetUtcNow());
    }

    public void At(int id, DateTimeOffset next) => _next[id] = next;

    public void Now(int id) => At(id, clock.GetUtcNow());

    public void Rests(int id) => _next.TryRemove(id, out _);

    public bool HasDue => !_next.IsEmpty && _next.Values.Any(n => n <= clock.GetUtcNow());

    public IReadOnlyList<int> Due(int most)
    {
        var now = clock.GetUtcNow();
        return [.. _next.Where(n => n.Value <= now).OrderBy(n => n.Value).Select(n => n.Key).Take(most)];
    }
}
