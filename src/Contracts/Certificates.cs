namespace OrderlyBeacon.Contracts;

public sealed record CertificateInfo(
    string Name,
    string? Host,
    string Profile,
    IReadOnlyList<string> Names,
    string Key,
    Severity Severity,
    string State,
    string? Serial,
    DateTimeOffset? NotBefore,
    DateTimeOffset? NotAfter,
    DateTimeOffset? Planned,
    LifePhase? Phase,
    int Editions,
    IReadOnlyList<BindingInfo> Bindings,
    string? LastError,
    int Failures,
    DateTimeOffset? RetryAt,
    PolicyInfo Policy,
    long Version
)
{
    /// <summary>Whose it is: a person, <c>group:NAME</c>, <c>agent:HOST</c> or <c>system</c>.</summary>
    public string Owner
    {
        get => field ?? "";
        init;
    }

    /// <summary>The authority that is not ours which signs it; null when ours does.</summary>
    public string? Outside { get; init; }

    /// <summary>Its change to the next key, while TLSA records in DNS have to follow; null otherwise.</summary>
    public RolloverInfo? Rollover { get; init; }

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

public sealed record CertificateDetail(
    CertificateInfo Certificate,
    IReadOnlyList<EditionInfo> Editions,
    CertificateText? Text,
    IReadOnlyList<string> ChainSteps,
    IReadOnlyList<LookInfo> Looks,
    IReadOnlyList<OrderInfo> Orders
);

/// <summary>A certificate's content in words.</summary>
public sealed record CertificateText(
    string Subject,
    IReadOnlyList<string> Names,
    string Issuer,
    string? Serial,
    string? Thumbprint,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string Key,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    IReadOnlyList<string> Crl,
    IReadOnlyList<string> IssuerAt,
    string? LimitReason
)
{
    /// <summary>Where its OCSP responder is; empty in what was stored before there was one.</summary>
    public IReadOnlyList<string> Ocsp
    {
        get => field ?? [];
        init;
    }
}

public sealed record PolicyInfo(double After, bool NewKey, bool Automatic);

public sealed record EditionInfo(
    string Serial,
    string Thumbprint,
    EditionState State,
    DateTimeOffset IssuedAt,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string KeyFingerprint,
    int ProfileRevision,
    long? Request,
    DateTimeOffset? RevokedAt,
    string? RevocationReason,
    string Issuer
);

/// <summary>An edition as the table of all that was issued has it.</summary>
public sealed record IssuedEdition(
    string Certificate,
    string Serial,
    string Profile,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    EditionState State,
    DateTimeOffset? RevokedAt,
    string? RevocationReason
);
