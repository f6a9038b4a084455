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
);
