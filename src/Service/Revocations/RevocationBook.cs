using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>
/// The entries of the full list of each of the issuing authority's keys, kept encoded: the next list costs a copy and a signature. Used under the write gate.
/// Ended editions leave the list a day after their end; by then it has named them at least once (RFC 5280 section 3.3).
/// </summary>
public sealed class RevocationBook
{
    private readonly Dictionary<int, Page> _pages = [];
    private readonly Dictionary<int, DateTimeOffset> _lastEnds = [];

    // Set from outside of the gate, acted on under it.
    private int _isStale,
        _keysChanged;

    /// <summary>What stood in it has changed, for example when a hold ends: the next use builds it anew. May be called without the gate.</summary>
    public void Reset() => Interlocked.Exchange(ref _isStale, 1);

    public async Task<CrlEntries> EntriesAsync(BeaconDb db, IssuingPoint point, DateTimeOffset now, CancellationToken ct)
    {
        if (Interlocked.Exchange(ref _isStale, 0) == 1)
            _pages.Clear();
        var cutoff = new DateTimeOffset(now.UtcDateTime.Date.AddDays(-1), TimeSpan.Zero);
        var listed = db
            .Editions.AsNoTracking()
            .Where(e => e.RevokedAt != null && e.NotAfter >= cutoff && point.Generations.Contains(e.GenerationId));
        if (_pages.TryGetValue(point.KeyNumber, out var page) && page.Cutoff == cutoff)
        {
            var asOf = page.AsOf;
            foreach (
                var e in await listed
                    .Where(e => e.RevokedAt >= asOf)
                    .OrderBy(e => e.RevokedAt)
                    .Select(e => new Row(e.Serial, e.RevokedAt!.Value, e.RevocationReason))
                    .ToListAsync(ct)
            )
                page.Add(e);
            if (page.Entries.Count == await listed.CountAsync(ct))
                return page.Entries;
        }
        page = _pages[point.KeyNumber] = new(cutoff);
        await foreach (
            var e in listed
                .OrderBy(e => e.RevokedAt)
                .Select(e => new Row(e.Serial, e.RevokedAt!.Value, e.RevocationReason))
                .AsAsyncEnumerable()
                .WithCancellation(ct)
        )
            page.Add(e);
        return page.Entries;
    }

    /// <summary>When the last edition under a key that no longer issues ends.</summary>
    public async Task<DateTimeOffset> LastEndAsync(BeaconDb db, IssuingPoint point, CancellationToken ct)
    {
        if (Interlocked.Exchange(ref _keysChanged, 0) == 1)
            _lastEnds.Clear();
        if (_lastEnds.TryGetValue(point.KeyNumber, out var kept))
            return kept;
        // Nobody asks for the state of a responder's own certificate.
        var last = await db
            .Editions.AsNoTracking()
            .Where(e => point.Generations.Contains(e.GenerationId) && e.Profile != "responder")
            .MaxAsync(e => (DateTimeOffset?)e.NotAfter, ct);
        return _lastEnds[point.KeyNumber] = last ?? default;
    }

    /// <summary>After a restore: numbers up to here may have been used before it, and are not used again.</summary>
    public async Task<long> FloorAsync(BeaconDb db, CancellationToken ct) =>
        _floor ??= await db.Restores.AsNoTracking().MaxAsync(r => (long?)r.CrlFloor, ct) ?? 0;

    private long? _floor;

    /// <summary>Another key issues now: what a key's last edition is has to be looked up anew. May be called without the gate.</summary>
    public void KeysChanged() => Interlocked.Exchange(ref _keysChanged, 1);

    private sealed class Page(DateTimeOffset cutoff)
    {
        private readonly HashSet<string> _latest = [];

        public DateTimeOffset Cutoff => cutoff;
        public DateTimeOffset AsOf { get; private set; }
        public CrlEntries Entries { get; } = new();

        public void Add(Row e)
        {
            if (e.At > AsOf)
            {
                _latest.Clear();
                AsOf = e.At;
            }
            if (_latest.Add(e.Serial))
                Entries.Add(new(new SerialNumber(e.Serial), e.At, (RevocationReason)(e.Reason ?? 0)));
        }
    }

    private sealed record Row(string Serial, DateTimeOffset At, int? Reason);
}
