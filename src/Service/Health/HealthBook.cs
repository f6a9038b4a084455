using System.Globalization;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Health;

/// <summary>What was found at the last check of the hierarchy.</summary>
public sealed class HealthBook(Changes changes)
{
    private volatile HealthReport? _last;

    public HealthReport? Last => _last;

    public void Keep(HealthReport report)
    {
        var changed = _last is null || _last.Severity != report.Severity || _last.Findings != report.Findings;
        _last = report;
        if (changed)
            changes.Tell("authority", "health");
    }

    /// <summary>The last check in OpenMetrics text.</summary>
    public void Write(StringBuilder text, DateTimeOffset now)
    {
        if (_last is not { } r)
            return;
        text.Append(
            "# TYPE beacon_point_healthy gauge\n# HELP beacon_point_healthy 1 when clients find what they should at an address in certificates\n"
        );
        foreach (var (a, g, p) in Points(r))
            text.Append(
                CultureInfo.InvariantCulture,
                $"beacon_point_healthy{{authority=\"{a.Id}\",key=\"{g.KeyNumber}\",kind=\"{p.Kind}\",fault=\"{p.Finding?.Fault}\",at=\"{p.Uri.Replace("\\", "\\\\").Replace("\"", "\\\"")}\"}} {(p.Finding is null ? 1 : 0)}\n"
            );
        text.Append(
            "# TYPE beacon_point_fresh_seconds gauge\n# HELP beacon_point_fresh_seconds Seconds until what is at an address expires\n"
        );
        foreach (var (a, g, p) in Points(r))
            if (p.FreshUntil is { } until)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"beacon_point_fresh_seconds{{authority=\"{a.Id}\",key=\"{g.KeyNumber}\",kind=\"{p.Kind}\",at=\"{p.Uri.Replace("\\", "\\\\").Replace("\"", "\\\"")}\"}} {(until - now).TotalSeconds:0}\n"
                );
        text.Append(
            "# TYPE beacon_authority_key_usable gauge\n# HELP beacon_authority_key_usable 1 when an online authority key can sign\n"
        );
        foreach (var a in r.Authorities)
        foreach (var g in a.Generations.Where(g => g.KeyState is "usable" or "unusable"))
            text.Append(
                CultureInfo.InvariantCulture,
                $"beacon_authority_key_usable{{authority=\"{a.Id}\",generation=\"{g.Number}\"}} {(g.KeyState == "usable" ? 1 : 0)}\n"
            );
        text.Append(
            CultureInfo.InvariantCulture,
            $"# TYPE beacon_health_findings gauge\n# HELP beacon_health_findings Findings of the last check of the hierarchy\nbeacon_health_findings {r.Findings}\n"
        );
        text.Append(
            CultureInfo.InvariantCulture,
            $"# TYPE beacon_health_checked_seconds gauge\n# HELP beacon_health_checked_seconds Seconds since the last check of the hierarchy\nbeacon_health_checked_seconds {(now - r.At).TotalSeconds:0}\n"
        );
    }

    private static IEnumerable<(HealthAuthority, HealthGeneration, HealthPoint)> Points(HealthReport r) =>
        r.Authorities.SelectMany(a => a.Generations.SelectMany(g => g.Points.Select(p => (a, g, p))));
}

internal static class HealthEndpoints
{
    public static void MapHealth(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/authorities/health",
                async (HealthBook book, CheckHierarchy check, CancellationToken ct) =>
                    TypedResults.Ok(book.Last ?? await check.RunAsync(ct))
            )
            .Is(Operation.GetHealth)
            .WithTags("Authorities");
        api.MapPost("/authorities/health", async (CheckHierarchy check, CancellationToken ct) => TypedResults.Ok(await check.RunAsync(ct)))
            .Is(Operation.CheckHealth)
            .WithTags("Authorities");
    }
}
