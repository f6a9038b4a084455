namespace OrderlyBeacon.Contracts;

public sealed record HostInfo(
    string Name,
    HostState State,
    bool Online,
    DateTimeOffset? LastSeen,
    string? AgentVersion,
    IReadOnlyList<string> Addresses,
    int Services,
    DateTimeOffset? AgentCertificateEnds,
    ProblemInfo? Problem
)
{
    /// <summary>Who may order work on it.</summary>
    public string Owner
    {
        get => field ?? "";
        init;
    }

    /// <summary>The kind of device that it is, reached by another host's agent; null for a host with an agent of its own.</summary>
    public string? Device { get; init; }

    /// <summary>The host whose agent reaches it.</summary>
    public string? Via { get; init; }

    /// <summary>Where that agent reaches it.</summary>
    public string? DeviceAddress { get; init; }

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

/// <summary>A device that a host's agent reaches.</summary>
/// <param name="Via">The host whose agent reaches it.</param>
/// <param name="Kind">As <c>appliance</c>, or a kind with a shell that its agent knows.</param>
/// <param name="Address">As <c>https://fw01.thistledown.example:8443</c>, or <c>ssh://root@hv01-admin:22</c>.</param>
/// <param name="Sealed">A <see cref="DeviceAccess"/>, sealed to that host's key (RFC 9180), Base64.</param>
public sealed record DeviceWish(string Via, string Kind, string Address, string Sealed, string? Owner);

/// <summary>How an agent gets into a device; it travels sealed, and stays with the agent.</summary>
/// <param name="Address">As <c>https://fw01-admin:8443</c>, or <c>ssh://root@hv01-admin:22</c>.</param>
/// <param name="Token">A token of one of its keepers; null for devices with a shell, where the agent has a key of its own.</param>
/// <param name="Fingerprint">
/// SHA-256 of the certificate that the device shows, hexadecimal, or of its host key, as <c>SHA256:</c> and Base64; null has the agent say which it is.
/// </param>
public sealed record DeviceAccess(string Kind, string Address, string? Token, string? Fingerprint)
{
    /// <summary>Where clients come to a device with a shell, when it is not its kind's own port.</summary>
    public int? Port { get; init; }
}

public sealed record HostDetail(HostInfo Host, IReadOnlyList<ServiceInfo> Services, IReadOnlyList<StoreEntryInfo> Entries)
{
    /// <summary>The public key that what only its agent may read is sealed to (RFC 9180), Base64; null from agents that have none.</summary>
    public string? SealKey { get; init; }

    /// <summary>Intermediates and anchors of its store.</summary>
    public IReadOnlyList<StoreAuthorityInfo> Authorities
    {
        get => field ?? [];
        init;
    }
}

/// <param name="Owner">Who may order work on it: a person's name, or <c>group:NAME</c>; the administrators when left out.</param>
public sealed record NewHost(string Name, string? Owner = null);

/// <param name="Code">To be typed on the host once; holds the root's fingerprint, so that the agent knows whom to trust.</param>
public sealed record HostInvitation(string Name, string Code, DateTimeOffset Until, string Command);

/// <summary>Has the service connect to an address and meet the host's agent there.</summary>
public sealed record MeetWish(string Address);
