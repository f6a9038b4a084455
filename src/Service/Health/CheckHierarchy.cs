using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Storage;
using Severity = OrderlyBeacon.Core.Paths.Severity;

namespace OrderlyBeacon.Service.Health;

/// <summary>An address with what was found there.</summary>
public sealed record CheckedPoint(
    PointKind Kind,
    string Uri,
    string WrittenIn,
    int KeyNumber,
    PointFinding? Finding,
    string Good,
    DateTimeOffset? FreshUntil
);

/// <summary>
/// Looks at the whole hierarchy as its clients do: every address of certificates, CRLs, deltas and OCSP as it stands in the certificates is fetched and judged,
/// every online key is tried. What was found is kept in <see cref="HealthBook"/>.
/// </summary>
public sealed class CheckHierarchy(
    BeaconDb db,
    WantedPoints wanted,
    LookAtPoints look,
    GenerationFindings judge,
    HealthBook book,
    Publishing.PushPublished pushes,
    TimeProvider clock
)
{
    public async Task<HealthReport> RunAsync(CancellationToken ct)
    {
        var authorities = new List<HealthAuthority>();
        var now = clock.GetUtcNow();
        var seen = (await look.RunAsync(await wanted.AllAsync(ct), ct)).ToLookup(x => (x.Wanted.Slug, x.Point.KeyNumber), x => x.Point);
        foreach (var row in await db.Authorities.AsNoTracking().Include(a => a.Generations).ToListAsync(ct))
        {
            var generations = new List<HealthGeneration>();
            foreach (var g in row.Generations.OrderBy(g => g.Number))
                generations.Add(await OfGenerationAsync(row, g, seen, now, ct));
            authorities.Add(new(row.Slug, row.Name, row.Kind, generations.Max(g => g.Severity), generations));
        }
        var all = authorities.SelectMany(a => a.Generations).ToList();
        var pushed = pushes.States;
        var worst = pushed.Any(p => !p.Good) ? Contracts.Severity.Now : Contracts.Severity.Fine;
        var report = new HealthReport(
            now,
            authorities.Select(a => a.Severity).Append(worst).Max(),
            all.Sum(g => g.Points.Count),
            all.Sum(g => g.Findings.Count + g.Points.Count(p => p.Finding is not null)) + pushed.Count(p => !p.Good),
            [.. authorities.OrderBy(a => a.Kind != "root")]
        )
        {
            Pushes = [.. pushed.Select(p => new HealthPush(p.Target, p.Good, p.Told, p.At))],
        };
        book.Keep(report);
        return report;
    }

    /// <summary>The addresses that editions under a published generation will name.</summary>
    public async Task<IReadOnlyList<CheckedPoint>> BeforeTakingUpAsync(IssuingPoint point, CancellationToken ct)
    {
        var points = await wanted.BeforeTakingUpAsync(point, ct);
        return [.. (await look.RunAsync(points, ct)).Select(x => x.Point)];
    }

    private async Task<HealthGeneration> OfGenerationAsync(
        Authority a,
        Generation g,
        ILookup<(string, int), CheckedPoint> seen,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        var (state, x) = (a.StateOf(g), g.Waits ? null : g.Read());
        var (findings, isUsable) = judge.Of(a, g, x, state, now);
        var keyState = (g.KeyFile, state, isUsable) switch
        {
            (null, _, _) => "offline",
            (_, GenerationState.Withdrawn, _) => "withdrawn",
            (_, _, false) => "unusable",
            _ => "usable",
        };
        // What several generations share with their key is told with the newest of them.
        var points =
            x is null || a.Certified.LastOrDefault(o => o.KeyNumber == g.KeyNumber) != g ? [] : seen[(a.Slug, g.KeyNumber)].ToList();
        var (editions, lastEnds) = await EditionsAsync(a, g, now, ct);
        var worst = findings
            .Concat(points.Select(p => p.Finding).OfType<PointFinding>())
            .Select(f => f.Severity)
            .DefaultIfEmpty(Severity.Fine)
            .Max();
        return new(
            g.Number,
            g.KeyNumber,
            BeaconProblem.SlugOf(state),
            x?.Serial.Hex ?? "",
            x?.PublicKey.Spec.ToString() ?? "",
            keyState,
            x?.NotBefore,
            x?.NotAfter,
            (Contracts.Severity)(int)worst,
            [.. findings.Select(Of)],
            [
                .. points.Select(p => new HealthPoint(
                    BeaconProblem.SlugOf(p.Kind),
                    p.Uri,
                    p.WrittenIn,
                    (Contracts.Severity)(int)(p.Finding?.Severity ?? Severity.Fine),
                    p.Finding?.Reason ?? p.Good,
                    p.Finding is { } f ? Of(f) : null,
                    p.FreshUntil
                )),
            ],
            editions,
            lastEnds
        )
        {
            SignedBy = x is null || x.IsSelfIssued ? null : judge.SignerOf(x),
        };

        static HealthFinding Of(PointFinding f) =>
            new(BeaconProblem.SlugOf(f.Fault), (Contracts.Severity)(int)f.Severity, f.Reason, f.Causes, f.Hurts, f.Cure);
    }

    /// <summary>How many editions under a generation are still good, and when the last one ends.</summary>
    private async Task<(long Count, DateTimeOffset? Last)> EditionsAsync(
        Authority a,
        Generation g,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        if (a.Slug != Authority.IssuingSlug)
            return (0, null);
        var good = await db
            .Editions.AsNoTracking()
            .Where(e => e.GenerationId == g.Id && e.NotAfter > now)
            .GroupBy(_ => 1)
            .Select(e => new { Count = e.LongCount(), Last = e.Max(i => i.NotAfter) })
            .SingleOrDefaultAsync(ct);
        return (good?.Count ?? 0, good?.Last);
    }
}
