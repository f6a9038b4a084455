using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>A zone and the group that may have names in it certified.</summary>
public sealed record ZoneHolding(DnsName Zone, string Group)
{
    /// <summary>Whether wildcards may be asked for; they need approval all the same.</summary>
    public bool Wildcards { get; init; } = true;

    /// <summary>How many labels a name may have in front of the zone; null sets no bound.</summary>
    public int? Depth { get; init; }

    /// <summary>The only profile that it is good for; null for any.</summary>
    public string? Profile { get; init; }

    /// <summary>Whether a name in the zone may be had by it. A wildcard's star counts as a label.</summary>
    public bool Reaches(DnsName name, string profile) =>
        (Profile is null || Profile == profile) && (Depth is not { } most || LabelsOf(name.Ascii) - LabelsOf(Zone.Ascii) <= most);

    private static int LabelsOf(string name) => name.Count(c => c == '.') + 1;
}

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

    /// <summary>Whether the host may still have the name that it is registered under: of one that joined by its account, the directory must have it for that account.</summary>
    public bool OwnsHostName { get; init; } = true;

    /// <summary>The requester's groups.</summary>
    public IReadOnlyCollection<string> Groups { get; init; } = [];

    /// <summary>All zone holdings.</summary>
    public IReadOnlyCollection<ZoneHolding> Zones { get; init; } = [];

    /// <summary>All network holdings.</summary>
    public IReadOnlyCollection<NetworkHolding> Networks { get; init; } = [];

    /// <summary>Addresses at which the service itself met this host's agent.</summary>
    public IReadOnlyCollection<string> MetAt { get; init; } = [];

    /// <summary>The computer that the certificate is for; null when no directory knows it, or none is asked.</summary>
    public ComputerFacts? Computer { get; init; }

    /// <summary>Names that the directory has for other computers, with their accounts.</summary>
    public IReadOnlyDictionary<string, string> OtherComputers { get; init; } = new Dictionary<string, string>();

    /// <summary>What DNS said about names; names that it was not asked for are missing.</summary>
    public IReadOnlyDictionary<string, DnsFacts> Dns { get; init; } = new Dictionary<string, DnsFacts>();

    /// <summary>What DNS said about addresses.</summary>
    public IReadOnlyDictionary<string, ReverseFacts> Reverse { get; init; } = new Dictionary<string, ReverseFacts>();

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

    /// <summary>Whether it is a name of the host itself: the one that it is registered under, or one that the directory has for it.</summary>
    public bool IsOwn(string name) => (OwnsHostName && name == HostName) || (Computer?.Names.Contains(name) ?? false);
}
