using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Paths;

/// <summary>How much something needs a hand. In order of weight.</summary>
public enum Severity
{
    Fine,
    Soon,
    Now,
    Failed,
}

/// <summary>What can be wrong with what a service shows its clients.</summary>
public enum LookFault
{
    /// <summary>The service answers in the clear only.</summary>
    PlainOnly,

    /// <summary>Nothing answered.</summary>
    NoAnswer,

    /// <summary>Something answered, but no TLS handshake came about.</summary>
    HandshakeFailed,

    /// <summary>The certificate is past its end.</summary>
    Lapsed,

    /// <summary>The certificate's life has not begun.</summary>
    NotYetValid,

    /// <summary>It is on the authority's revocation list.</summary>
    Revoked,

    /// <summary>It signed itself.</summary>
    SelfSigned,

    /// <summary>Its issuer is not trusted.</summary>
    UnknownIssuer,

    /// <summary>An intermediate certificate is not sent along.</summary>
    IntermediateMissing,

    /// <summary>The name asked for is in the common name only.</summary>
    CommonNameOnly,

    /// <summary>The name asked for is not in it.</summary>
    NameMissing,

    /// <summary>It is not meant for servers.</summary>
    WrongPurpose,

    /// <summary>Key or signature is too weak.</summary>
    Weak,

    /// <summary>An authority in its chain is past its end.</summary>
    IssuerLapsed,

    /// <summary>It ends soon.</summary>
    EndsSoon,
}

/// <summary>One problem, with whom it hurts and its cure.</summary>
public sealed record LookProblem(LookFault Fault, Severity Severity, string Reason, string Hurts, string Cure);

/// <summary>The judgement over a look: what clients make of it.</summary>
/// <param name="Accepted">A client that trusts the given anchors connects without a warning.</param>
/// <param name="Problems">Worst first.</param>
public sealed record LookVerdict(bool Accepted, IReadOnlyList<LookProblem> Problems, Chain? Chain)
{
    public Severity Severity => Problems.Count == 0 ? Severity.Fine : Problems.Max(p => p.Severity);
}

/// <summary>Judges what was served as clients do, and says why and what to do.</summary>
public static class LookJudge
{
    /// <param name="name">The server name that was asked for.</param>
    /// <param name="served">What was sent, leaf first.</param>
    /// <param name="revocationOf">Finds a serial's revocation by its issuer's certificate; may always return null.</param>
    public static LookVerdict Judge(
        string name,
        IReadOnlyList<X509> served,
        IReadOnlyList<X509> anchors,
        IReadOnlyList<X509> known,
        DateTimeOffset now,
        Func<X509, SerialNumber, RevokedCertificate?>? revocationOf = null
    )
    {
        var problems = new List<LookProblem>();
        var leaf = served[0];
        var chain = ChainBuilder.Build(leaf, served.Skip(1).ToList(), known, anchors);
        JudgeDates(leaf, chain, now, problems);
        JudgeChain(leaf, chain, problems, revocationOf);
        JudgeName(name, leaf, problems);
        if (leaf.ExtendedKeyUsage is { } eku && !eku.Contains(Oids.ServerAuth) && !eku.Contains(Oids.AnyExtendedKeyUsage))
            problems.Add(
                new(
                    LookFault.WrongPurpose,
                    Severity.Now,
                    "The certificate is not meant for servers.",
                    "Every client refuses it.",
                    "Request a certificate under a server profile."
                )
            );
        var weak =
            leaf.PublicKey.Spec is { Algorithm: KeyAlgorithm.Rsa, Bits: < 2048 } ? $"its key is only {leaf.PublicKey.Spec}"
            : leaf.Scheme is SignatureScheme.Sha1Rsa or SignatureScheme.Sha1Ecdsa ? "it is signed with SHA-1"
            : null;
        if (weak is not null)
            problems.Add(
                new(
                    LookFault.Weak,
                    Severity.Now,
                    $"The certificate is too weak: {weak}.",
                    "Current browsers refuse it.",
                    "Request a new one."
                )
            );
        return new(!problems.Any(p => p.Fault != LookFault.EndsSoon), [.. problems.OrderByDescending(p => p.Severity)], chain);
    }

