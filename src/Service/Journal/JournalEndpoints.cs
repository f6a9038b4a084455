using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Journal;

internal static class JournalEndpoints
{
    public static void MapJournal(this RouteGroupBuilder api)
    {
        // Newest first for reading; `after` walks forward for verification. A search may find nothing in an answer and go on in the next.
        api.MapGet(
                "/journal",
                async (BeaconDb db, string? search, long? before, long? after, int? take, CancellationToken ct) =>
                {
                    var n = Math.Clamp(take ?? 100, 1, 1000);
                    if (string.IsNullOrWhiteSpace(search))
                        return TypedResults.Ok(await ReadAsync(db, before, after, n, ct));
                    if (after is not null)
                        throw new BeaconProblem(
                            ProblemCode.InputInvalid,
                            "A search goes back from the newest entry: it cannot begin after one.",
                            "Leave out \"after\", or \"search\"."
                        );
                    return TypedResults.Ok(await SearchAsync(db, search, before, n, ct));
                }
            )
            .Is(Operation.ListJournal)
            .WithTags("Journal");
    }

    private static async Task<Page<JournalEntryInfo>> ReadAsync(BeaconDb db, long? before, long? after, int take, CancellationToken ct)
    {
        var all = db.Journal.AsNoTracking();
        var wanted = (after, before) switch
        {
            ({ } a, _) => all.Where(e => e.Sequence > a).OrderBy(e => e.Sequence),
            (_, { } b) => all.Where(e => e.Sequence < b).OrderByDescending(e => e.Sequence),
            _ => all.OrderByDescending(e => e.Sequence),
        };
        var rows = await wanted.Take(take).ToListAsync(ct);
        return new([.. rows.Select(r => r.Info)], rows.Count == take ? rows[^1].Sequence.ToString() : null);
    }

    private static async Task<Page<JournalEntryInfo>> SearchAsync(BeaconDb db, string search, long? before, int take, CancellationToken ct)
    {
        var part = ListQuery.Having(search);
        var back = LookBack.Of(before, await db.Journal.MaxAsync(e => (long?)e.Sequence, ct) ?? 0);
        var (from, end) = (back.From, back.Before);
        var rows = await db
            .Journal.AsNoTracking()
            .Where(e => e.Sequence >= from && e.Sequence < end)
            .Where(e =>
                EF.Functions.Like(e.Actor, part, ListQuery.EscapedBy)
                || EF.Functions.Like(e.Action, part, ListQuery.EscapedBy)
                || EF.Functions.Like(e.Subject, part, ListQuery.EscapedBy)
                || EF.Functions.Like(e.Detail, part, ListQuery.EscapedBy)
            )
            .OrderByDescending(e => e.Sequence)
            .Take(take)
            .ToListAsync(ct);
        return new([.. rows.Select(r => r.Info)], back.Next([.. rows.Select(r => r.Sequence)], take));
    }
}
