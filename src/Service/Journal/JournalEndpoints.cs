using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Journal;

internal static class JournalEndpoints
{
    public static void MapJournal(this RouteGroupBuilder api)
    {
        // Newest first for reading; `after` walks forward for verification.
        api.MapGet(
                "/journal",
                async (BeaconDb db, string? search, long? before, long? after, int? take, CancellationToken ct) =>
                {
                    var n = Math.Clamp(take ?? 100, 1, 1000);
                    var q = db.Journal.AsNoTracking();
                    if (!string.IsNullOrWhiteSpace(search))
                        q = q.Where(e =>
                            e.Actor.Contains(search) || e.Action.Contains(search) || e.Subject.Contains(search) || e.Detail.Contains(search)
                        );
                    q = after is { } a
                        ? q.Where(e => e.Sequence > a).OrderBy(e => e.Sequence)
                        : (before is { } b ? q.Where(e => e.Sequence < b) : q).OrderByDescending(e => e.Sequence);
                    var rows = await q.Take(n).ToListAsync(ct);
                    return TypedResults.Ok(
                        new Page<JournalEntryInfo>([.. rows.Select(r => r.Info)], rows.Count == n ? rows[^1].Sequence.ToString() : null)
                    );
                }
            )
            .Is(Operation.ListJournal)
            .WithTags("Journal");
    }
}
