namespace OrderlyBeacon.Contracts;

/// <summary>An order's progress.</summary>
public sealed record OrderInfo(
    long Id,
    OrderKind Kind,
    OrderState State,
    string Host,
    string? Certificate,
    IReadOnlyList<string> Services,
    DateTimeOffset At,
    DateTimeOffset? Ended,
    IReadOnlyList<string> Steps,
    ProblemInfo? Problem,
    BindPlan? Plan,
    IReadOnlyList<LookInfo> Looks
)
{
    /// <summary>The request that it carries out; null when it carries out none.</summary>
    public long? Request { get; init; }

    /// <summary>The device that it is about, reached by the host's agent.</summary>
    public string? Device { get; init; }
}

public sealed record OrderAccepted(long Order);
