namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 2, form: parts that clients rely on are readable, and no critical extension is left unprocessed (RFC 5280 sections 4.2, 6.1.4 (o) and 6.1.5 (f)).
/// Anchors are held to it too: clients that keep them as certificates read them like any other.
/// </summary>
internal static class FormStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        foreach (var (i, x) in way.FromAnchor())
        {
            if (x.Oddities.FirstOrDefault(o => o.Matters) is { } odd)
                yield return new(
                    PathFault.Malformed,
                    x,
                    i,
                    $"In {TrustPath.NameOf(x)} a part is malformed ({Called(odd.Part)}): {odd.What}."
                );
            if (x.UnknownCritical.Count > 0)
                yield return new(
                    PathFault.UnknownCritical,
                    x,
                    i,
                    $"{TrustPath.NameOf(x)} has the critical extension {Called(x.UnknownCritical[0])}, which must be understood or the certificate refused."
                );
        }
    }

    private static string Called(string part) =>
        part switch
        {
            Oids.SubjectAltName => "subject alternative name",
            Oids.KeyUsage => "key usage",
            Oids.ExtendedKeyUsage => "extended key usage",
            Oids.BasicConstraints => "basic constraints",
            Oids.NameConstraints => "name constraints",
            Oids.AuthorityKeyIdentifier => "authority key identifier",
            Oids.SubjectKeyIdentifier => "subject key identifier",
            Oids.AuthorityInfoAccess => "authority information access",
            _ => part,
        };
}
