namespace OrderlyBeacon.Contracts;

public sealed record LookWish(string Address, string? ServerName, string? From)
{
    /// <summary>How to come to TLS; null takes what is known of the service, else what is usual at the port.</summary>
    public ProbeProtocol? Protocol { get; init; }
}

/// <summary>A look with its judgement.</summary>
public sealed record LookInfo(
    string Address,
    int Port,
    string ServerName,
    DateTimeOffset At,
    LookOutcome Outcome,
    string? Protocol,
    bool Accepted,
    Severity Severity,
    IReadOnlyList<LookProblemInfo> Problems,
    IReadOnlyList<string> ChainSteps,
    CertificateText? Served,
    string? From
);

public sealed record LookProblemInfo(string Fault, Severity Severity, string Reason, string Hurts, string Cure);
