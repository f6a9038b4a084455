using System.Formats.Asn1;
using System.Security.Cryptography;

namespace OrderlyBeacon.Core.Keys;

/// <summary>A SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7), read once, with its kind and size.</summary>
public sealed class PublicKeyInfo
{
    private PublicKeyInfo(ReadOnlyMemory<byte> der, KeySpec spec, ReadOnlyMemory<byte> keyBits, int exponentBits) =>
        (Der, Spec, KeyBits, ExponentBits) = (der, spec, keyBits, exponentBits);

    /// <summary>The encoded SubjectPublicKeyInfo.</summary>
    public ReadOnlyMemory<byte> Der { get; }

    public KeySpec Spec { get; }

    /// <summary>The content of the BIT STRING.</summary>
    public ReadOnlyMemory<byte> KeyBits { get; }

    /// <summary>Length of an RSA public exponent in bits; 0 for other keys.</summary>
    public int ExponentBits { get; }

    /// <summary>SHA-1 of the key bits (RFC 5280 section 4.2.1.2, method 1): a handle, not a protection.</summary>
    public byte[] KeyIdentifier()
    {
#pragma warning disable CA5350 // the standard's key identifier
        return SHA1.HashData(KeyBits.Span);
#pragma warning restore CA5350
    }

    /// <summary>SHA-256 over the whole structure, lower-case hexadecimal: tells two keys apart.</summary>
    public string Fingerprint() => Convert.ToHexStringLower(SHA256.HashData(Der.Span));

    public bool SameKey(PublicKeyInfo other) => Der.Span.SequenceEqual(other.Der.Span);

    /// <exception cref="AsnContentException">The structure is not one.</exception>
    public static PublicKeyInfo Read(ReadOnlyMemory<byte> der)
    {
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var spki = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        var alg = spki.ReadSequence();
        var oid = alg.ReadObjectIdentifier();
        ReadOnlyMemory<byte> parameters = alg.HasData ? alg.ReadEncodedValue() : default;
        alg.ThrowIfNotEmpty();
        var bits = spki.ReadBitString(out var unused);
        spki.ThrowIfNotEmpty();
        if (unused != 0)
            throw new AsnContentException("A public key has unused bits.");
        var exponent = 0;
        var spec = oid switch
        {
            Oids.Rsa or Oids.RsaPss => new KeySpec(KeyAlgorithm.Rsa, ReadRsa(bits, out exponent)),
            Oids.EcPublicKey => new KeySpec(KeyAlgorithm.Ec, CurveBits(parameters, bits)),
            Oids.Ed25519 => new KeySpec(KeyAlgorithm.Ed25519, 256),
            _ => new KeySpec(KeyAlgorithm.Unknown, 0),
        };
        return new(der.ToArray(), spec, bits, exponent);
    }

    private static int ReadRsa(byte[] bits, out int exponentBits)
    {
        var outer = new AsnReader(bits, AsnEncodingRules.DER);
        var seq = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        var modulus = seq.ReadInteger();
        var exponent = seq.ReadInteger();
        seq.ThrowIfNotEmpty();
        if (modulus.Sign <= 0 || exponent.Sign <= 0)
            throw new AsnContentException("An RSA key with a number that is not positive.");
        exponentBits = (int)exponent.GetBitLength();
        return (int)modulus.GetBitLength();
    }

    private static int CurveBits(ReadOnlyMemory<byte> parameters, byte[] point)
    {
        if (parameters.IsEmpty)
            throw new AsnContentException("An elliptic key without its curve.");
        var reader = new AsnReader(parameters, AsnEncodingRules.DER);
        if (reader.PeekTag() != Asn1Tag.ObjectIdentifier)
            return 0;
        var bits = reader.ReadObjectIdentifier() switch
        {
            Oids.P256 => 256,
            Oids.P384 => 384,
            Oids.P521 => 521,
            _ => 0,
        };
        if (bits != 0 && (point.Length != 1 + 2 * ((bits + 7) / 8) || point[0] != 4))
            throw new AsnContentException("An elliptic key whose point is not an uncompressed one of its curve.");
        return bits;
    }
}
