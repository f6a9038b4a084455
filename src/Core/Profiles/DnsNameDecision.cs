using OrderlyBeacon.Core.Names;
using static OrderlyBeacon.Core.Profiles.NameDecision;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>
/// Decides about one DNS name, the first rule that speaks deciding: what no certificate may carry, what the profile does not issue, whose name it is by register and directory,
/// then who holds its zone and where DNS says that it leads.
/// </summary>
internal sealed class DnsNameDecision(AlternativeName name, DnsName dns, Profile profile, NameFacts facts)
{
    private string Text => name.Value;

    public NameVerdict Verdict()
    {
        var isOwn = facts.IsOwn(Text);
        if (profile.Names.OwnHostOnly)
            return isOwn ? Own() : OwnOnly();
        return BySpecialName() ?? ByProfile() ?? ByComputer(isOwn) ?? ByZone() ?? ByAlias() ?? ByOthersZone() ?? NoZone();
    }

    private NameVerdict OwnOnly() =>
        Refused(
            name,
            VerdictReason.ProfileOwnNameOnly,
            $"The profile \"{profile.Id}\" issues the host's own name only.",
            "Leave this name out."
        );

    private NameVerdict Own() =>
        Text == facts.HostName
            ? Granted(name, VerdictReason.HostOwnsName, "It is the host's own name.")
            : Granted(name, VerdictReason.ComputersName, $"The directory has it as a DNS name of {facts.Computer!.Account}.");

    private NameVerdict? BySpecialName() =>
        SpecialNames.WhyReserved(dns) is { } why
            ? Refused(name, VerdictReason.ReservedName, $"It {why}.", "Leave it out; ask for the name that clients connect to.")
            : null;

