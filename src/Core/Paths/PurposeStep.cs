using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 6, purpose: the leaf is for what it is used for (RFC 5280 section 4.2.1.12), its key usage fits a TLS handshake (RFC 8446 section 4.4.2.2, RFC 5246
/// section 7.4.2), and, as clients have it beyond the standard, extended usages nest: an authority that has some certifies for these alone.
/// </summary>
internal static class PurposeStep
{
    private const KeyUsages Handshake = KeyUsages.DigitalSignature | KeyUsages.KeyEncipherment | KeyUsages.KeyAgreement;

    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        if (way.Question.Purpose is not { } purpose)
            yield break;
        foreach (var (i, x) in way.FromAnchor())
            if (x.ExtendedKeyUsage is { } usages && !usages.Contains(purpose) && !usages.Contains(Oids.AnyExtendedKeyUsage))
                yield return i == 0
                    ? new(PathFault.WrongPurpose, x, i, "The certificate is not meant for servers.")
                    : new(PathFault.WrongPurpose, x, i, $"The authority {TrustPath.NameOf(x)} certifies for other purposes than servers.");
        var leaf = way.Certificates[0];
        if (leaf.KeyUsage is { } usage && (usage & Handshake) == KeyUsages.None)
            yield return new(PathFault.WrongUsage, leaf, 0, "The key usage of the certificate allows no TLS handshake.");
    }
}
