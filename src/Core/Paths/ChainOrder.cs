using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>Puts certificates that came in any order into the order in which servers send them.</summary>
public static class ChainOrder
{
    /// <returns>Leaf first, then each one's issuer as far as they are there; a root is left out, since clients have it.</returns>
    public static IReadOnlyList<X509> Of(X509 leaf, IEnumerable<X509> others)
    {
        var pool = others.Where(c => c.IsAuthority && !c.IsSelfIssued).ToList();
        var chain = new List<X509> { leaf };
        while (
            chain.Count < PathSearch.MostDepth
            && pool.Find(c => !chain.Contains(c) && c.Subject.Matches(chain[^1].Issuer) && chain[^1].SignedBy(c.PublicKey)) is { } issuer
        )
            chain.Add(issuer);
        return chain;
    }
}
