using System.Net;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

public enum Verdict
{
    Granted,
    NeedsApproval,
    Refused,
}

/// <summary>Why a name got its verdict. Each has one sentence in <see cref="NameDecision"/>.</summary>
public enum VerdictReason
{
    /// <summary>The host is registered under this name.</summary>
    HostOwnsName,

    /// <summary>The requester's group holds a zone that the name is in.</summary>
    ZoneHeld,

    /// <summary>The host's agent listens on this address.</summary>
    HostOwnsAddress,

    /// <summary>A wildcard reaches further than one service.</summary>
    WildcardReachesFar,

    /// <summary>Another host serves this name now.</summary>
    ServedElsewhere,

    /// <summary>Another host is registered under this name.</summary>
    OtherHostsName,

    /// <summary>No agent of the host listens on this address.</summary>
    AddressNotOfHost,

    /// <summary>No zone that the requester's groups hold has this name.</summary>
    NoZone,

    /// <summary>The profile issues no wildcards.</summary>
    ProfileNoWildcards,

    /// <summary>The profile issues no addresses.</summary>
    ProfileNoAddresses,

    /// <summary>The profile issues the host's own name only.</summary>
    ProfileOwnNameOnly,

    /// <summary>The profile issues no host names.</summary>
    ProfileNoHostNames,

    /// <summary>The profile issues names in certain zones only.</summary>
    ProfileOtherZone,

    /// <summary>The profile issues fewer names than were asked for.</summary>
    ProfileTooMany,

    /// <summary>The authority, or one above it, may not certify this name.</summary>
    OutOfBounds,

    /// <summary>It is not a name that a certificate may carry.</summary>
    Malformed,
}

/// <summary>What was decided about one name, and on what evidence.</summary>
public sealed record NameVerdict(string Name, Verdict Verdict, VerdictReason Reason, string Evidence, string Cure);

/// <summary>A zone and the group that may have names in it certified.</summary>
public sealed record ZoneHolding(DnsName Zone, string Group);

/// <summary>The facts that names are decided on, all looked up before.</summary>
/// <param name="HostName">The host the certificate is for, or null when somebody brings a request of their own.</param>
/// <param name="HostAddresses">Addresses on which that host's agent has seen its services listen.</param>
/// <param name="Groups">The requester's groups.</param>
/// <param name="Zones">All zone holdings.</param>
/// <param name="OtherHosts">Names of all other registered hosts.</param>
/// <param name="ServedElsewhere">Names that services on other hosts answer to with TLS, with the host's name.</param>
public sealed record NameFacts(
    string? HostName,
    IReadOnlyCollection<string> HostAddresses,
    IReadOnlyCollection<string> Groups,
    IReadOnlyCollection<ZoneHolding> Zones,
    IReadOnlyCollection<string> OtherHosts,
    IReadOnlyDictionary<string, string> ServedElsewhere
);

/// <summary>Decides about each requested name. There is no way around it: every path that issues comes through here.</summary>
public static class NameDecision
{
    /// <param name="bounds">Name constraints of the authorities in the chain (RFC 5280 section 4.2.1.10).</param>
    public static IReadOnlyList<NameVerdict> Decide(
        IEnumerable<string> names,
        Profile profile,
        NameFacts facts,
        IReadOnlyCollection<NameConstraints> bounds
    )
    {
        var verdicts = new List<NameVerdict>();
        var seen = new HashSet<string>();
        foreach (var text in names)
        {
            if (!AlternativeName.TryParse(text, out var name, out var fault))
            {
                var (what, cure) = NameFaults.Describe(fault);
                verdicts.Add(new(text.Trim(), Verdict.Refused, VerdictReason.Malformed, "It " + what + ".", cure));
            }
            else if (!seen.Add(name!.ToString()))
                continue;
            else if (seen.Count > profile.Names.Most)
                verdicts.Add(
                    new(
                        name.Value,
                        Verdict.Refused,
                        VerdictReason.ProfileTooMany,
                        $"The profile \"{profile.Id}\" issues at most {profile.Names.Most} names in one certificate.",
                        "Split them over several certificates."
                    )
                );
            else if (bounds.FirstOrDefault(b => b.FirstAgainst([name]) is not null) is { } bound)
                verdicts.Add(
                    new(
                        name.Value,
                        Verdict.Refused,
                        VerdictReason.OutOfBounds,
                        $"The authority may certify {bound} only; clients would refuse the whole certificate.",
                        "Leave this name out, or have the authority's bounds widened at its renewal."
                    )
                );
            else
                verdicts.Add(
                    name.Kind == NameKind.Ip ? DecideAddress(name, profile, facts) : DecideDns(DnsName.Parse(name.Value), profile, facts)
                );
        }
        return verdicts;
    }

