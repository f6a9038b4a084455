using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Agent.Enrolment;

/// <summary>Which roots the agent trusts next: those that a root it has vouches for, and no others, whoever says so. One that has not expired is never dropped.</summary>
internal static class AnchorSuccession
{
    /// <param name="have">The roots that are trusted now.</param>
    /// <param name="told">What the service gave: roots, authorities, cross certificates (RFC 7030 section 4.1.3).</param>
    public static IReadOnlyList<X509> Next(IReadOnlyList<X509> have, IReadOnlyList<X509> told, DateTimeOffset now)
    {
        var next = have.ToList();
        var candidates = told.Where(x => x.IsAuthority && x.IsSelfSigned && x.NotAfter > now).ToList();
        // A second root may be vouched for by the first that was just taken.
        for (var isMore = true; isMore; )
        {
            isMore = false;
            foreach (var c in candidates.Where(c => !next.Exists(n => n.Der.Span.SequenceEqual(c.Der.Span))).ToList())
                if (IsVouchedFor(c, next, told))
                {
                    next.Add(c);
                    isMore = true;
                }
        }
        var alive = next.Where(x => x.NotAfter > now).ToList();
        return alive.Count > 0 ? alive : next;
    }

    /// <summary>The same key renewed, or a new key that a trusted one has certified (RFC 4210 section 4.4).</summary>
    private static bool IsVouchedFor(X509 root, List<X509> trusted, IReadOnlyList<X509> told) =>
        trusted.Exists(t => t.PublicKey.SameKey(root.PublicKey) && t.Subject.Matches(root.Subject))
        || told.Any(x =>
            x.IsAuthority
            && x.PublicKey.SameKey(root.PublicKey)
            && x.Subject.Matches(root.Subject)
            && trusted.Exists(t => x.Issuer.Matches(t.Subject) && x.SignedBy(t.PublicKey))
        );
}
