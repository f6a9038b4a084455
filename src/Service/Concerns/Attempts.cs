using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Attempts on what belongs to others, of the last day: said to those whom it concerns.</summary>
public sealed class Attempts(BeaconDb db)
{
    private const int MostRead = 500;
    public static readonly string Action = JournalAction.AttemptRefused.Word();

    public async Task<IReadOnlyList<Found>> ConcernsAsync(DateTimeOffset now, CancellationToken ct)
    {
        var dayAgo = now.AddDays(-1);
        var recent = await db
            .Journal.AsNoTracking()
            .OrderByDescending(e => e.Sequence)
            .Take(MostRead)
            .Where(e => e.Action == Action && e.At > dayAgo)
            .Select(e => new
            {
                e.Subject,
                e.Actor,
                e.Detail,
            })
            .ToListAsync(ct);
        return
        [
            .. recent
                .GroupBy(e => e.Subject)
                .Take(20)
                .Select(g =>
                    HouseConcerns.Of(
                        ConcernKind.Attempt,
                        g.Key,
                        Severity.Soon,
                        $"{string.Join(" and ", g.Select(e => e.Actor).Distinct())} tried what they may not do, {(g.Count() == 1 ? "once" : g.Count() + " times")} in the last day: {g.First().Detail}",
                        "Nothing was changed.",
                        "Ask them; if it was not them, end their sessions with a new password.",
                        "beacon journal list attempt",
                        "/journal"
                    )
                ),
        ];
    }
}
