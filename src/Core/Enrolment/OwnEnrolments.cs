using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>The rules for what nobody asks for: agents' own certificates, the service's, its responders'. Each has one shape, and no profile for people fits it.</summary>
public static class OwnEnrolments
{
    /// <param name="hostName">As the host's row has it.</param>
    public static GrantedDecision ForAgent(Profile profile, string hostName, DateTimeOffset now)
    {
        Expect(profile, ProfileUse.Agents);
        var name = AlternativeName.Dns(DnsName.Parse(hostName));
        var subject = name.Value.Length <= 64 ? DistinguishedName.ForCommonName(name.Value) : DistinguishedName.Empty;
        return new(
            profile,
            subject,
            [name],
            [new(name.ToString(), VerdictReason.HostOwnsName, "It is the host's own name, as it was invited.", [])],
            "agent:" + hostName,
            now
        );
    }

    /// <param name="names">What the service is called, by its settings.</param>
    public static GrantedDecision ForService(Profile profile, IReadOnlyList<AlternativeName> names, DateTimeOffset now)
    {
        Expect(profile, ProfileUse.Service);
        if (!profile.ExtendedKeyUsage.Contains(Oids.BeaconService))
            throw new ArgumentException("A profile without the service's mark.", nameof(profile));
        return new(
            profile,
            DistinguishedName.ForCommonName(names[0].Value),
            names,
            [
                .. names.Select(n => new NameGrant(
                    n.ToString(),
                    VerdictReason.ServiceItself,
                    "The service is called so by its settings.",
                    []
                )),
            ],
            "system",
            now
        );
    }

    /// <param name="subject">What the responder is called.</param>
    public static GrantedDecision ForResponder(Profile profile, DistinguishedName subject, DateTimeOffset now)
    {
        Expect(profile, ProfileUse.Service);
        return new(profile, subject, [], [], "system", now);
    }

    private static void Expect(Profile profile, ProfileUse use)
    {
        if (profile.Use != use)
            throw new ArgumentException($"The profile {profile.Id} is not for that.", nameof(profile));
    }
}
