using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>Why a path is not accepted. Each has one step that finds it, a file of its own in this folder.</summary>
public enum PathFault
{
    /// <summary>The issuer of the last certificate was not found.</summary>
    IssuerMissing,

    /// <summary>The last certificate signed itself and is no trust anchor.</summary>
    UntrustedRoot,

    /// <summary>A certificate with the issuer's name is there, and its key did not make the signature.</summary>
    NotSigned,

    /// <summary>The signature is of an algorithm that is not checked here.</summary>
    UnknownAlgorithm,

    /// <summary>More certificates in a row than clients follow.</summary>
    TooDeep,

    /// <summary>Following it would cost more than any honest path does.</summary>
    TooMuchWork,

    /// <summary>A certificate's life has not begun.</summary>
    NotYetValid,

    /// <summary>A certificate is past its end.</summary>
    Expired,

    /// <summary>A part that clients rely on is not as the standard has it.</summary>
    Malformed,

    /// <summary>A critical extension that nobody understands.</summary>
    UnknownCritical,

    /// <summary>An issuer is not marked as an authority.</summary>
    NotAnAuthority,

    /// <summary>An authority's key usage does not allow it to sign certificates.</summary>
    MayNotSign,

    /// <summary>More authorities in a row than one of them allows below itself.</summary>
    PathLength,

    /// <summary>An authority may not certify a name of a certificate below it.</summary>
    OutOfBounds,

    /// <summary>The extended usages leave out servers.</summary>
    WrongPurpose,

    /// <summary>The key usage does not allow a TLS handshake.</summary>
    WrongUsage,

    /// <summary>A key is too short.</summary>
    WeakKey,

    /// <summary>A signature is made with a hash that can be forged.</summary>
    WeakSignature,

    /// <summary>A certificate is on its issuer's revocation list.</summary>
    Revoked,
}

/// <summary>One thing that a step found.</summary>
/// <param name="At">The certificate concerned.</param>
/// <param name="Index">Its place in the path, the leaf being 0.</param>
/// <param name="Reason">One sentence: what is wrong, and where.</param>
/// <param name="Hurts">Which clients refuse it.</param>
public sealed record PathFinding(PathFault Fault, X509 At, int Index, string Reason, string Hurts = "Every client refuses it.");

/// <summary>What is asked about a path.</summary>
/// <param name="Leaf">The end of it.</param>
/// <param name="Sent">Certificates that came along with it, in any order.</param>
/// <param name="Known">Further authorities' certificates that we have; using one of them means that a client may fail.</param>
/// <param name="Anchors">Roots that the client trusts.</param>
/// <param name="Now">The moment that dates are judged by.</param>
public sealed record PathQuestion(
    X509 Leaf,
    IReadOnlyList<X509> Sent,
    IReadOnlyList<X509> Known,
    IReadOnlyList<X509> Anchors,
    DateTimeOffset Now
)
{
    /// <summary>The extended usage that the leaf and all authorities must allow; null asks for none.</summary>
    public string? Purpose { get; init; } = Oids.ServerAuth;

    /// <summary>Says what is known about a certificate's revocation, by its issuer; null asks nobody.</summary>
    public Func<X509, X509, Revocation.RevocationStanding>? RevocationOf { get; init; }
}

/// <summary>The path that was found, and what is wrong with it.</summary>
/// <param name="Certificates">Leaf first, as far as it could be built; with the anchor at the end when it was reached.</param>
/// <param name="Findings">Empty when clients accept it. The first is the first that a client meets.</param>
/// <param name="Steps">One sentence for each step that was taken or failed.</param>
/// <param name="Fetched">Certificates that were not sent, but were among the known ones.</param>
/// <param name="ReachesAnchor">Whether it ends at a trust anchor.</param>
public sealed record TrustPath(
    IReadOnlyList<X509> Certificates,
    IReadOnlyList<PathFinding> Findings,
    IReadOnlyList<string> Steps,
    IReadOnlyList<X509> Fetched,
    bool ReachesAnchor
)
{
    public bool IsAccepted => Findings.Count == 0;

    /// <summary>How a certificate is called in sentences: its common name, or what stands for it. Text from outside: not to be trusted.</summary>
    public static string NameOf(X509 x) =>
        x.Subject.CommonName ?? (x.Subject.IsEmpty ? x.Names.FirstOrDefault()?.ToString() ?? x.Serial.Hex : x.Subject.ToString());
}
