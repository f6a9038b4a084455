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

    /// <summary>The requester's group holds a network that the address is in.</summary>
    NetworkHeld,

    /// <summary>The service itself connected to the address and met the host's agent there.</summary>
    MetAtAddress,

    /// <summary>People approved it for this certificate before.</summary>
    ApprovedBefore,

    /// <summary>People approved it now.</summary>
    ApprovedNow,

    /// <summary>The service names itself.</summary>
    ServiceItself,

    /// <summary>A wildcard reaches further than one service.</summary>
    WildcardReachesFar,

    /// <summary>Another host says that it serves this name now.</summary>
    ServedElsewhere,

    /// <summary>Another host is registered under this name.</summary>
    OtherHostsName,

    /// <summary>Nothing but the host's own word says that the address is its own.</summary>
    AddressNotOfHost,

    /// <summary>No host can have the address alone: loopback, link-local, multicast, documentation.</summary>
    AddressNever,

    /// <summary>The service itself is called so, or the wildcard stands for a name of the service.</summary>
    ServiceName,

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
/// <param name="Name">As <see cref="AlternativeName.ToString"/> writes it; as it was typed when it is malformed.</param>
public sealed record NameVerdict(string Name, Verdict Verdict, VerdictReason Reason, string Evidence, string Cure);

/// <summary>A zone and the group that may have names in it certified.</summary>
public sealed record ZoneHolding(DnsName Zone, string Group);

/// <summary>A network and the group that may have addresses in it certified.</summary>
public sealed record NetworkHolding(Network Network, string Group);

/// <summary>
/// The facts that names are decided on, all looked up before. Names and addresses are in the form of <see cref="AlternativeName.ToString"/>.
/// What a host says about itself is not among them, except <see cref="ServedElsewhere"/>, which can only make a verdict stricter.
/// </summary>
public sealed record NameFacts
{
    /// <summary>The host the certificate is for, or null when somebody brings a request of their own.</summary>
    public string? HostName { get; init; }

    /// <summary>The requester's groups.</summary>
    public IReadOnlyCollection<string> Groups { get; init; } = [];

    /// <summary>All zone holdings.</summary>
    public IReadOnlyCollection<ZoneHolding> Zones { get; init; } = [];

    /// <summary>All network holdings.</summary>
    public IReadOnlyCollection<NetworkHolding> Networks { get; init; } = [];

    /// <summary>Addresses at which the service itself met this host's agent.</summary>
    public IReadOnlyCollection<string> MetAt { get; init; } = [];

    /// <summary>Names of all other registered hosts.</summary>
    public IReadOnlyCollection<string> OtherHosts { get; init; } = [];

    /// <summary>Names that services on other hosts answer to with TLS, by those hosts' own word, with the host's name.</summary>
    public IReadOnlyDictionary<string, string> ServedElsewhere { get; init; } = new Dictionary<string, string>();

    /// <summary>What the service itself is called.</summary>
    public IReadOnlyCollection<string> ServiceNames { get; init; } = [];

    /// <summary>Names that this certificate's edition in use has: somebody else's claim does not take them away.</summary>
    public IReadOnlyCollection<string> Held { get; init; } = [];

