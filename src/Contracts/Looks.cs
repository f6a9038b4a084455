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
)
{
    /// <summary>The fingerprint of the anchor that its chain ends at, trusted or not; null when that is not known.</summary>
    public string? Anchor { get; init; }

    /// <summary>The versions of TLS that it takes, oldest first, as <c>TLS 1.2</c>; null when it was not asked, or did not say. Only who looks at an address asks.</summary>
    public IReadOnlyList<string>? Versions { get; init; }

    /// <summary>What its stapled answer says, in words; null when it sends none or was not asked.</summary>
    public string? Staple { get; init; }

    /// <summary>What can be read of clients that do without TLS there; null when it was not tried. Only who looks at an address tries it.</summary>
    public IReadOnlyList<Readable>? Readable { get; init; }
}

public sealed record LookProblemInfo(string Fault, Severity Severity, string Reason, string Hurts, string Cure);