    private static NameVerdict DecideAddress(AlternativeName name, Profile profile, NameFacts facts)
    {
        if (!profile.Names.Addresses)
            return new(
                name.Value,
                Verdict.Refused,
                VerdictReason.ProfileNoAddresses,
                $"The profile \"{profile.Id}\" issues no addresses.",
                "Ask for a host name, or choose another profile."
            );
        return facts.HostAddresses.Any(a => IPAddress.TryParse(a, out var ip) && ip.ToString() == name.Value)
            ? new(name.Value, Verdict.Granted, VerdictReason.HostOwnsAddress, $"A service on {facts.HostName} listens on this address.", "")
            : new(
                name.Value,
                Verdict.NeedsApproval,
                VerdictReason.AddressNotOfHost,
                "No service that is known on the host listens on this address.",
                "Somebody else must approve it; or ask for a host name instead."
            );
    }

    private static NameVerdict DecideDns(DnsName name, Profile profile, NameFacts facts)
    {
        var text = name.Ascii;
        if (profile.Names.OwnHostOnly)
            return text == facts.HostName
                ? new(text, Verdict.Granted, VerdictReason.HostOwnsName, "It is the host's own name.", "")
                : new(
                    text,
                    Verdict.Refused,
                    VerdictReason.ProfileOwnNameOnly,
                    $"The profile \"{profile.Id}\" issues the host's own name only.",
                    "Leave this name out."
                );
        if (!profile.Names.HostNames)
            return new(
                text,
                Verdict.Refused,
                VerdictReason.ProfileNoHostNames,
                $"The profile \"{profile.Id}\" issues no host names.",
                "Choose another profile."
            );
        if (profile.Names.Within.Count > 0 && !profile.Names.Within.Any(z => Below(name, z)))
            return new(
                text,
                Verdict.Refused,
                VerdictReason.ProfileOtherZone,
                $"The profile \"{profile.Id}\" issues names in {string.Join(", ", profile.Names.Within)} only.",
                "Leave this name out, or choose another profile."
            );
        if (name.IsWildcard && !profile.Names.Wildcards)
            return new(
                text,
                Verdict.Refused,
                VerdictReason.ProfileNoWildcards,
                $"The profile \"{profile.Id}\" issues no wildcards.",
                "Name each host, or choose another profile."
            );

        var zone = facts
            .Zones.Where(z => facts.Groups.Contains(z.Group) && Below(name, z.Zone))
            .OrderByDescending(z => z.Zone.Ascii.Length)
            .FirstOrDefault();
        var own = text == facts.HostName;
        if (zone is null && !own)
            return new(
                text,
                Verdict.Refused,
                VerdictReason.NoZone,
                "It is in no zone that your groups hold.",
                facts.Zones.Any(z => Below(name, z.Zone))
                    ? "Ask a member of the group " + facts.Zones.First(z => Below(name, z.Zone)).Group + " to request it."
                    : "Check the spelling; names of others' domains are not issued here."
            );
        if (own)
            return new(text, Verdict.Granted, VerdictReason.HostOwnsName, "It is the host's own name.", "");
        if (name.IsWildcard)
            return new(
                text,
                Verdict.NeedsApproval,
                VerdictReason.WildcardReachesFar,
                $"It stands for every name directly below {text[2..]}, on any host.",
                "Somebody else must approve it; or name each host."
            );
        if (facts.OtherHosts.Contains(text))
            return new(
                text,
                Verdict.NeedsApproval,
                VerdictReason.OtherHostsName,
                "Another host is registered under this name.",
                "Somebody else must approve it; or request it for that host."
            );
        if (facts.ServedElsewhere.TryGetValue(text, out var other))
            return new(
                text,
                Verdict.NeedsApproval,
                VerdictReason.ServedElsewhere,
                $"{other} serves this name with a certificate of its own now.",
                $"Somebody else must approve it; or request it for {other}."
            );
        return new(text, Verdict.Granted, VerdictReason.ZoneHeld, $"Your group \"{zone!.Group}\" holds the zone {zone.Zone}.", "");
    }

    private static bool Below(DnsName name, DnsName zone) => (name.IsWildcard ? DnsName.Parse(name.Ascii[2..]) : name).IsWithin(zone);

    /// <summary>The verdict over all names together: the worst one; refused when there are none.</summary>
    public static Verdict Overall(IReadOnlyList<NameVerdict> verdicts) =>
        verdicts.Count == 0 ? Verdict.Refused : verdicts.Max(v => v.Verdict);
}
