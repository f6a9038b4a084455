using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Trust;

/// <summary>What will fall due and what will expire.</summary>
public sealed class LookaheadQuery(
    BeaconDb db,
    ServiceQueries services,
    CertificateQueries certificates,
    AuthorityRegistry registry,
    TimeProvider clock
)
{
    private const int MostAhead = 60;

    /// <summary>Those that come first, each with its name; how many there are of all, by when they expire.</summary>
    public async Task<Lookahead> RunAsync(CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var items = new List<LookaheadItem>();
        var certs = await certificates.NextAsync(MostAhead, ct);
        foreach (var c in certs.Where(c => c.NotAfter is not null && c.State != "expired"))
            items.Add(
                new(
                    "certificate",
                    c.Name,
                    c.Host,
                    c.NotBefore!.Value,
                    c.NotAfter!.Value,
                    c.Planned,
                    c.Phase ?? LifePhase.Fresh,
                    c.Severity,
                    c.State,
                    $"/certificates/{Uri.EscapeDataString(c.Name)}"
                )
            );
        foreach (var s in (await services.UnmanagedAsync(MostAhead, ct)).Where(s => s.Look?.Served is not null))
            items.Add(
                new(
                    "found",
                    s.Name,
                    s.Host,
                    s.Look!.Served!.NotBefore,
                    s.Look.Served.NotAfter,
                    null,
                    s.Look.Served.NotAfter < now ? LifePhase.Expired : LifePhase.Fresh,
                    s.Severity,
                    s.State,
                    $"/hosts/{s.Host}"
                )
            );
        foreach (var a in registry.Authorities)
        foreach (var g in a.Certified)
            if (g.Read() is { } x)
                items.Add(new("authority", a.Name, null, x.NotBefore, x.NotAfter, null, LifePhase.Fresh, Severity.Fine, a.Kind, null));
        return new(now, [.. items.OrderBy(i => i.Kind == "authority").ThenBy(i => i.NotAfter)]) { Density = await DensityAsync(now, ct) };
    }

    private static readonly IReadOnlyList<TimeSpan> Marks =
    [
        TimeSpan.FromMinutes(10),
        TimeSpan.FromHours(1),
        TimeSpan.FromHours(6),
        TimeSpan.FromDays(1),
        TimeSpan.FromDays(7),
        TimeSpan.FromDays(30),
        TimeSpan.FromDays(90),
        TimeSpan.FromDays(365),
        TimeSpan.FromDays(3650),
    ];

    private async Task<IReadOnlyList<LookaheadDensity>> DensityAsync(DateTimeOffset now, CancellationToken ct)
    {
        var density = new List<LookaheadDensity>();
        var from = now;
        foreach (var to in Marks.Select(m => now + m))
        {
            var (after, before) = (from, to);
            var count = await db.Editions.CountAsync(
                e => e.State == EditionState.Current && e.NotAfter >= after && e.NotAfter < before && e.Profile != "agent",
                ct
            );
            density.Add(new(before, count));
            from = to;
        }
        return density;
    }
}
