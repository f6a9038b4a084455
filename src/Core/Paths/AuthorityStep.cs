using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 4, authorities: who issues is one (RFC 5280 section 6.1.4 (k)), may sign certificates (n), and has no more authorities below than it allows (l, m);
/// self-issued ones do not count. A version 1 root says nothing of all this and is believed because it is an anchor.
/// </summary>
internal static class AuthorityStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        foreach (var (i, x) in way.FromAnchor())
        {
            if (i == 0)
                continue;
            var oldRoot = i == way.Last && x.Version == 1;
            if (!x.IsAuthority && !oldRoot)
                yield return new(PathFault.NotAnAuthority, x, i, $"{TrustPath.NameOf(x)} issued a certificate and is not an authority.");
            if (x.KeyUsage is { } usage && !usage.HasFlag(KeyUsages.KeyCertSign))
                yield return new(PathFault.MayNotSign, x, i, $"{TrustPath.NameOf(x)} may not sign certificates by its key usage.");
            var below = way.Certificates.Skip(1).Take(i - 1).Count(c => !c.IsSelfIssued);
            if (x.PathLength is { } most && below > most)
                yield return new(
                    PathFault.PathLength,
                    x,
                    i,
                    $"{TrustPath.NameOf(x)} allows {most} authorities below itself, and there are {below}."
                );
        }
    }
}
