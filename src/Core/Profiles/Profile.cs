using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>Who must agree before a certificate under a profile is issued.</summary>
public enum ApprovalRule
{
    /// <summary>Nobody when every name is granted.</summary>
    WhenNeeded,
    /// <summary>Always one other person.</summary>
    Always,
}

/// <summary>Which names a profile issues.</summary>
/// <param name="Wildcards">Wildcard names may be asked for (they need approval).</param>
/// <param name="Addresses">IP addresses may be asked for.</param>
/// <param name="OwnHostOnly">Only the host's own name: for agents.</param>
public sealed record NameRules(bool Wildcards, bool Addresses, bool OwnHostOnly);

/// <summary>What may be issued and to whom. A revision never changes; a change makes the next one.</summary>
public sealed record Profile
{
    /// <summary>The short name in addresses and commands, as <c>server</c>.</summary>
    public required string Id { get; init; }
    public required int Revision { get; init; }
    public required string Title { get; init; }
    public required string Purpose { get; init; }
    public required TimeSpan Life { get; init; }
    public required IReadOnlyList<KeySpec> Keys { get; init; }
    public required KeyUsages KeyUsage { get; init; }
    public required IReadOnlyList<string> ExtendedKeyUsage { get; init; }
    public required NameRules Names { get; init; }
    public ApprovalRule Approval { get; init; } = ApprovalRule.WhenNeeded;

    /// <summary>Whether people may ask for it, or only agents and the service itself.</summary>
    public bool ForPeople { get; init; } = true;

    /// <summary>RSA keys may also encipher keys (TLS 1.2 key transport); elliptic ones must not say so (RFC 5480 section 3, RFC 8813).</summary>
    public KeyUsages KeyUsageFor(KeySpec key) =>
        key.Algorithm == KeyAlgorithm.Rsa ? KeyUsage : KeyUsage & ~(KeyUsages.KeyEncipherment | KeyUsages.DataEncipherment);

    public bool Allows(KeySpec key) => Keys.Contains(key);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.KeyNotAllowed"/>.</exception>
    public void CheckKey(KeySpec key)
    {
        if (!Allows(key))
            throw new BeaconProblem(ProblemCode.KeyNotAllowed, $"The profile \"{Id}\" does not allow a key of {key}.", "Use one of " + string.Join(", ", Keys) + ".");
    }

    /// <summary>The profiles a new authority starts with.</summary>
    public static IReadOnlyList<Profile> StartingSet { get; } =
    [
        new()
        {
            Id = "server", Revision = 1, Title = "Server", Purpose = "TLS servers: web, mail, database and the like.", Life = TimeSpan.FromDays(90),
            Keys = KeySpec.All, KeyUsage = KeyUsages.DigitalSignature | KeyUsages.KeyEncipherment, ExtendedKeyUsage = [Oids.ServerAuth],
            Names = new(Wildcards: true, Addresses: true, OwnHostOnly: false),
        },
        new()
        {
            Id = "server-brief", Revision = 1, Title = "Server, brief", Purpose = "TLS servers whose certificate is renewed every few minutes.", Life = TimeSpan.FromMinutes(10),
            Keys = [KeySpec.P256, KeySpec.P384], KeyUsage = KeyUsages.DigitalSignature, ExtendedKeyUsage = [Oids.ServerAuth],
            Names = new(Wildcards: false, Addresses: true, OwnHostOnly: false),
        },
        new()
        {
            Id = "agent", Revision = 1, Title = "Agent", Purpose = "An agent's own certificate towards this service.", Life = TimeSpan.FromDays(30),
            Keys = [KeySpec.P256], KeyUsage = KeyUsages.DigitalSignature, ExtendedKeyUsage = [Oids.ClientAuth],
            Names = new(Wildcards: false, Addresses: false, OwnHostOnly: true), ForPeople = false,
        },
        new()
        {
            Id = "responder", Revision = 1, Title = "Revocation responder", Purpose = "Signs OCSP answers for an authority; made by the service for itself.", Life = TimeSpan.FromDays(14),
            Keys = [KeySpec.P256], KeyUsage = KeyUsages.DigitalSignature, ExtendedKeyUsage = [Oids.OcspSigning],
            Names = new(Wildcards: false, Addresses: false, OwnHostOnly: false), ForPeople = false,
        },
    ];
}