    /// <summary>Names that people approved for this certificate before: what only needs approval is granted.</summary>
    public IReadOnlyCollection<string> ApprovedBefore { get; init; } = [];
}

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
            else if (seen.Add(name!.ToString()))
                verdicts.Add(Remarked(text, name, One(name, seen.Count, profile, facts, bounds)));
        }
        return verdicts;
    }

    private static NameVerdict One(
        AlternativeName name,
        int count,
        Profile profile,
        NameFacts facts,
        IReadOnlyCollection<NameConstraints> bounds
    )
    {
        if (count > profile.Names.Most)
            return Refused(
                name,
                VerdictReason.ProfileTooMany,
                $"The profile \"{profile.Id}\" issues at most {profile.Names.Most} names in one certificate.",
                "Split them over several certificates."
            );
        var dns = name.Kind == NameKind.Dns ? DnsName.Parse(name.Value) : null;
        // Before anything else, since no evidence helps.
        if (ReservedBy(name, dns, facts) is { } reserved)
            return Refused(name, VerdictReason.ServiceName, reserved, "Leave it out: the service makes its own certificate.");
        var verdict = dns is null ? DecideAddress(name, profile, facts) : DecideDns(name, dns, profile, facts);
        // Whoever may not have the name anyway needs to hear that, not what the authority lacks.
        if (verdict.Verdict != Verdict.Refused && bounds.FirstOrDefault(b => b.FirstAgainst([name]) is not null) is { } bound)
            return Refused(
                name,
                VerdictReason.OutOfBounds,
                $"The authority may certify {bound}; clients would refuse the whole certificate.",
                "Leave this name out, or have the authority's bounds widened at its renewal: beacon authority rehearse issuing."
            );
        return verdict.Verdict == Verdict.NeedsApproval && facts.ApprovedBefore.Contains(name.ToString())
            ? Granted(name, VerdictReason.ApprovedBefore, verdict.Evidence + " It was approved for this certificate before.")
            : verdict;
    }

    /// <summary>Said in so many words, where the name is not what was typed: somebody pasted what nobody sees.</summary>
    private static NameVerdict Remarked(string typed, AlternativeName name, NameVerdict v)
    {
        if (typed.All(char.IsAscii))
            return v;
        var invisible = Idna.Invisible(typed);
        var remark =
            invisible.Count > 0
                ? $"An invisible character in it ({string.Join(", ", invisible)}) was left out."
                : $"It is written {name.Value} in certificates.";
        return v with { Evidence = $"{v.Evidence} {remark}" };
    }

    private static string? ReservedBy(AlternativeName name, DnsName? dns, NameFacts facts)
    {
        if (facts.ServiceNames.Contains(name.ToString()))
            return "The service itself is called so.";
        var covered = dns is { IsWildcard: true } ? facts.ServiceNames.FirstOrDefault(s => HostNameMatch.DnsFits(s, dns.Ascii)) : null;
        return covered is null ? null : $"It stands for {covered} too, which is the service itself.";
    }

    private static NameVerdict DecideAddress(AlternativeName name, Profile profile, NameFacts facts)
    {
        if (!profile.Names.Addresses)
            return Refused(
                name,
                VerdictReason.ProfileNoAddresses,
                $"The profile \"{profile.Id}\" issues no addresses.",
                "Ask for a host name, or choose another profile."
            );
        var address = IPAddress.Parse(name.Value);
        if (AddressKinds.Objection(address) is { } never)
            return Refused(
                name,
                VerdictReason.AddressNever,
                $"It {never}: a certificate for it would be good for everybody.",
                "Ask for a host name instead."
            );
        if (facts.Networks.FirstOrDefault(n => facts.Groups.Contains(n.Group) && n.Network.Contains(address)) is { } held)
            return Granted(name, VerdictReason.NetworkHeld, $"The requester's group \"{held.Group}\" holds the network {held.Network}.");
        if (facts.MetAt.Contains(name.ToString()))
            return Granted(name, VerdictReason.MetAtAddress, $"The service connected to it and met the agent of {facts.HostName} there.");
        return new(
            name.ToString(),
            Verdict.NeedsApproval,
            VerdictReason.AddressNotOfHost,
            "It is in no network that the requester's groups hold; what a host says of itself is no evidence.",
            "Somebody else must approve it; or ask for a host name instead."
        );
    }

    private static NameVerdict DecideDns(AlternativeName name, DnsName dns, Profile profile, NameFacts facts)
    {
        var own = dns.Ascii == facts.HostName;
        if (profile.Names.OwnHostOnly)
            return own
                ? Granted(name, VerdictReason.HostOwnsName, "It is the host's own name.")
                : Refused(
                    name,
                    VerdictReason.ProfileOwnNameOnly,
                    $"The profile \"{profile.Id}\" issues the host's own name only.",
                    "Leave this name out."
                );
        if (ByProfile(name, dns, profile) is { } no)
            return no;
        var zone = facts
            .Zones.Where(z => facts.Groups.Contains(z.Group) && Below(dns, z.Zone))
            .OrderByDescending(z => z.Zone.Ascii.Length)
            .FirstOrDefault();
        if (own)
            return Granted(name, VerdictReason.HostOwnsName, "It is the host's own name.");
        if (zone is null)
            return Refused(
                name,
                VerdictReason.NoZone,
                "It is in no zone that the requester's groups hold.",
                facts.Zones.FirstOrDefault(z => Below(dns, z.Zone)) is { } others
                    ? $"Ask a member of the group {others.Group} to request it."
                    : "Check the spelling; names of others' domains are not issued here."
            );
        if (dns.IsWildcard)
            return Waits(
                name,
                VerdictReason.WildcardReachesFar,
                $"It stands for every name directly below {dns.Ascii[2..]}, on any host.",
                "Somebody else must approve it; or name each host."
            );
        if (!facts.Held.Contains(name.ToString()) && Claimed(name, facts) is { } claimed)
            return claimed;
        return Granted(name, VerdictReason.ZoneHeld, $"The requester's group \"{zone.Group}\" holds the zone {zone.Zone}.");
    }

    private static NameVerdict? ByProfile(AlternativeName name, DnsName dns, Profile profile)
    {
        if (!profile.Names.HostNames)
            return Refused(
                name,
                VerdictReason.ProfileNoHostNames,
                $"The profile \"{profile.Id}\" issues no host names.",
                "Choose another profile."
            );
        if (profile.Names.Within.Count > 0 && !profile.Names.Within.Any(z => Below(dns, z)))
            return Refused(
                name,
                VerdictReason.ProfileOtherZone,
                $"The profile \"{profile.Id}\" issues names in {string.Join(", ", profile.Names.Within)} only.",
                "Leave this name out, or choose another profile."
            );
        return dns.IsWildcard && !profile.Names.Wildcards
            ? Refused(
                name,
                VerdictReason.ProfileNoWildcards,
                $"The profile \"{profile.Id}\" issues no wildcards.",
                "Name each host, or choose another profile."
            )
            : null;
    }

    /// <summary>Somebody else's claim makes a person look at what is new; it never takes a name away.</summary>
    private static NameVerdict? Claimed(AlternativeName name, NameFacts facts)
    {
        if (facts.OtherHosts.Contains(name.Value))
            return Waits(
                name,
                VerdictReason.OtherHostsName,
                "Another host is registered under this name.",
                "Somebody else must approve it; or request it for that host."
            );
        return facts.ServedElsewhere.TryGetValue(name.Value, out var other)
            ? Waits(
                name,
                VerdictReason.ServedElsewhere,
                $"{other} says that it serves this name with a certificate of its own now.",
                $"Somebody else must approve it; or request it for {other}."
            )
            : null;
    }

    private static NameVerdict Granted(AlternativeName name, VerdictReason reason, string evidence) =>
        new(name.ToString(), Verdict.Granted, reason, evidence, "");

    private static NameVerdict Refused(AlternativeName name, VerdictReason reason, string evidence, string cure) =>
        new(name.ToString(), Verdict.Refused, reason, evidence, cure);

    private static NameVerdict Waits(AlternativeName name, VerdictReason reason, string evidence, string cure) =>
        new(name.ToString(), Verdict.NeedsApproval, reason, evidence, cure);

    private static bool Below(DnsName name, DnsName zone) => (name.IsWildcard ? DnsName.Parse(name.Ascii[2..]) : name).IsWithin(zone);

    /// <summary>The verdict over all names together: the worst one; refused when there are none.</summary>
    public static Verdict Overall(IReadOnlyList<NameVerdict> verdicts) =>
        verdicts.Count == 0 ? Verdict.Refused : verdicts.Max(v => v.Verdict);
}
