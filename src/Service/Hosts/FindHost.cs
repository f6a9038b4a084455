using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>Finds a host as people name it: by its full name, or by the first part of it where only one host is called so.</summary>
internal static class FindHost
{
    /// <summary>What a host can be called (RFC 1035 section 3.1).</summary>
    private const int MostName = 253;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/> or <see cref="ProblemCode.NameAmbiguous"/>.</exception>
    public static async Task<Host> ByNameAsync(BeaconDb db, string name, CancellationToken ct)
    {
        var lower = name.Trim().ToLowerInvariant();
        if (lower.Length > MostName)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"A host's name has {MostName} characters at most.",
                "Give the name of one host."
            );
        var found = await Called(db.Hosts.AsNoTracking(), lower)
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

    /// <summary>Those of this name, or of which it is the first part.</summary>
    public static IQueryable<Host> Called(IQueryable<Host> hosts, string name)
    {
        // As a range: the database does not go through its index for a pattern.
        var lower = name.Trim().ToLowerInvariant();
        var (from, to) = (lower + ".", lower + (char)('.' + 1));
        return hosts.Where(h => h.Name == lower || (string.Compare(h.Name, from) > 0 && string.Compare(h.Name, to) < 0));
    }
}
