using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Trust;

/// <summary>What needs a hand now, worst first: a query of the open concerns, whatever the size of the fleet.</summary>
public sealed class TodayQuery(BeaconDb db, Suggestions suggestions, HouseConcerns house, LookaheadQuery ahead, TimeProvider clock)
{
    private sealed record Group(ConcernSubject Of, ConcernKind Kind, Severity Severity, int Count);

    public async Task<Today> RunAsync(CancellationToken ct)
    {
        var own = await OfTheHouseAsync(ct);
        var groups = await db
            .Concerns.Where(c => c.Of != ConcernSubject.House)
            .GroupBy(c => new
            {
                c.Of,
                c.Kind,
                c.Severity,
            })
            .Select(g => new Group(g.Key.Of, g.Key.Kind, g.Key.Severity, g.Count()))
            .ToListAsync(ct);
        var concerns = own.ToList();
        foreach (var g in groups)
        {
            var first = await FirstAsync(g, ct);
            if (g.Count > ConcernGroups.MostSingle)
                concerns.Add(ConcernGroups.Of(g.Of, g.Kind, g.Count, first));
            else
                concerns.AddRange(await suggestions.CompleteAsync(first, ct));
        }
        var ordered = concerns.OrderByDescending(c => c.Severity).ThenBy(c => c.About, StringComparer.Ordinal).ToList();
        return new(
            clock.GetUtcNow(),
            await CountsAsync([.. groups, .. own.Select(c => new Group(ConcernSubject.House, c.Kind, c.Severity, 1))], ct),
            ordered,
            await ahead.RunAsync(ct)
        );
    }

    /// <summary>The house's own are few and known in memory: they are told as they are this moment, with the time from which their rows know them.</summary>
    private async Task<IReadOnlyList<Concern>> OfTheHouseAsync(CancellationToken ct)
    {
        var found = await house.FindAsync(ct);
        if (found.Count == 0)
            return [];
        var rows = await db.Concerns.AsNoTracking().Where(c => c.Of == ConcernSubject.House).ToListAsync(ct);
        return
        [
            .. found.Select(f => new Concern(f.Severity, f.Kind, f.About, f.Reason, f.Hurts, f.Cure, f.Command, f.Link)
            {
                Since = rows.FirstOrDefault(r => r.IsOf(f))?.Since,
            }),
        ];
    }

    private Task<List<OpenConcern>> FirstAsync(Group g, CancellationToken ct) =>
        db
            .Concerns.AsNoTracking()
            .Where(c => c.Of == g.Of && c.Kind == g.Kind && c.Severity == g.Severity)
            .OrderBy(c => c.About)
            .Take(ConcernGroups.MostSingle)
            .ToListAsync(ct);

    private async Task<TodayCounts> CountsAsync(List<Group> groups, CancellationToken ct)
    {
        int Of(Func<Group, bool> which) => groups.Where(which).Sum(g => g.Count);
        var services = await db.Services.CountAsync(ct);
        return new(
            await db.Hosts.CountAsync(h => h.State == HostState.Joined, ct),
            Of(g => g.Kind == ConcernKind.HostAway),
            services,
            await db.Certificates.CountAsync(c => c.Profile != "agent", ct),
            // A service has one concern at most: its worst.
            Math.Max(0, services - Of(g => g.Of == ConcernSubject.Service)),
            Of(g => g.Severity == Severity.Soon),
            Of(g => g.Severity == Severity.Now),
            Of(g => g.Severity == Severity.Failed)
        );
    }
}
