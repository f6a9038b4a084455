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

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

public sealed record HostDetail(HostInfo Host, IReadOnlyList<ServiceInfo> Services, IReadOnlyList<StoreEntryInfo> Entries);

/// <param name="Owner">Who may order work on it: a person's name, or <c>group:NAME</c>; the administrators when left out.</param>
public sealed record NewHost(string Name, string? Owner = null);

/// <param name="Code">To be typed on the host once; holds the root's fingerprint, so that the agent knows whom to trust.</param>
public sealed record HostInvitation(string Name, string Code, DateTimeOffset Until, string Command);

/// <summary>Has the service connect to an address and meet the host's agent there.</summary>
public sealed record MeetWish(string Address);
