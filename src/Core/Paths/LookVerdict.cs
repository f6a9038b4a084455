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
    Expired,

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
    IssuerExpired,

    /// <summary>The life of an authority in its chain has not begun.</summary>
    IssuerNotYetValid,

    /// <summary>An authority in its chain was revoked.</summary>
    IssuerRevoked,

    /// <summary>An authority in its chain may not certify one of its names.</summary>
    OutOfBounds,

    /// <summary>A part of it cannot be read, or must be understood and is not.</summary>
    Malformed,

    /// <summary>Its chain does not hold together.</summary>
    BrokenChain,

    /// <summary>It ends soon.</summary>
    EndsSoon,

    /// <summary>It still takes a version of TLS that nobody should (RFC 8996).</summary>
    OldVersion,

    /// <summary>The certificates of its chain do not follow upon each other (RFC 5246 section 7.4.2).</summary>
    OutOfOrder,

    /// <summary>Names and passwords go there without TLS.</summary>
    LoginsInTheClear,

    /// <summary>Its certificate demands a stapled answer, and there is none (RFC 7633).</summary>
    StapleMissing,

    /// <summary>The stapled answer is out of date, of somebody else, or about another certificate.</summary>
    StapleUnusable,
}

/// <summary>One problem, with whom it hurts and its cure.</summary>
public sealed record LookProblem(LookFault Fault, Severity Severity, string Reason, string Hurts, string Cure);

/// <summary>The judgement over a look: what clients make of it.</summary>
/// <param name="Accepted">A client that trusts the given anchors connects without a warning.</param>
/// <param name="Problems">Worst first.</param>
public sealed record LookVerdict(bool Accepted, IReadOnlyList<LookProblem> Problems, TrustPath? Path)
{
    public Severity Severity => Problems.Count == 0 ? Severity.Fine : Problems.Max(p => p.Severity);
}

/// <summary>Judges what was served as clients do, and says why and what to do.</summary>
public static class LookJudge
{
    /// <param name="name">The server name that was asked for.</param>
    /// <param name="served">What was sent, leaf first.</param>
    /// <param name="revocationOf">Says what is known about a certificate's revocation, by its issuer; null asks nobody.</param>
    public static LookVerdict Judge(
        string name,
        IReadOnlyList<X509> served,
        IReadOnlyList<X509> anchors,
        IReadOnlyList<X509> known,
        DateTimeOffset now,
        Func<X509, X509, RevocationStanding>? revocationOf = null
    )
    {
        var leaf = served[0];
        var path = PathJudge.Judge(new(leaf, [.. served.Skip(1)], known, anchors, now) { RevocationOf = revocationOf });
        var problems = new List<LookProblem>();
        // Without a way to an anchor the leaf's own dates are told all the same: they are what its owner can change.
        if (!path.ReachesAnchor)
            problems.AddRange(OwnDates(leaf, now));
        problems.AddRange(path.Findings.Select(f => Problem(f, path)));
        if (path.ReachesAnchor && path.Fetched.Count > 0)
            problems.Add(
                new(
                    LookFault.IntermediateMissing,
                    Severity.Now,
                    $"The intermediate certificate {path.Fetched[0].Subject.CommonName} is not sent along.",
                    "Clients that do not have it by chance refuse it.",
                    "Bind the certificate again; its whole chain is put in place then."
                )
            );
        else if (path.ReachesAnchor && !FollowEachOther(served))
            problems.Add(
                new(
                    LookFault.OutOfOrder,
                    Severity.Soon,
                    "The certificates of its chain are not sent in their order, or with others among them.",
                    "Current clients sort them; older ones and devices refuse it.",
                    "Bind the certificate again; its chain is put in place in its order then."
                )
            );
        JudgeName(name, leaf, problems);
        return new(!problems.Any(p => p.Severity >= Severity.Now), [.. problems.OrderByDescending(p => p.Severity)], path);
    }

    private static bool FollowEachOther(IReadOnlyList<X509> served) =>
        Enumerable.Range(1, served.Count - 1).All(i => served[i - 1].Issuer.Matches(served[i].Subject));

    private static IEnumerable<LookProblem> OwnDates(X509 leaf, DateTimeOffset now)
    {
        var way = new PathWay(new(leaf, [], [], [], now), [leaf], [], new());
        return DatesStep.Check(way).Select(f => Problem(f, new([leaf], [f], [], [], ReachesAnchor: false)));
    }

    private static LookProblem Problem(PathFinding f, TrustPath path)
    {
        var (fault, cure) = FaultOf(f, path);
        var reason = fault == LookFault.SelfSigned ? "The certificate is self-signed: nobody vouches for it." : f.Reason;
        return new(fault, Severity.Now, reason, fault == LookFault.SelfSigned ? "Browsers warn; programs refuse." : f.Hurts, cure);
    }

    private const string BindAgain = "Request a new one and bind it.";
    private const string OurAuthority = "Request one from our authority and bind it.";
    private const string RenewAuthority = "Renew the authority, then this certificate; or request one from another authority.";

    /// <summary>What a finding is called in a look, and the cure.</summary>
    private static (LookFault, string) FaultOf(PathFinding f, TrustPath path) =>
        (f.Fault, f.Index) switch
        {
            (PathFault.UntrustedRoot, 0) when path.Certificates.Count == 1 => (LookFault.SelfSigned, OurAuthority),
            (PathFault.UntrustedRoot or PathFault.IssuerMissing, _) => (LookFault.UnknownIssuer, OurAuthority),
            (PathFault.Expired, 0) => (LookFault.Expired, BindAgain),
            (PathFault.Expired, _) => (LookFault.IssuerExpired, RenewAuthority),
            (PathFault.NotYetValid, 0) => (LookFault.NotYetValid, "Check the clocks of this host and of the authority."),
            (PathFault.NotYetValid, _) => (
                LookFault.IssuerNotYetValid,
                "Check this machine's clock; else wait, or use a chain of another authority."
            ),
            (PathFault.WrongPurpose or PathFault.WrongUsage, 0) => (
                LookFault.WrongPurpose,
                "Request a certificate under a server profile."
            ),
            (PathFault.WrongPurpose, _) => (LookFault.WrongPurpose, OurAuthority),
            (PathFault.WeakKey or PathFault.WeakSignature, 0) => (LookFault.Weak, "Request a new one."),
            (PathFault.WeakKey or PathFault.WeakSignature, _) => (LookFault.Weak, RenewAuthority),
            (PathFault.Revoked, 0) => (LookFault.Revoked, "Renew the certificate: the new edition takes its place."),
            (PathFault.Revoked, _) => (LookFault.IssuerRevoked, OurAuthority),
            (PathFault.OutOfBounds, _) => (
                LookFault.OutOfBounds,
                "Leave that name out, or have the authority's bounds widened at its renewal."
            ),
            (PathFault.Malformed or PathFault.UnknownCritical or PathFault.UnknownAlgorithm, 0) => (LookFault.Malformed, BindAgain),
            _ => (LookFault.BrokenChain, "Bind the certificate again with its correct chain."),
        };

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
