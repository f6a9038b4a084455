using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>Finds a host as people name it: by its full name, or by the first part of it where only one host is called so.</summary>
internal static class FindHost
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/> or <see cref="ProblemCode.NameAmbiguous"/>.</exception>
    public static async Task<Host> ByNameAsync(BeaconDb db, string name, CancellationToken ct)
    {
        var lower = name.Trim().ToLowerInvariant();
        var found = await db
            .Hosts.AsNoTracking()
            .Where(h => h.Name == lower || h.Name.StartsWith(lower + "."))
            .OrderBy(h => h.State == HostState.Removed)
            .ThenBy(h => h.Name.Length)
            .Take(3)
            .ToListAsync(ct);
        if (found.FirstOrDefault(h => h.Name == lower) is { } exact)
            return exact;
        var here = found.Where(h => h.State != HostState.Removed).ToList();
        if (here.Count > 1)
            throw new BeaconProblem(
                ProblemCode.NameAmbiguous,
                $"\"{name}\" fits {string.Join(" and ", here.Take(2).Select(h => h.Name))}.",
                "Give the host's full name."
            );
        return here.FirstOrDefault() ?? found.FirstOrDefault() ?? throw await NotThere.HostAsync(db, name, ct);
    }
}
