using System.Formats.Asn1;
using System.Security.Cryptography;

namespace OrderlyBeacon.Core.Keys;

/// <summary>A SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7), read once, with its kind and size.</summary>
public sealed class PublicKeyInfo
{
    private PublicKeyInfo(ReadOnlyMemory<byte> der, KeySpec spec, ReadOnlyMemory<byte> keyBits, int exponentBits)
    {
        (Der, Spec, KeyBits, ExponentBits) = (der, spec, keyBits, exponentBits);
        Canonical = spec.Algorithm == KeyAlgorithm.Rsa ? WriteRsa(keyBits.Span) : der;
    }

    /// <summary>The encoded SubjectPublicKeyInfo.</summary>
    public ReadOnlyMemory<byte> Der { get; }

    public KeySpec Spec { get; }

    /// <summary>The content of the BIT STRING.</summary>
    public ReadOnlyMemory<byte> KeyBits { get; }

    /// <summary>The structure as everybody writes it: an RSA key may also come marked for PSS or without its NULL, and is the same key.</summary>
    public ReadOnlyMemory<byte> Canonical { get; }

    /// <summary>Whether signatures can be checked with it here: a known kind, a named curve, an RSA modulus and exponent of a size that costs no more than a signature should.</summary>
    public bool IsUsable =>
        Spec.Algorithm switch
        {
            KeyAlgorithm.Rsa => Spec.Bits <= 16384 && ExponentBits <= 64,
            KeyAlgorithm.Ec => Spec.Bits != 0,
            KeyAlgorithm.Ed25519 => true,
            _ => false,
        };

    /// <summary>Length of an RSA public exponent in bits; 0 for other keys.</summary>
    public int ExponentBits { get; }

    /// <summary>SHA-1 of the key bits (RFC 5280 section 4.2.1.2, method 1): a handle, not a protection.</summary>
    public byte[] KeyIdentifier()
    {
#pragma warning disable CA5350 // the standard's key identifier
        return SHA1.HashData(KeyBits.Span);
#pragma warning restore CA5350
    }

    /// <summary>SHA-256 over <see cref="Canonical"/>, lower-case hexadecimal: tells two keys apart, however they are wrapped.</summary>
    public string Fingerprint() => Convert.ToHexStringLower(SHA256.HashData(Canonical.Span));

    public bool SameKey(PublicKeyInfo other) => Canonical.Span.SequenceEqual(other.Canonical.Span);

    private static byte[] WriteRsa(ReadOnlySpan<byte> keyBits)
    {
        var w = new AsnWriter(AsnEncodingRules.DER, keyBits.Length + 40);
        using (w.PushSequence())
        {
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(Oids.Rsa);
                w.WriteNull();
            }
            w.WriteBitString(keyBits);
        }
        return w.Encode();
    }

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
        // Compressed points are met nowhere in this trade, and most clients do not read them.
        if (bits != 0 && (point.Length != 1 + 2 * ((bits + 7) / 8) || point[0] != 4))
            throw new AsnContentException("An elliptic key whose point is not an uncompressed one of its curve.");
        return bits;
    }
}
