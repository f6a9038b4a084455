using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>Why a chain could not be completed, or that it could.</summary>
public enum ChainEnd
{
    /// <summary>It leads to a trust anchor.</summary>
    Anchor,

    /// <summary>The last certificate is self-signed and no anchor.</summary>
    UntrustedRoot,

    /// <summary>The issuer of the last certificate was not found.</summary>
    IssuerMissing,

    /// <summary>A certificate names an issuer that did not sign it, or may not sign certificates.</summary>
    BrokenLink,

    /// <summary>An authority in the chain may not certify one of the leaf's names.</summary>
    OutOfBounds,
}

/// <summary>A chain with its explanation.</summary>
/// <param name="Certificates">Leaf first, as far as it could be built; with the anchor at the end when it was reached.</param>
/// <param name="Steps">One sentence for each step that was taken or failed.</param>
/// <param name="Fetched">Certificates that were not sent, but were found among the known intermediates.</param>
public sealed record Chain(ChainEnd End, IReadOnlyList<X509> Certificates, IReadOnlyList<string> Steps, IReadOnlyList<X509> Fetched);

/// <summary>Builds paths (RFC 5280 section 6.1 and RFC 4158), and says each step.</summary>
public static class ChainBuilder
{
    private const int MaxDepth = 10;

    /// <param name="leaf">The end of the chain.</param>
    /// <param name="sent">Certificates that came along with it, in any order.</param>
    /// <param name="known">Further intermediates that we have; using one of them means a client may fail.</param>
    /// <param name="anchors">Trusted roots.</param>
    public static Chain Build(X509 leaf, IReadOnlyList<X509> sent, IReadOnlyList<X509> known, IReadOnlyList<X509> anchors)
    {
        var path = new List<X509> { leaf };
        var steps = new List<string>();
        var fetched = new List<X509>();
        while (true)
        {
            var last = path[^1];
            if (anchors.Any(a => a.Der.Span.SequenceEqual(last.Der.Span)))
            {
                steps.Add($"{Short(last)} is a trust anchor.");
                return new(ChainEnd.Anchor, path, steps, fetched);
            }
            if (last.IsSelfIssued && last.SignedBy(last.PublicKey))
            {
                steps.Add($"{Short(last)} signed itself and is no trust anchor.");
                return new(ChainEnd.UntrustedRoot, path, steps, fetched);
            }
            var next =
                Candidates(last, anchors).FirstOrDefault(c => Usable(c, path))
                ?? Candidates(last, sent).FirstOrDefault(c => Usable(c, path));
            if (next is null && (next = Candidates(last, known).FirstOrDefault(c => Usable(c, path))) is not null)
            {
                fetched.Add(next);
                steps.Add($"{Short(next)}, which issued {Short(last)}, was not sent.");
            }
            if (next is null)
            {
                var named = anchors.Concat(sent).Concat(known).Any(c => c.Subject.Der.Span.SequenceEqual(last.Issuer.Der.Span));
                steps.Add(
                    named
                        ? $"A certificate of {last.Issuer} is there, but it did not sign {Short(last)} or may not sign certificates."
                        : $"The issuer of {Short(last)}, {last.Issuer}, was not found."
                );
                return new(named ? ChainEnd.BrokenLink : ChainEnd.IssuerMissing, path, steps, fetched);
            }
            steps.Add($"{Short(last)} was issued by {Short(next)}.");
            if (next.Constraints?.FirstAgainst(leaf.Names) is { } against)
            {
                steps.Add($"{Short(next)} may not certify {against}: its name constraints allow {next.Constraints}.");
                path.Add(next);
                return new(ChainEnd.OutOfBounds, path, steps, fetched);
            }
            path.Add(next);
            if (path.Count > MaxDepth)
            {
                steps.Add("The chain is longer than ten.");
                return new(ChainEnd.BrokenLink, path, steps, fetched);
            }
        }
    }

    private static IEnumerable<X509> Candidates(X509 child, IReadOnlyList<X509> pool) =>
        pool.Where(c =>
            c.Subject.Der.Span.SequenceEqual(child.Issuer.Der.Span)
            && c.IsAuthority
            && (
                child.AuthorityKeyIdentifier.IsEmpty
                || c.SubjectKeyIdentifier.IsEmpty
                || c.SubjectKeyIdentifier.Span.SequenceEqual(child.AuthorityKeyIdentifier.Span)
            )
            && (c.KeyUsage is null || c.KeyUsage.Value.HasFlag(KeyUsages.KeyCertSign))
            && child.SignedBy(c.PublicKey)
        );

    // A path length counts the authorities below that are not self-issued (RFC 5280 section 4.2.1.9).
    private static bool Usable(X509 candidate, List<X509> path) =>
        !path.Any(p => p.Der.Span.SequenceEqual(candidate.Der.Span))
        && (candidate.PathLength is not { } most || path.Skip(1).Count(p => !p.IsSelfIssued) <= most);

    private static string Short(X509 x) =>
        x.Subject.CommonName ?? (x.Subject.IsEmpty ? x.Names.FirstOrDefault()?.ToString() ?? x.Serial.Hex : x.Subject.ToString());
}
