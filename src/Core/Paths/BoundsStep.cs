using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 5, bounds: the names of every certificate below an authority with name constraints are within them (RFC 5280 sections 6.1.3 (b, c) and 6.1.4 (g)):
/// alternative names, the subject as a directory name, and mail addresses in the subject. Self-issued authorities are left out, as there.
/// </summary>
internal static class BoundsStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        foreach (var (i, x) in way.FromAnchor())
        {
            if (i == 0 || x.Constraints is not { } bounds)
                continue;
            for (var below = i - 1; below >= 0; below--)
            {
                var child = way.Certificates[below];
                if (below > 0 && child.IsSelfIssued)
                    continue;
                if (bounds.FirstAgainst(NamesOf(child), way.Work.Comparisons) is { } against)
                    yield return new(
                        PathFault.OutOfBounds,
                        x,
                        i,
                        $"{TrustPath.NameOf(x)} may not certify {against}: its name constraints allow {bounds}."
                    );
            }
        }
    }

    private static IEnumerable<AlternativeName> NamesOf(Issuing.X509 x)
    {
        foreach (var n in x.Names)
            yield return n;
        if (!x.Subject.IsEmpty)
            yield return new(NameKind.Directory, x.Subject.ToString()) { Directory = x.Subject };
        foreach (var mail in x.Subject.ValuesOf(Oids.EmailAddress))
            yield return new(NameKind.Email, mail);
    }
}
