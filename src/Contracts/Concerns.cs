namespace OrderlyBeacon.Contracts;

/// <summary>Something that needs a hand: what is wrong, whom it hurts, what mends it.</summary>
/// <param name="About">What it is about, as <c>web01/booking.thistledown.example</c>.</param>
/// <param name="Kind">A short code.</param>
/// <param name="Command">The client command that does it, if one does.</param>
/// <param name="Link">The console page that does it.</param>
public sealed record Concern(
    Severity Severity,
    ConcernKind Kind,
    string About,
    string Reason,
    string Hurts,
    string Cure,
    string? Command,
    string? Link
)
{
    /// <summary>How many this tells of: one, or all of one cause.</summary>
    public int Count { get; init; } = 1;

    /// <summary>When it began; of many, the first that is named.</summary>
    public DateTimeOffset? Since { get; init; }
}

public sealed record TodayCounts(int Hosts, int HostsAway, int Services, int Certificates, int Fine, int Soon, int Now, int Failed);

public sealed record Today(DateTimeOffset At, TodayCounts Counts, IReadOnlyList<Concern> Concerns, Lookahead Lookahead);

/// <summary>One life on the time axis.</summary>
/// <param name="Kind"><c>certificate</c> for ours, <c>found</c> for one that a service serves and nobody renews, <c>authority</c> for an authority's own.</param>
/// <param name="Planned">When it will be renewed; null when nothing will.</param>
public sealed record LookaheadItem(
    string Kind,
    string Name,
    string? Host,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    DateTimeOffset? Planned,
    LifePhase Phase,
    Severity Severity,
    string State,
    string? Link
);

/// <param name="Items">Those that come first, each by its name.</param>
public sealed record Lookahead(DateTimeOffset At, IReadOnlyList<LookaheadItem> Items)
{
    /// <summary>How many of all expire between one mark and the next, the first from now on.</summary>
    public IReadOnlyList<LookaheadDensity> Density { get; init; } = [];
}

/// <param name="Until">The mark that ends the stretch.</param>
public sealed record LookaheadDensity(DateTimeOffset Until, int Count);
