using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Health;

/// <summary>What is found at an address that stands in certificates.</summary>
public enum PointKind
{
    /// <summary>The issuer's certificate (RFC 5280 section 4.2.2.1, id-ad-caIssuers).</summary>
    IssuerCertificate,

    /// <summary>The issuer's full CRL (section 4.2.1.13).</summary>
    Crl,

    /// <summary>The delta to that CRL (sections 4.2.1.15 and 5.2.6).</summary>
    DeltaCrl,

    /// <summary>The OCSP responder (section 4.2.2.1, id-ad-ocsp).</summary>
    Ocsp,
}

/// <summary>What can be wrong with such an address.</summary>
public enum PointFault
{
    /// <summary>Nothing answers there.</summary>
    Unreachable,

    /// <summary>It did not answer in time.</summary>
    TimedOut,

    /// <summary>The server there has no such file.</summary>
    Missing,

    /// <summary>The server there answers with an error.</summary>
    ServerError,

    /// <summary>It sends clients elsewhere, where many do not go.</summary>
    Redirected,

    /// <summary>What comes is larger than anything that belongs there.</summary>
    TooLarge,

    /// <summary>Something else than the kind of file that belongs there.</summary>
    WrongType,

    /// <summary>It belongs to another generation of the same authority.</summary>
    WrongGeneration,

    /// <summary>It belongs to somebody else.</summary>
    WrongIssuer,

    /// <summary>Its signature does not hold.</summary>
    BadSignature,

    /// <summary>An older file than the one that was published last.</summary>
    Stale,

    /// <summary>It was good until a moment that is past.</summary>
    Expired,

    /// <summary>It lapses before long, and its successor should have been there by now.</summary>
    ExpiresSoon,

    /// <summary>The responder's own certificate has ended.</summary>
    ResponderExpired,

    /// <summary>The responder does not answer for this issuer.</summary>
    ResponderRefuses,

    /// <summary>What it says of a certificate is not what is on record.</summary>
    WrongAnswer,

    /// <summary>A clock is wrong, there or here.</summary>
    ClockSkew,

    /// <summary>An authority's key cannot be used.</summary>
    KeyUnusable,

    /// <summary>An authority's certificate ends before a certificate issued now would live out its life.</summary>
    AuthorityEnds,

    /// <summary>An authority waits for its certificate.</summary>
    AuthorityWaits,
}

/// <summary>A fault as people read it.</summary>
/// <param name="Causes">Likely causes, the likeliest first.</param>
/// <param name="Hurts">Whom it hurts, and when.</param>
/// <param name="Cure">What to do.</param>
public sealed record PointFinding(
    PointFault Fault,
    Severity Severity,
    string Reason,
    IReadOnlyList<string> Causes,
    string Hurts,
    string Cure
);

/// <summary>What one fetch brought.</summary>
/// <param name="Status">HTTP status, or null when none came.</param>
/// <param name="Failure">Why nothing came, in a few words; null when something did.</param>
/// <param name="TimedOut">Whether waiting was given up.</param>
/// <param name="MoreThan">Set when reading was given up after this many bytes.</param>
/// <param name="ServerTime">The Date header.</param>
public sealed record Fetched(
    int? Status,
    string? ContentType,
    string? Location,
    ReadOnlyMemory<byte> Body,
    string? Failure,
    bool TimedOut,
    long? MoreThan,
    DateTimeOffset? ServerTime
);

/// <summary>What should be found at an address.</summary>
/// <param name="Issuer">The newest certificate of the key that the address speaks for.</param>
/// <param name="Family">All certificates of the same authority, for telling one generation's file from another's.</param>
/// <param name="PublishedNumber">The number of the CRL that was published last; null when it is not known here.</param>
/// <param name="Asked">The certificate an OCSP question is about.</param>
/// <param name="Revoked">Whether that certificate is revoked, as it is on record.</param>
public sealed record PointExpectation(
    PointKind Kind,
    X509 Issuer,
    IReadOnlyList<X509> Family,
    long? PublishedNumber,
    OcspCertId? Asked,
    bool? Revoked
);

/// <summary>The judgement over an address.</summary>
/// <param name="Good">What is right, in a sentence; empty when there is a finding.</param>
/// <param name="FreshUntil">Until when what is there can be used.</param>
public sealed record PointVerdict(PointFinding? Finding, string Good, DateTimeOffset? FreshUntil);
