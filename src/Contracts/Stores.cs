namespace OrderlyBeacon.Contracts;

/// <summary>A keyed entry of some host's store.</summary>
/// <param name="Certificate">The certificate's name.</param>
/// <param name="Thumbprint">SHA-256 over the whole certificate, lower-case hexadecimal.</param>
/// <param name="Key">SHA-256 over its public key; null while its agent is older and does not say.</param>
/// <param name="InUse">Whether the host's servers are configured with it; else it is kept for a while.</param>
public sealed record StoredEntryInfo(
    string Host,
    string Certificate,
    string Serial,
    string Thumbprint,
    string? Key,
    string? Issuer,
    DateTimeOffset NotAfter,
    bool InUse
)
{
    /// <summary>What a person called it on its host.</summary>
    public string? Label { get; init; }

    /// <summary>Whether its key may leave the host.</summary>
    public bool Releasable { get; init; }

    /// <summary>Laid aside.</summary>
    public bool Archived { get; init; }

    /// <summary>Services of the host that are bound to its certificate, when it is the one in use.</summary>
    public IReadOnlyList<string> BoundTo
    {
        get => field ?? [];
        init;
    }
}

/// <summary>Brings certificates into a host's store.</summary>
/// <param name="Sealed">An <see cref="ImportContent"/>, sealed to the host's key (RFC 9180), Base64.</param>
/// <param name="Certificate">What to call it; its first name when left out.</param>
public sealed record ImportWish(string Sealed, string? Certificate, string? Label);

public sealed record NewLabel(string Label);

/// <param name="ReplyTo">The public key that what is given out is sealed to, Base64.</param>
/// <param name="Sealed">The passphrase, sealed to the host's key, Base64; only with the key.</param>
public sealed record ExportWish(ExportForm Form, string ReplyTo, string? Sealed);

/// <param name="Sealed">A <see cref="FilePart"/>, sealed to who asked, Base64.</param>
public sealed record Exported(string Sealed);

/// <summary>Two certificates side by side, what differs first.</summary>
public sealed record Comparison(string Left, string Right, string Verdict, IReadOnlyList<ComparisonField> Fields);

public sealed record ComparisonField(string Field, string Left, string Right, bool Same);
