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
);

public sealed record OrderAccepted(long Order);
