using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 7, strength, as clients have it beyond the standard: no RSA key under 2048 bits anywhere, no curve that is not named, and no signature with SHA-1 or an
/// unknown algorithm below the anchor, whose own signature nobody relies on.
/// </summary>
internal static class StrengthStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        foreach (var (i, x) in way.FromAnchor())
        {
            var who = i == 0 ? "The certificate" : $"The authority {TrustPath.NameOf(x)}";
            if (x.PublicKey.Spec is { Algorithm: KeyAlgorithm.Rsa, Bits: < 2048 })
                yield return new(
                    PathFault.WeakKey,
                    x,
                    i,
                    $"{who} is too weak: its key is only {x.PublicKey.Spec}.",
                    "Current clients refuse it."
                );
            else if (!x.PublicKey.IsUsable)
                yield return new(
                    PathFault.WeakKey,
                    x,
                    i,
                    $"{who} has a key of a kind that clients do not use.",
                    "Current clients refuse it."
                );
            if (i < way.Last && x.Scheme is SignatureScheme.Sha1Rsa or SignatureScheme.Sha1Ecdsa)
                yield return new(
                    PathFault.WeakSignature,
                    x,
                    i,
                    $"{who} is too weak: it is signed with SHA-1.",
                    "Current clients refuse it."
                );
        }
    }
}
