using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Looks up the facts about names and has Core decide. Every path that issues comes through here.</summary>
public sealed class DecideNames(KnownNames known, Authorities.AuthorityRegistry registry, BeaconOptions options)
{
    /// <param name="approved">Names that a person approved for this certificate before: what only needed approval is granted.</param>
    public async Task<IReadOnlyList<NameVerdict>> RunAsync(
        IReadOnlyList<string> names,
        Profile profile,
        Hosts.Host? host,
        IReadOnlyCollection<string> groups,
        IReadOnlyCollection<string> approved,
        CancellationToken ct
    )
    {
        var facts = await known.GetAsync(ct);
        var hostId = host?.Id ?? 0;
        var otherHosts = new List<string>();
        var elsewhere = new Dictionary<string, string>();
        foreach (var text in names)
        {
            if (!AlternativeName.TryParse(text, out var name, out _))
                continue;
            if (facts.Hosts.TryGetValue(name!.Value, out var owner) && owner != hostId)
                otherHosts.Add(name.Value);
            if (facts.Served[name.Value].FirstOrDefault(s => s.HostId != hostId) is { Host: { } other })
                elsewhere[name.Value] = other;
        }
        var addresses = host is null ? [] : Shapes.Strings(host.AddressesJson);
        var verdicts = NameDecision.Decide(
            names,
            profile,
            new(host?.Name, addresses, groups, options.Holdings, otherHosts, elsewhere),
            [.. registry.All.Select(x => x.Constraints).OfType<Core.Issuing.NameConstraints>()]
        );
        return
        [
            .. verdicts.Select(v =>
                v.Verdict == Verdict.NeedsApproval && approved.Contains(v.Name)
                    ? v with
                    {
                        Verdict = Verdict.Granted,
                        Evidence = v.Evidence + " It was approved for this certificate before.",
                        Cure = "",
                    }
                    : v
            ),
        ];
    }
}
