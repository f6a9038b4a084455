using System.Globalization;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Dane;

/// <summary>One TLSA record: what a name's owner says in DNS about the certificate that is met there (RFC 6698, section 2.1).</summary>
/// <param name="Usage">0 and 2 name an authority, 1 and 3 the server's own certificate (RFC 7218 calls them PKIX-TA, PKIX-EE, DANE-TA, DANE-EE).</param>
/// <param name="Selector">0 the whole certificate, 1 its public key.</param>
/// <param name="Matching">0 the thing itself, 1 its SHA-256, 2 its SHA-512.</param>
/// <param name="Data">Lower-case hexadecimal.</param>
public sealed record TlsaRecord(int Usage, int Selector, int Matching, string Data)
{
    /// <summary>The type's number in DNS.</summary>
    public const int Type = 52;

    public const int AnyAuthority = 2,
        OwnCertificate = 3;

    /// <summary>What is written for a key that is not in use yet: its digest, which needs no certificate (RFC 7671, section 5.1).</summary>
    /// <param name="keyFingerprint">SHA-256 over its SubjectPublicKeyInfo, hexadecimal.</param>
    public static TlsaRecord OfKey(int usage, string keyFingerprint) => new(usage, 1, 1, keyFingerprint.ToLowerInvariant());

    /// <summary>Whether it speaks of the server's own certificate, and not of an authority above it.</summary>
    public bool IsOfServer => Usage is 1 or OwnCertificate;

    public bool IsOfAuthority => Usage is 0 or AnyAuthority;

    /// <summary>Whether a certificate is the one that it means, its usage left aside.</summary>
    public bool Matches(X509 certificate)
    {
        var part = Selector switch
        {
            0 => certificate.Der,
            1 => certificate.PublicKey.Der,
            _ => default,
        };
        if (part.IsEmpty)
            return false;
        return Matching switch
        {
            0 => Data == Convert.ToHexStringLower(part.Span),
            1 => Data == Convert.ToHexStringLower(SHA256.HashData(part.Span)),
            2 => Data == Convert.ToHexStringLower(SHA512.HashData(part.Span)),
            _ => false,
        };
    }

    /// <summary>Whether it is the record of a key, by the digest that <see cref="OfKey"/> takes.</summary>
    public bool IsOfKey(string keyFingerprint) => (Selector, Matching) == (1, 1) && Data == keyFingerprint.ToLowerInvariant();

    /// <summary>As it travels: three octets and the data (RFC 6698, section 2.1).</summary>
    public byte[] Encode() => [(byte)Usage, (byte)Selector, (byte)Matching, .. Convert.FromHexString(Data)];

    /// <summary>As it stands in a zone file (RFC 6698, section 2.2).</summary>
    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Usage} {Selector} {Matching} {Data}");

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static TlsaRecord Parse(string text)
    {
        var words = text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        if (
            words is [var usage, var selector, var matching, .. { Length: > 0 } data]
            && byte.TryParse(usage, NumberStyles.None, CultureInfo.InvariantCulture, out var u)
            && byte.TryParse(selector, NumberStyles.None, CultureInfo.InvariantCulture, out var s)
            && byte.TryParse(matching, NumberStyles.None, CultureInfo.InvariantCulture, out var m)
            && string.Concat(data) is { Length: > 0 and <= 8192 } hex
            && hex.Length % 2 == 0
            && hex.All(char.IsAsciiHexDigit)
        )
            return new(u, s, m, hex.ToLowerInvariant());
        throw new BeaconProblem(
            ProblemCode.InputInvalid,
            "This is no TLSA record.",
            "Three numbers and hexadecimal digits are expected, for example: 3 1 1 8f43…."
        );
    }
}
