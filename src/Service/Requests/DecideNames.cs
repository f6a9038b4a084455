using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Looks up the facts about names and has Core decide. Every path that issues comes through here.</summary>
public sealed class DecideNames(BeaconDb db, BeaconOptions options)
{
    /// <param name="approved">Names that a person approved for this certificate before: what only needed approval is granted.</param>
    public async Task<IReadOnlyList<NameVerdict>> RunAsync(IReadOnlyList<string> names, Profile profile, Hosts.Host? host, IReadOnlyCollection<string> groups, IReadOnlyCollection<string> approved, CancellationToken ct)
    {
        var canonical = names.Select(n => AlternativeName.TryParse(n, out var a, out _) ? a!.Value : null).OfType<string>().Distinct().Take(300).ToList();
        var hostId = host?.Id ?? 0;
        var otherHosts = await db.Hosts.AsNoTracking().Where(h => h.Id != hostId && h.State != Contracts.HostState.Removed && canonical.Contains(h.Name)).Select(h => h.Name).ToListAsync(ct);
        var elsewhere = new Dictionary<string, string>();
        foreach (var name in canonical)
        {
            var quoted = "\"" + name + "\"";
            var other = await db.Services.AsNoTracking().Where(s => s.HostId != hostId && s.ServedSerial != null && s.NamesJson.Contains(quoted))
                .Join(db.Hosts.Where(h => h.State == Contracts.HostState.Joined), s => s.HostId, h => h.Id, (_, h) => h.Name).FirstOrDefaultAsync(ct);
            if (other is not null) elsewhere[name] = other;
        }
        var addresses = host is null ? [] : Shapes.Strings(host.AddressesJson);
        var verdicts = NameDecision.Decide(names, profile, new(host?.Name, addresses, groups, options.ZoneHoldings(), otherHosts, elsewhere));
        return [.. verdicts.Select(v => v.Verdict == Verdict.NeedsApproval && approved.Contains(v.Name)
            ? v with { Verdict = Verdict.Granted, Evidence = v.Evidence + " It was approved for this certificate before.", Cure = "" } : v)];
    }
}
