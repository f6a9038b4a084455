namespace OrderlyBeacon.Contracts;

/// <param name="Fault">As <c>missing</c>, <c>stale</c>, <c>wrong-generation</c>; see docs/guide/authority.md.</param>
/// <param name="Causes">Likely causes, the likeliest first.</param>
public sealed record HealthFinding(string Fault, Severity Severity, string Reason, IReadOnlyList<string> Causes, string Hurts, string Cure);

/// <summary>An address that stands in certificates, as a client finds it.</summary>
/// <param name="Kind"><c>issuer-certificate</c>, <c>crl</c>, <c>delta-crl</c> or <c>ocsp</c>.</param>
/// <param name="WrittenIn">Which certificates name it.</param>
public sealed record HealthPoint(
    string Kind,
    string Uri,
    string WrittenIn,
    Severity Severity,
    string Told,
    HealthFinding? Finding,
    DateTimeOffset? FreshUntil
);

public sealed record HealthGeneration(
    int Number,
    int KeyNumber,
    string State,
    string Serial,
    string Key,
    string KeyState,
    DateTimeOffset? NotBefore,
    DateTimeOffset? NotAfter,
    Severity Severity,
    IReadOnlyList<HealthFinding> Findings,
    IReadOnlyList<HealthPoint> Points,
    long Editions,
    DateTimeOffset? LastEditionEnds
)
{
    /// <summary>The authority and the number of the generation that signed it; null when it signed itself or waits.</summary>
    public HealthLink? SignedBy { get; init; }
}

public sealed record HealthLink(string Authority, int Generation);

public sealed record HealthAuthority(string Id, string Name, string Kind, Severity Severity, IReadOnlyList<HealthGeneration> Generations);

/// <summary>The whole hierarchy as clients see it.</summary>
public sealed record HealthReport(
    DateTimeOffset At,
    Severity Severity,
    int Points,
    int Findings,
    IReadOnlyList<HealthAuthority> Authorities
)
{
    /// <summary>Further points that lists are brought to.</summary>
    public IReadOnlyList<HealthPush> Pushes
    {
        get => field ?? [];
        init;
    }
}

public sealed record HealthPush(string Target, bool Good, string Told, DateTimeOffset At);
