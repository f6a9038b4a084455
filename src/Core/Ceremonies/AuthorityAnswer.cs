using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Core.Ceremonies;

/// <summary>What came back for an authority's request, checked: its certificate, the authorities between it and the root (nearest first), and the root.</summary>
public sealed record AuthorityAnswer(X509 Certificate, IReadOnlyList<X509> Above, X509 Root)
{
    private const int MostAbove = 4;

    /// <summary>A request's short name, the same on both sides of the ceremony: the beginning of its key's fingerprint.</summary>
    public static string NameOf(CertificationRequest request) => request.PublicKey.Fingerprint()[..12];

    /// <summary>Finds the answer to a request among files, whatever they are called, and checks key, name, life, chain and constraints (RFC 5280 section 6.1).</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongFile"/> or <see cref="ProblemCode.AnswerRefused"/>.</exception>
    /// <param name="roots">Roots that are known already and need not be brought again.</param>
    /// <param name="before">Certificates that the authority had before: with the same key they look like the answer.</param>
    public static AuthorityAnswer Find(
        CertificationRequest request,
        IEnumerable<byte[]> files,
        IReadOnlyList<X509> roots,
        IReadOnlyList<X509> before,
        DateTimeOffset now
    )
    {
        var items = files.SelectMany(f => FileInspection.Inspect(f)).ToList();
        var certificates = items.Where(i => i.Kind == FileItemKind.Certificate).Select(i => X509.Read(i.Der)).ToList();
        var mine = AnswerAmong(certificates, items, request, before);
        var (above, root) = Path(mine, certificates, roots);
        ThrowUnlessOf(request, mine);
        ThrowUnlessHolds(mine, above, root, now);
        ThrowUnlessUseful(mine);
        return new(mine, above, root);
    }

    private static X509 AnswerAmong(List<X509> certificates, List<FileItem> items, CertificationRequest request, IReadOnlyList<X509> before)
    {
        var fitting = certificates.Where(c => c.PublicKey.SameKey(request.PublicKey)).ToList();
        if (fitting.FirstOrDefault(c => before.Any(b => b.Der.Span.SequenceEqual(c.Der.Span))) is { } old && fitting.Count == 1)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This is the certificate {old.Serial.Short}, until {old.NotAfter:yyyy-MM-dd}, that {old.Subject} has already; the answer to its request {NameOf(request)} is a newer one with the same key.",
                "Give the certificate that the root signed last, often named authority-certificate--….pem."
            );
        return fitting.FirstOrDefault(c => !before.Any(b => b.Der.Span.SequenceEqual(c.Der.Span)))
            ?? throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"None of this answers request {NameOf(request)} of {request.Subject}. What it is: {string.Join(" ", items.Select(i => i.Summary))}",
                "Give the certificate that the root signed for this request, often named authority-certificate--….pem."
            );
    }

    /// <summary>The authorities between, the nearest first, and the root.</summary>
    private static (List<X509> Above, X509 Root) Path(X509 mine, List<X509> certificates, IReadOnlyList<X509> roots)
    {
        var (above, known) = (new List<X509>(), certificates.Concat(roots.Reverse()).ToList());
        for (var below = mine; ; below = above[^1])
        {
            if (known.Find(c => c.IsSelfSigned && Issued(c, below)) is { } root)
                return (above, root);
            above.Add(
                above.Count < MostAbove
                && known.FirstOrDefault(c =>
                    !c.IsSelfIssued && !above.Contains(c) && !c.Der.Span.SequenceEqual(below.Der.Span) && Issued(c, below)
                )
                    is { } next
                    ? next
                    : throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        $"The certificate of the authority that signed it, {below.Issuer}, is not with it{(certificates.Any(c => c.IsSelfSigned && !c.Der.Span.SequenceEqual(mine.Der.Span)) ? ": another root's is" : "")}.",
                        "Give the root's certificate too, often named root-certificate--….pem, and all between."
                    )
            );
        }
    }

    private static void ThrowUnlessOf(CertificationRequest request, X509 mine)
    {
        if (!mine.Subject.Der.Span.SequenceEqual(request.Subject.Der.Span))
            throw Refused(
                $"The certificate is for {mine.Subject}; the request was for {request.Subject}.",
                "Have the request signed as it is."
            );
    }

    private static void ThrowUnlessUseful(X509 mine)
    {
        if (mine.KeyUsage?.HasFlag(KeyUsages.CrlSign) == false)
            throw Refused("The certificate does not allow its key to sign CRLs.", "Have the request signed with that usage.");
        if (mine.SubjectKeyIdentifier.IsEmpty)
            throw Refused(
                "The certificate has no subject key identifier, so clients could not tell its generations apart.",
                "Have the request signed by a root that writes one."
            );
    }

    /// <summary>Whether clients would accept what is issued under it.</summary>
    private static void ThrowUnlessHolds(X509 mine, List<X509> above, X509 root, DateTimeOffset now)
    {
        // The nearest one above has one authority below itself, and so on (RFC 5280 section 4.2.1.9).
        foreach (var (c, below) in above.Append(root).Select((c, i) => (c, i + 1)))
            if (c.PathLength < below)
                throw Refused(
                    $"{c.Subject} may have {c.PathLength} authorities below one another, and this would be number {below}: nothing issued under it would be accepted.",
                    "Have the request signed by an authority that may certify others."
                );
        foreach (
            var (c, what) in above
                .Select(x => (x, $"The certificate of {x.Subject}"))
                .Prepend((mine, "The certificate"))
                .Append((root, "The root's certificate"))
        )
        {
            if (!c.IsAuthority || c.KeyUsage?.HasFlag(KeyUsages.KeyCertSign) == false)
                throw Refused(
                    $"{what} is not one of an authority: what it signs would not be accepted.",
                    "Have the request signed as an authority's, not a server's."
                );
            if (now > c.NotAfter)
                throw Refused($"{what} expired on {c.NotAfter:yyyy-MM-dd}.", "Have the request signed anew.");
            if (now < c.NotBefore - TimeSpan.FromMinutes(5))
                throw Refused(
                    $"{what} is good only from {c.NotBefore:yyyy-MM-dd HH:mm} UTC on: a clock is wrong here or there.",
                    "Put the clocks right."
                );
        }
    }

    private static bool Issued(X509 by, X509 below) =>
        by.Subject.Der.Span.SequenceEqual(below.Issuer.Der.Span) && below.SignedBy(by.PublicKey);

    private static BeaconProblem Refused(string why, string cure) => new(ProblemCode.AnswerRefused, why, cure);
}
