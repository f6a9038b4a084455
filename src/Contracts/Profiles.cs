namespace OrderlyBeacon.Contracts;

public sealed record ProfileInfo(
    string Id,
    int Revision,
    string Title,
    string Purpose,
    string Life,
    IReadOnlyList<string> Keys,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    bool Wildcards,
    bool Addresses,
    bool ForPeople,
    string Approval
)
{
    /// <summary>Whether it may be asked for now.</summary>
    public bool Offered { get; init; } = true;

    /// <summary>Whether who looks may ask for it.</summary>
    public bool ForYou { get; init; } = true;
    public int Approvals { get; init; }

    /// <summary>Groups whose members may take keys out of their hosts; empty when keys stay.</summary>
    public IReadOnlyList<string> ReleaseTo
    {
        get => field ?? [];
        init;
    }
    public IReadOnlyList<string> MayAsk
    {
        get => field ?? [];
        init;
    }
}

/// <summary>A profile as it is written down; the same as JSON and as YAML. Its form is /api/profile.schema.json.</summary>
/// <param name="Life">As <c>90d</c>, <c>12h</c>.</param>
/// <param name="Subject"><c>request</c>, <c>first-name</c> or <c>empty</c>.</param>
/// <param name="Fixed">Attributes that every subject gets, as <c>O=Thistledown Rail</c>.</param>
/// <param name="MayAsk">Groups; empty lets anyone allowed to request certificates.</param>
/// <param name="Approvals">0, 1 or 2 other people.</param>
/// <param name="AuthorityDepth">Makes authorities with this path length; null makes none.</param>
public sealed record ProfileDefinition(
    string Id,
    string Title,
    string Purpose,
    string Life,
    IReadOnlyList<string> Keys,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    ProfileNames Names,
    string Subject,
    string Fixed,
    IReadOnlyList<string> MayAsk,
    int Approvals,
    int? AuthorityDepth
)
{
    /// <summary>Groups whose members may take the private key out of its host; empty makes keys that never leave.</summary>
    public IReadOnlyList<string> ReleaseTo
    {
        get => field ?? [];
        init;
    }

    /// <summary>The edition in use stands on its computer's object in the directory.</summary>
    public bool Published { get; init; }
}

/// <param name="Within">Zones; empty sets no bound.</param>
public sealed record ProfileNames(bool HostNames, bool Wildcards, bool Addresses, IReadOnlyList<string> Within, int Most)
{
    /// <summary>For what clients everywhere reach: no names and addresses that exist inside only.</summary>
    public bool Outward { get; init; }
}

public sealed record ProfileRevisionInfo(int Revision, DateTimeOffset At, string By, IReadOnlyList<ProfileDifference> Changes);

public sealed record ProfileDifference(string Field, string Before, string After);

public sealed record ProfileDetail(
    ProfileInfo Profile,
    ProfileDefinition Definition,
    IReadOnlyList<ProfileRevisionInfo> Revisions,
    long Certificates
);

public sealed record ProfileCopy(string Id, string? Title);

public sealed record ProfileText(string Yaml);
