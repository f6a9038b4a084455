using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>
/// The entries of the issuing authority's full list, kept encoded: the next list costs a copy and a signature. Used under the write gate.
/// Ended editions leave the list a day after their end; by then it has named them at least once (RFC 5280 section 3.3).
/// </summary>
public sealed class RevocationBook
{
    private CrlEntries? _entries;
    private DateTimeOffset _cutoff, _asOf;
    private readonly HashSet<string> _latest = [];

    /// <summary>What stood in it has changed, as when a hold ends: the next use builds it anew.</summary>
    public void Reset() => _entries = null;

    public async Task<CrlEntries> EntriesAsync(BeaconDb db, DateTimeOffset now, CancellationToken ct)
    {
        var cutoff = new DateTimeOffset(now.UtcDateTime.Date.AddDays(-1), TimeSpan.Zero);
        var listed = db.Editions.AsNoTracking().Where(e => e.RevokedAt != null && e.NotAfter >= cutoff);
        if (_entries is not null && _cutoff == cutoff)
        {
            var asOf = _asOf;
            foreach (var e in await listed.Where(e => e.RevokedAt >= asOf).OrderBy(e => e.RevokedAt).Select(e => new Row(e.Serial, e.RevokedAt!.Value, e.RevocationReason)).ToListAsync(ct)) Add(e);
            if (_entries.Count == await listed.CountAsync(ct)) return _entries;
        }
        _entries = new();
        (_cutoff, _asOf) = (cutoff, default);
        _latest.Clear();
        await foreach (var e in listed.OrderBy(e => e.RevokedAt).Select(e => new Row(e.Serial, e.RevokedAt!.Value, e.RevocationReason)).AsAsyncEnumerable().WithCancellation(ct)) Add(e);
        return _entries;
    }

    private void Add(Row e)
    {
        if (e.At > _asOf)
        {
            _latest.Clear();
            _asOf = e.At;
        }
        if (_latest.Add(e.Serial)) _entries!.Add(new(new SerialNumber(e.Serial), e.At, (RevocationReason)(e.Reason ?? 0)));
    }

    private sealed record Row(string Serial, DateTimeOffset At, int? Reason);
}
