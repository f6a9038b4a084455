using System.Globalization;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Formats;

/// <summary>One thing that two certificates say.</summary>
public sealed record ComparedField(string Field, string Left, string Right)
{
    public bool IsSame => Left == Right;
}

/// <summary>Two certificates side by side: what differs first.</summary>
public static class CertificateComparison
{
    private static readonly (string Name, Func<X509, string> Of)[] Fields =
    [
        ("names", x => string.Join(", ", x.Names.Select(n => n.ToString()).Order(StringComparer.Ordinal))),
        ("subject", x => x.Subject.ToString()),
        ("issuer", x => x.Issuer.ToString()),
        ("from", x => Moment(x.NotBefore)),
        ("until", x => Moment(x.NotAfter)),
        ("serial", x => x.Serial.ToString()),
        ("key", x => x.PublicKey.Spec.ToString()),
        ("public key", x => x.PublicKey.Fingerprint()),
        ("signature", x => x.Scheme.ToString()),
        ("key usage", x => x.KeyUsage?.ToString() ?? "none"),
        ("extended key usage", x => x.ExtendedKeyUsage is { } u ? string.Join(", ", u) : "none"),
        ("authority", x => x.IsAuthority ? "yes" : "no"),
        ("revocation lists", x => string.Join(", ", x.CrlUris)),
        ("responder and issuer", x => string.Join(", ", x.Access.Select(a => a.Uri))),
        ("fingerprint", x => x.Thumbprint.Hex),
    ];

    public static IReadOnlyList<ComparedField> Run(X509 left, X509 right) =>
        [.. Fields.Select(f => new ComparedField(f.Name, f.Of(left), f.Of(right))).OrderBy(f => f.IsSame)];

    /// <summary>What it comes to, in one sentence.</summary>
    public static string Verdict(X509 left, X509 right)
    {
        if (left.Thumbprint == right.Thumbprint)
            return "They are the same certificate.";
        if (left.PublicKey.SameKey(right.PublicKey))
            return "They are two certificates for one key: either works with the private key of the other.";
        if (SameNames(left, right))
            return "They carry the same names and have different keys: each needs its own.";
        return "They carry different names and have different keys.";
    }

    private static bool SameNames(X509 left, X509 right) => left.Names.ToHashSet().SetEquals(right.Names);

    private static string Moment(DateTimeOffset t) => t.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss'Z'", CultureInfo.InvariantCulture);
}
