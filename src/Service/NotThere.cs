using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service;

/// <summary>Something that somebody named is not there: what begins like it, or stands beside it, is said along.</summary>
internal static class NotThere
{
    private const int Most = 3;

    public static async Task<BeaconProblem> CertificateAsync(BeaconDb db, string name, CancellationToken ct)
    {
        var (from, to) = Beginning(name);
        var near = await db
            .Certificates.AsNoTracking()
            .Where(c => string.Compare(c.Name, from) >= 0 && string.Compare(c.Name, to) < 0)
            .OrderBy(c => c.Name)
            .Take(Most)
            .Select(c => c.Name)
            .ToListAsync(ct);
        return Said($"There is no certificate \"{name}\".", near, "See beacon cert list.");
    }

    public static async Task<BeaconProblem> HostAsync(BeaconDb db, string name, CancellationToken ct)
    {
        var (from, to) = Beginning(name);
        var near = await db
            .Hosts.AsNoTracking()
            .Where(h => h.State != HostState.Removed && string.Compare(h.Name, from) >= 0 && string.Compare(h.Name, to) < 0)
            .OrderBy(h => h.Name)
            .Take(Most)
            .Select(h => h.Name)
            .ToListAsync(ct);
        return Said($"There is no host \"{name}\".", near, "See beacon host list.");
    }

    public static async Task<BeaconProblem> ServiceAsync(BeaconDb db, Hosts.Host host, string name, CancellationToken ct)
    {
        var others = await db
            .Services.AsNoTracking()
            .Where(s => s.HostId == host.Id)
            .OrderByDescending(s => s.Name.StartsWith(name))
            .ThenBy(s => s.Name)
            .Take(Most)
            .Select(s => s.Name)
            .ToListAsync(ct);
        return Said($"There is no service \"{name}\" on {host.Name}.", others, "See beacon service list.");
    }

    private static (string From, string To) Beginning(string name) => (name.ToLowerInvariant(), name.ToLowerInvariant() + '\uffff');

    private static BeaconProblem Said(string message, IReadOnlyList<string> near, string list) =>
        new(
            ProblemCode.NotFound,
            message,
            near.Count switch
            {
                0 => list,
                1 => $"Did you mean {near[0]}? {list}",
                _ => $"Did you mean {string.Join(", ", near.SkipLast(1))} or {near[^1]}? {list}",
            }
        );
}
