namespace OrderlyBeacon.Contracts;

/// <summary>How the service stands with its directory and DNS.</summary>
/// <param name="Answered">When it answered last.</param>
/// <param name="Minutes">For how long an answer is kept.</param>
/// <param name="Dns">Whether DNS is asked about names.</param>
/// <param name="Zones">Who may have which names certified.</param>
public sealed record DirectoryState(
    bool Present,
    string Called,
    string Domain,
    DateTimeOffset? Answered,
    DirectoryAway? Away,
    double Minutes,
    bool Dns,
    IReadOnlyList<ZoneInfo> Zones
);

public sealed record DirectoryAway(DateTimeOffset Since, string Message, string Cure);

/// <param name="Zone">A zone, or a network in prefix form.</param>
/// <param name="Depth">How many labels a name may have in front of it; null sets no bound.</param>
/// <param name="Profile">The only profile that it is good for; null for any.</param>
public sealed record ZoneInfo(string Zone, string Group, bool Wildcards, int? Depth, string? Profile);

/// <summary>What directory and DNS know about a name.</summary>
public sealed record NameInDirectory(string Name, IReadOnlyList<ComputerInfo> Computers, string? Dns, IReadOnlyList<string> Zones);

public sealed record ComputerInfo(
    string Account,
    IReadOnlyList<string> Names,
    IReadOnlyList<string> Principals,
    IReadOnlyList<string> Groups,
    bool Enabled,
    DateTimeOffset AsOf
);
