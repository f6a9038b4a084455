using System.Net;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

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
        var verdict = dns is null ? DecideAddress(name, profile, facts) : new DnsNameDecision(name, dns, profile, facts).Verdict();
        // Whoever may not have the name anyway needs to hear that, not what the authority lacks.
        if (verdict.Verdict != Verdict.Refused && bounds.FirstOrDefault(b => b.FirstAgainst([name]) is not null) is { } bound)
            return Refused(
                name,
                VerdictReason.OutOfBounds,
                $"The authority may certify {bound}; clients would refuse the whole certificate.",
                "Leave this name out, or have the authority's bounds widened at its renewal: beacon authority rehearse issuing."
            );
        // What was approved before was approved while no other computer had the name.
        return
            verdict.Verdict == Verdict.NeedsApproval
            && verdict.Reason != VerdictReason.OtherComputersName
            && facts.ApprovedBefore.Contains(name.ToString())
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
        if (profile.Names.Outward && SpecialNames.IsInside(address))
            return Refused(
                name,
                VerdictReason.InsideOnly,
                $"It is an address of inside networks, and the profile \"{profile.Id}\" is for what faces outward.",
                "Ask for a host name, or choose a profile for inside."
            );
        if (facts.Networks.FirstOrDefault(n => facts.Groups.Contains(n.Group) && n.Network.Contains(address)) is { } held)
            return Granted(name, VerdictReason.NetworkHeld, $"The requester's group \"{held.Group}\" holds the network {held.Network}.");
        if (facts.MetAt.Contains(name.ToString()))
            return Granted(name, VerdictReason.MetAtAddress, $"The service connected to it and met the agent of {facts.HostName} there.");
        var reverse = facts.Reverse.GetValueOrDefault(name.ToString());
        if (reverse?.Confirmed.FirstOrDefault(facts.IsOwn) is { } own)
            return Granted(
                name,
                VerdictReason.ReverseAndForward,
                $"DNS calls it {own}, and {own} leads back to it; that is a name of {facts.HostName}."
            );
        return Waits(
            name,
            VerdictReason.AddressNotOfHost,
            "It is in no network that the requester's groups hold; what a host says of itself is no evidence." + Said(reverse),
            "Somebody else must approve it; or give it reverse and forward entries in DNS that name this host, or ask for a host name instead."
        );
    }

    private static string Said(ReverseFacts? reverse) =>
        reverse switch
        {
            null => "",
            { Problem: { } problem } => $" DNS: {problem}.",
            { Confirmed.Count: > 0 } => $" DNS calls it {string.Join(", ", reverse.Confirmed.Take(3))}.",
            _ => $" DNS calls it {string.Join(", ", reverse.Names.Take(3))}, which does not lead back to it.",
        };

    internal static NameVerdict Granted(AlternativeName name, VerdictReason reason, string evidence) =>
        new(name.ToString(), Verdict.Granted, reason, evidence, "");

    internal static NameVerdict Refused(AlternativeName name, VerdictReason reason, string evidence, string cure) =>
        new(name.ToString(), Verdict.Refused, reason, evidence, cure);

    internal static NameVerdict Waits(AlternativeName name, VerdictReason reason, string evidence, string cure) =>
        new(name.ToString(), Verdict.NeedsApproval, reason, evidence, cure);

    /// <summary>The verdict over all names together: the worst one; refused when there are none.</summary>
    public static Verdict Overall(IReadOnlyList<NameVerdict> verdicts) =>
        verdicts.Count == 0 ? Verdict.Refused : verdicts.Max(v => v.Verdict);
}
