namespace OrderlyBeacon.Contracts;

/// <summary>A wish for one edition.</summary>
/// <param name="Host">The host that makes the key; null with a CSR.</param>
/// <param name="Certificate">The name of the certificate; the first name when left out.</param>
/// <param name="Life">As <c>90d</c>, <c>12h</c>, <c>10m</c>; the profile's when left out.</param>
/// <param name="Csr">PEM or bare Base64, instead of a host.</param>
/// <param name="BindTo">Services of the host to put it into at once.</param>
/// <param name="RenewAfter">Part of the life after which it is renewed; two thirds when left out.</param>
public sealed record NewRequest(
    string? Host,
    string? Profile,
    IReadOnlyList<string>? Names,
    string? Subject,
    string? Certificate,
    string? Key,
    string? Life,
    string? Csr,
    IReadOnlyList<string>? BindTo,
    int? Port,
    double? RenewAfter,
    string? Note
)
{
    /// <summary>Names of the services in <see cref="BindTo"/> that are not asked for, and that shall be left out all the same: clients that use them will refuse it.</summary>
    public IReadOnlyList<string>? LeaveOut { get; init; }

    /// <summary>The authority that is not ours which shall sign it, by its short name: the host makes the key, somebody carries the CSR there and the answer back.</summary>
    public string? Outside { get; init; }
}

/// <summary>What would happen: the verdicts and the certificate as it would be.</summary>
public sealed record RequestPreview(
    Verdict Overall,
    IReadOnlyList<NameVerdictInfo> Verdicts,
    IReadOnlyList<FindingInfo> Findings,
    CertificateText? Certificate,
    string CertificateName,
    DateTimeOffset? PlannedRenewal,
    IReadOnlyList<string> Warnings,
    string Outcome
)
{
    /// <summary>Names of the services to bind that would be left out: each needs a word.</summary>
    public IReadOnlyList<string> Uncovered { get; init; } = [];

    /// <summary>The authority that is not ours which would sign it: dates and addresses are up to it.</summary>
    public string? Outside { get; init; }
}

public sealed record RequestInfo(
    long Number,
    RequestState State,
    string Certificate,
    string? Host,
    string Profile,
    string Requester,
    DateTimeOffset At,
    IReadOnlyList<NameVerdictInfo> Verdicts,
    IReadOnlyList<FindingInfo> Findings,
    string Key,
    string? Serial,
    string? Reason,
    string? DecidedBy,
    IReadOnlyList<string> BindTo,
    long? OrderId,
    string? Note,
    string Cause
)
{
    /// <summary>How many people must approve it; 0 when nobody needs to.</summary>
    public int Needed { get; init; }
    public IReadOnlyList<ApprovalInfo> Approvals
    {
        get => field ?? [];
        init;
    }

    /// <summary>Names that were amended before the approval.</summary>
    public IReadOnlyList<AmendmentInfo> Amendments
    {
        get => field ?? [];
        init;
    }

    /// <summary>What is different from the certificate's edition in use; empty when there is none, or nothing is.</summary>
    public IReadOnlyList<string> Differences
    {
        get => field ?? [];
        init;
    }

    /// <summary>The authority that is not ours which signs it; null when ours does.</summary>
    public string? Outside { get; init; }

    /// <summary>An answer that came and differs from what was asked.</summary>
    public HeldAnswer? Held { get; init; }

    /// <summary>Its host has made the key, and its edition waits until DNS speaks of it.</summary>
    public bool WaitsForDns { get; init; }

    /// <summary>Where it came from: an address.</summary>
    public string? From { get; init; }
    public string Subject
    {
        get => field ?? "";
        init;
    }
    public string? Life { get; init; }

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

public sealed record NameVerdictInfo(string Name, Verdict Verdict, string Reason, string Evidence, string Cure)
{
    /// <summary>Groups whose members may approve this name, besides administrators; empty where any approver may.</summary>
    public IReadOnlyList<string> Holders
    {
        get => field ?? [];
        init;
    }
}

public sealed record FindingInfo(string Code, string Weight, string Subject, string Message, string Cure);

/// <summary>What an edition was issued on.</summary>
public sealed record DecisionInfo(string Requester, DateTimeOffset At, IReadOnlyList<GrantInfo> Grants);

/// <summary>Why a name was certified, and who approved it.</summary>
public sealed record GrantInfo(string Name, string Reason, string Evidence, IReadOnlyList<string> By);

public sealed record ApprovalInfo(string By, DateTimeOffset At);

public sealed record AmendmentInfo(string By, DateTimeOffset At, IReadOnlyList<string> Before, IReadOnlyList<string> After, string Reason);

/// <param name="Names">The names it shall have, all of them.</param>
public sealed record Amendment(IReadOnlyList<string> Names, string Reason);

public sealed record Refusal(string Reason);