    private static void JudgeDates(X509 leaf, Chain chain, DateTimeOffset now, List<LookProblem> problems)
    {
        if (now > leaf.NotAfter)
            problems.Add(
                new(
                    LookFault.Lapsed,
                    Severity.Now,
                    $"The certificate ended on {leaf.NotAfter:d MMM yyyy HH:mm}.",
                    "Every client refuses the connection.",
                    "Request a new one and bind it."
                )
            );
        else if (now < leaf.NotBefore)
            problems.Add(
                new(
                    LookFault.NotYetValid,
                    Severity.Now,
                    $"The certificate's life begins only on {leaf.NotBefore:d MMM yyyy HH:mm}.",
                    "Every client refuses it until then.",
                    "Check the clocks of this host and of the authority."
                )
            );
        foreach (var issuer in chain.Certificates.Skip(1).Where(c => now > c.NotAfter).Take(1))
            problems.Add(
                new(
                    LookFault.IssuerLapsed,
                    Severity.Now,
                    $"The authority {issuer.Subject.CommonName} in its chain ended on {issuer.NotAfter:d MMM yyyy}.",
                    "Clients refuse everything it issued.",
                    "Renew the authority, then this certificate."
                )
            );
    }

    private static void JudgeChain(
        X509 leaf,
        Chain chain,
        List<LookProblem> problems,
        Func<X509, SerialNumber, RevokedCertificate?>? revocationOf
    )
    {
        switch (chain.End)
        {
            case ChainEnd.UntrustedRoot when chain.Certificates.Count == 1:
                problems.Add(
                    new(
                        LookFault.SelfSigned,
                        Severity.Now,
                        "The certificate is self-signed: nobody vouches for it.",
                        "Browsers warn; programs refuse.",
                        "Request one from our authority and bind it."
                    )
                );
                break;
            case ChainEnd.UntrustedRoot:
                problems.Add(
                    new(
                        LookFault.UnknownIssuer,
                        Severity.Now,
                        $"Its chain ends at {chain.Certificates[^1].Subject}, which is not trusted here.",
                        "Clients that do not know that root refuse it.",
                        "Request one from our authority and bind it."
                    )
                );
                break;
            case ChainEnd.IssuerMissing:
                problems.Add(
                    new(
                        LookFault.UnknownIssuer,
                        Severity.Now,
                        $"Its issuer {chain.Certificates[^1].Issuer} is not known here.",
                        "Clients that do not know that issuer refuse it.",
                        "Request one from our authority and bind it."
                    )
                );
                break;
            case ChainEnd.BrokenLink or ChainEnd.OutOfBounds:
                problems.Add(
                    new(
                        LookFault.UnknownIssuer,
                        Severity.Now,
                        chain.Steps[^1],
                        "Every client refuses it.",
                        "Bind the certificate again with its right chain."
                    )
                );
                break;
        }
        if (chain.End == ChainEnd.Anchor && chain.Fetched.Count > 0)
            problems.Add(
                new(
                    LookFault.IntermediateMissing,
                    Severity.Now,
                    $"The intermediate certificate {chain.Fetched[0].Subject.CommonName} is not sent along.",
                    "Clients that do not have it by chance refuse it.",
                    "Bind the certificate again; its whole chain is put in place then."
                )
            );
        if (chain.Certificates.Count > 1 && revocationOf?.Invoke(chain.Certificates[1], leaf.Serial) is { } entry)
            problems.Add(
                new(
                    LookFault.Revoked,
                    Severity.Now,
                    $"The certificate was revoked on {entry.At:d MMM yyyy HH:mm} ({BeaconProblem.SlugOf(entry.Reason)}).",
                    "Clients that check revocation refuse it.",
                    "Renew the certificate: the new edition takes its place."
                )
            );
    }

    private static void JudgeName(string name, X509 leaf, List<LookProblem> problems)
    {
        switch (HostNameMatch.Of(name, leaf.Names, leaf.Subject.CommonName))
        {
            case NameMatch.OnlyCommonName:
                problems.Add(
                    new(
                        LookFault.CommonNameOnly,
                        Severity.Now,
                        $"The certificate names {name} only in its common name; clients look at subject alternative names.",
                        "Browsers and current programs refuse it.",
                        "Request it again with that name as an alternative name."
                    )
                );
                break;
            case NameMatch.NoneFits:
                problems.Add(
                    new(
                        LookFault.NameMissing,
                        Severity.Now,
                        $"The certificate is for {string.Join(", ", leaf.Names.Take(3))}{(leaf.Names.Count > 3 ? " …" : "")}, not for {name}.",
                        "Clients that ask for this name refuse it.",
                        "Request one with this name, or bind the right certificate."
                    )
                );
                break;
            case NameMatch.NoAlternativeNames:
                problems.Add(
                    new(
                        LookFault.NameMissing,
                        Severity.Now,
                        $"The certificate has no alternative names, so it is not for {name}.",
                        "Clients refuse it.",
                        "Request one with this name as an alternative name."
                    )
                );
                break;
        }
    }
}