    private NameVerdict? ByProfile()
    {
        if (!profile.Names.HostNames)
            return Refused(
                name,
                VerdictReason.ProfileNoHostNames,
                $"The profile \"{profile.Id}\" issues no host names.",
                "Choose another profile."
            );
        if (profile.Names.Within.Count > 0 && !profile.Names.Within.Any(IsBelow))
            return Refused(
                name,
                VerdictReason.ProfileOtherZone,
                $"The profile \"{profile.Id}\" issues names in {string.Join(", ", profile.Names.Within)} only.",
                "Leave this name out, or choose another profile."
            );
        if (profile.Names.Outward && SpecialNames.WhyInside(dns) is { } inside)
            return Refused(
                name,
                VerdictReason.InsideOnly,
                $"It {inside}, and the profile \"{profile.Id}\" is for what faces outward.",
                "Ask for the full name that clients outside use, or choose a profile for inside."
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

    /// <summary>A name of a computer is that computer's. A name that is in use here is not taken away by what another host says, only looked at by a person where the directory says it.</summary>
    private NameVerdict? ByComputer(bool isOwn)
    {
        if (facts.OtherComputers.TryGetValue(Text, out var account))
            return ByOtherComputer(isOwn, account);
        if (isOwn)
            return Own();
        if (!dns.IsWildcard && facts.Computer?.ServiceNames.GetValueOrDefault(Text) is { } principal)
            return Granted(
                name,
                VerdictReason.ServicePrincipal,
                $"{principal} is a service principal of {facts.Computer.Account} in the directory."
            );
        if (facts.Held.Contains(Text) || !facts.OtherHosts.Contains(Text))
            return null;
        const string evidence = "Another host is registered under this name.";
        if (facts.HostName is not null)
            return Refused(name, VerdictReason.OtherHostsName, evidence, "Request it for that host.");
        return HeldByRequester() is null
            ? null
            : Waits(name, VerdictReason.OtherHostsName, evidence, "Somebody else must approve it; or request it for that host.");
    }

    private NameVerdict? ByOtherComputer(bool isOwn, string account)
    {
        var claim = isOwn
            ? $"The directory has it for this computer and for {account}."
            : $"The directory has it as a name of the computer {account}.";
        if (!isOwn && !facts.Held.Contains(Text) && facts.HostName is not null)
            return Refused(
                name,
                VerdictReason.OtherComputersName,
                claim,
                $"Request it on that computer, or take the name from {account} in the directory."
            );
        var holders = HeldByRequester() is null ? Holders() : [];
        // In no zone of ours it is refused for that.
        return holders.Count == 0 && HeldByRequester() is null
            ? null
            : Waits(
                name,
                VerdictReason.OtherComputersName,
                claim,
                $"Somebody else must approve it; or take it from {account} in the directory."
            ) with
            {
                Holders = holders,
            };
    }

    private NameVerdict? ByZone()
    {
        if (HeldByRequester() is not { } zone)
            return null;
        if (dns.IsWildcard)
            return Wildcard(zone);
        if (!facts.Held.Contains(Text) && facts.ServedElsewhere.TryGetValue(Text, out var other))
            return Waits(
                name,
                VerdictReason.ServedElsewhere,
                $"{other} says that it serves this name with a certificate of its own now.",
                $"Somebody else must approve it; or request it for {other}."
            );
        return Granted(name, VerdictReason.ZoneHeld, $"{Whose(zone)} holds the zone {zone.Zone}.");
    }

    private NameVerdict Wildcard(ZoneHolding zone)
    {
        if (!zone.Wildcards)
            return Refused(
                name,
                VerdictReason.ZoneNoWildcards,
                $"{Whose(zone)} holds the zone {zone.Zone}, but not for wildcards.",
                "Name each host; or have wildcards allowed for the zone (BEACON_ZONES)."
            );
        var shared = facts.Zones.FirstOrDefault(z =>
            !facts.Groups.Contains(z.Group) && (z.Zone.Ascii == dns.Ascii[2..] || HostNameMatch.DnsFits(z.Zone.Ascii, dns.Ascii))
        );
        return shared is not null
            ? Refused(
                name,
                VerdictReason.WildcardOverSharedZone,
                $"It would stand for names in {shared.Zone}, which the group \"{shared.Group}\" holds.",
                "Name each host; or use a wildcard in a zone that your groups hold alone."
            )
            : Waits(
                name,
                VerdictReason.WildcardReachesFar,
                $"It stands for every name directly below {dns.Ascii[2..]}, on any host.",
                "Somebody else must approve it; or name each host."
            );
    }

    /// <summary>An alias is the word of whoever runs the zone; it counts in zones of ours alone, since anybody can point a name of their own here.</summary>
    private NameVerdict? ByAlias()
    {
        if (dns.IsWildcard || facts.Dns.GetValueOrDefault(Text) is not { Problem: null, Chain: [.., var end] } answer)
            return null;
        return facts.IsOwn(end) && facts.Zones.Any(z => IsBelow(z.Zone))
            ? Granted(name, VerdictReason.AliasEndsHere, $"It is an alias that ends at this computer. {answer.Text(Text)}")
            : null;
    }

    private NameVerdict? ByOthersZone()
    {
        var holders = Holders();
        return holders.Count == 0
            ? null
            : Waits(
                name,
                VerdictReason.ZoneOfOthers,
                $"It is in a zone that {Group(holders)} {(holders.Count == 1 ? "holds" : "hold")}, and the requester is not in it.{Said()}",
                $"A member of {Group(holders)} must approve it{(facts.Computer is { } c && !dns.IsWildcard ? $"; or add a service principal for it to {c.Account}, or make it an alias of {facts.HostName} in DNS" : "")}."
            ) with
            {
                Holders = holders,
            };
    }

    private NameVerdict NoZone() =>
        Refused(
            name,
            VerdictReason.NoZone,
            "It is in no zone that the requester's groups hold." + Said(),
            "Check the spelling; names of others' domains are not issued here."
        );

    private string Said() => facts.Dns.GetValueOrDefault(Text) is { } answer ? " " + answer.Text(Text) : "";

    private string Whose(ZoneHolding zone) =>
        facts.Computer is { } c && c.Groups.Contains(zone.Group)
            ? $"The group \"{zone.Group}\", which {c.Account} is in,"
            : $"The requester's group \"{zone.Group}\"";

    private ZoneHolding? HeldByRequester() =>
        facts
            .Zones.Where(z => facts.Groups.Contains(z.Group) && IsBelow(z.Zone) && z.Reaches(dns, profile.Id))
            .OrderByDescending(z => z.Zone.Ascii.Length)
            .FirstOrDefault();

    /// <summary>Those who hold the smallest zone that the name is in.</summary>
    private List<string> Holders()
    {
        var all = facts.Zones.Where(z => IsBelow(z.Zone) && z.Reaches(dns, profile.Id)).ToList();
        var longest = all.Count == 0 ? 0 : all.Max(z => z.Zone.Ascii.Length);
        return [.. all.Where(z => z.Zone.Ascii.Length == longest).Select(z => z.Group).Distinct()];
    }

    private static string Group(List<string> groups) =>
        (groups.Count == 1 ? "the group " : "the groups ") + string.Join(" and ", groups.Select(g => $"\"{g}\""));

    private bool IsBelow(DnsName zone) => (dns.IsWildcard ? DnsName.Parse(dns.Ascii[2..]) : dns).IsWithin(zone);
}
