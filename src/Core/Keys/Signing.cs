using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.Core.Keys;

/// <summary>Signature algorithms we write or can check.</summary>
public enum SignatureScheme
{
    Sha256Rsa,
    Sha384Rsa,
    Sha512Rsa,
    Sha256Ecdsa,
    Sha384Ecdsa,
    Sha512Ecdsa,
    Sha1Rsa,
    Sha1Ecdsa,

    /// <summary>PSS with SHA-256 and a salt of 32 octets: what we write.</summary>
    RsaPss,
    Sha384Pss,
    Sha512Pss,
    Ed25519,
    Unknown,
}

/// <summary>A key that signs: a file key, a token or a test double. Implementations are safe to use from several threads.</summary>
public interface ISigner
{
    SignatureScheme Scheme { get; }

    PublicKeyInfo PublicKey { get; }

    /// <summary>Signs a to-be-signed structure and returns the content of the BIT STRING (ECDSA as RFC 3279 sequence).</summary>
    byte[] Sign(ReadOnlySpan<byte> tbs);
}

/// <summary>A signer over a platform key, which stays the caller's to dispose of. RSA signs with PKCS#1 v1.5 or, where asked for, PSS, and SHA-256; ECDSA with the hash of its curve's strength.</summary>
public sealed class KeySigner : ISigner
{
    private readonly RSA? _rsa;
    private readonly ECDsa? _ec;
    private readonly HashAlgorithmName _hash;

    /// <param name="pss">Whether an RSA key signs with PSS; others take no notice.</param>
    public KeySigner(AsymmetricAlgorithm key, bool pss = false)
    {
        PublicKey = PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo());
        (_rsa, _ec) = (key as RSA, key as ECDsa);
        Scheme = SchemeOf(PublicKey.Spec, pss);
        _hash = HashOf(Scheme);
    }

    /// <summary>The hash of a scheme that we sign with.</summary>
    public static HashAlgorithmName HashOf(SignatureScheme scheme) =>
        scheme switch
        {
            SignatureScheme.Sha384Ecdsa => HashAlgorithmName.SHA384,
            SignatureScheme.Sha512Ecdsa => HashAlgorithmName.SHA512,
            _ => HashAlgorithmName.SHA256,
        };

    /// <summary>What a key of this kind signs with.</summary>
    public static SignatureScheme SchemeOf(KeySpec spec, bool pss = false) =>
        spec switch
        {
            { Algorithm: KeyAlgorithm.Rsa } => pss ? SignatureScheme.RsaPss : SignatureScheme.Sha256Rsa,
            { Bits: 384 } => SignatureScheme.Sha384Ecdsa,
            { Bits: 521 } => SignatureScheme.Sha512Ecdsa,
            _ => SignatureScheme.Sha256Ecdsa,
        };

    public SignatureScheme Scheme { get; }

    public PublicKeyInfo PublicKey { get; }

    public byte[] Sign(ReadOnlySpan<byte> tbs)
    {
        // Hashed here: the platform's SignData copies what it is given, which may be a CRL of many megabytes.
        Span<byte> hash = stackalloc byte[SHA512.HashSizeInBytes];
        hash = hash[..CryptographicOperations.HashData(_hash, tbs, hash)];
        if (_rsa is not null)
            return _rsa.SignHash(hash, _hash, Scheme == SignatureScheme.RsaPss ? RSASignaturePadding.Pss : RSASignaturePadding.Pkcs1);
        // Into a buffer: the call that returns an array takes the signature apart and puts it together again.
        Span<byte> signature = stackalloc byte[160];
        return _ec!.TrySignHash(hash, signature, DSASignatureFormat.Rfc3279DerSequence, out var length)
            ? signature[..length].ToArray()
            : _ec.SignHash(hash, DSASignatureFormat.Rfc3279DerSequence);
    }

    /// <summary>Makes a new key.</summary>
    public static AsymmetricAlgorithm NewKey(KeySpec spec) =>
        spec.Algorithm == KeyAlgorithm.Rsa
            ? RSA.Create(spec.Bits)
            : ECDsa.Create(
                spec.Bits switch
                {
                    384 => ECCurve.NamedCurves.nistP384,
                    521 => ECCurve.NamedCurves.nistP521,
                    _ => ECCurve.NamedCurves.nistP256,
                }
            );

    /// <summary>Reads an unencrypted PKCS#8, PKCS#1 or SEC 1 key in PEM.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.KeyNotAllowed"/>.</exception>
    public static AsymmetricAlgorithm LoadPem(string pem)
    {
        foreach (var make in new Func<AsymmetricAlgorithm>[] { ECDsa.Create, RSA.Create })
        {
            var key = make();
            try
            {
                if (key is ECDsa ec)
                    ec.ImportFromPem(pem);
                else
                    ((RSA)key).ImportFromPem(pem);
                return key;
            }
            // A key on a curve that the platform does not know is not supported rather than malformed.
            catch (Exception e) when (e is CryptographicException or ArgumentException or NotSupportedException)
            {
                key.Dispose();
            }
        }
        throw new BeaconProblem(
            ProblemCode.KeyNotAllowed,
            "The private key cannot be read.",
            "Give an unencrypted RSA or ECDSA key in PEM (PKCS#8)."
        );
    }
}

/// <summary>Algorithm identifiers: written, read, and checked with the platform's keys.</summary>
public static class Signatures
{
    /// <summary>Octets of salt in a PSS signature: as many as the hash has.</summary>
    public const int PssSalt = 32;

    public static string OidOf(SignatureScheme scheme) =>
        scheme switch
        {
            SignatureScheme.Sha256Rsa => Oids.Sha256Rsa,
            SignatureScheme.Sha384Rsa => Oids.Sha384Rsa,
            SignatureScheme.Sha512Rsa => Oids.Sha512Rsa,
            SignatureScheme.Sha256Ecdsa => Oids.Sha256Ecdsa,
            SignatureScheme.Sha384Ecdsa => Oids.Sha384Ecdsa,
            SignatureScheme.Sha512Ecdsa => Oids.Sha512Ecdsa,
            SignatureScheme.RsaPss => Oids.RsaPss,
            _ => throw new ArgumentOutOfRangeException(nameof(scheme)),
        };

    private static readonly byte[][] Encoded = [.. Enum.GetValues<SignatureScheme>().Select(Encode)];

    /// <summary>An AlgorithmIdentifier in DER, as <see cref="WriteAlgorithm"/> writes it, encoded once.</summary>
    public static ReadOnlySpan<byte> AlgorithmOf(SignatureScheme scheme) =>
        Encoded[(int)scheme] is { Length: > 0 } der ? der : throw new ArgumentOutOfRangeException(nameof(scheme));

    private static byte[] Encode(SignatureScheme scheme)
    {
        if (scheme is SignatureScheme.Sha1Rsa or SignatureScheme.Sha1Ecdsa or > SignatureScheme.RsaPss)
            return [];
        var w = new AsnWriter(AsnEncodingRules.DER);
        WriteAlgorithm(w, scheme);
        return w.Encode();
    }

    /// <summary>Writes an AlgorithmIdentifier: NULL parameters for RSA, SHA-256 with a salt of 32 octets for PSS (RFC 4055 sections 3.1 and 5), none for ECDSA (RFC 5758).</summary>
    public static void WriteAlgorithm(AsnWriter w, SignatureScheme scheme)
    {
        using var _ = w.PushSequence();
        w.WriteObjectIdentifier(OidOf(scheme));
        if (scheme is SignatureScheme.Sha256Rsa or SignatureScheme.Sha384Rsa or SignatureScheme.Sha512Rsa)
            w.WriteNull();
        if (scheme != SignatureScheme.RsaPss)
            return;
        using (w.PushSequence())
        {
            using (w.PushSequence(Part(0)))
                Sha256(w);
            using (w.PushSequence(Part(1)))
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(Oids.Mgf1);
                Sha256(w);
            }
            using (w.PushSequence(Part(2)))
                w.WriteInteger(PssSalt);
        }

        static Asn1Tag Part(int number) => new(TagClass.ContextSpecific, number, true);

        static void Sha256(AsnWriter w)
        {
            // With NULL as its parameters: RFC 4055 section 2.1 takes both, and some readers take only this.
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(Oids.Sha256);
                w.WriteNull();
            }
        }
    }

    public static SignatureScheme ReadAlgorithm(AsnReader reader)
    {
        var alg = reader.ReadSequence();
        return alg.ReadObjectIdentifier() switch
        {
            Oids.Sha256Rsa => SignatureScheme.Sha256Rsa,
            Oids.Sha384Rsa => SignatureScheme.Sha384Rsa,
            Oids.Sha512Rsa => SignatureScheme.Sha512Rsa,
            Oids.Sha256Ecdsa => SignatureScheme.Sha256Ecdsa,
            Oids.Sha384Ecdsa => SignatureScheme.Sha384Ecdsa,
            Oids.Sha512Ecdsa => SignatureScheme.Sha512Ecdsa,
            Oids.Sha1Rsa => SignatureScheme.Sha1Rsa,
            Oids.Sha1Ecdsa => SignatureScheme.Sha1Ecdsa,
            Oids.Ed25519 => SignatureScheme.Ed25519,
            Oids.RsaPss => ReadPss(alg),
            _ => SignatureScheme.Unknown,
        };
    }

    /// <summary>RSASSA-PSS-params (RFC 4055 section 3.1): the same hash twice, and a salt as long as it; anything else is not checked here.</summary>
    private static SignatureScheme ReadPss(AsnReader alg)
    {
        if (!alg.HasData || alg.PeekTag() != Asn1Tag.Sequence)
            return SignatureScheme.Unknown;
        var parameters = alg.ReadSequence();
        var (hash, mask, salt) = ("", "", 20);
        while (parameters.HasData)
        {
            var tag = parameters.PeekTag();
            var one = parameters.ReadSequence(tag);
            switch (tag.TagValue)
            {
                case 0:
                    hash = one.ReadSequence().ReadObjectIdentifier();
                    break;
                case 1:
                    var generator = one.ReadSequence();
                    mask = generator.ReadObjectIdentifier() == Oids.Mgf1 ? generator.ReadSequence().ReadObjectIdentifier() : "";
                    break;
                case 2:
                    salt = one.TryReadInt32(out var n) ? n : -1;
                    break;
                default:
                    one.ReadInteger();
                    break;
            }
        }
        return (hash == mask, hash, salt) switch
        {
            (true, Oids.Sha256, 32) => SignatureScheme.RsaPss,
            (true, Oids.Sha384, 48) => SignatureScheme.Sha384Pss,
            (true, Oids.Sha512, 64) => SignatureScheme.Sha512Pss,
            _ => SignatureScheme.Unknown,
        };
    }

    /// <summary>Wraps signed bytes and their signature: SEQUENCE { tbs, algorithm, BIT STRING }.</summary>
    public static byte[] Seal(ReadOnlySpan<byte> tbs, ISigner signer)
    {
        var signature = signer.Sign(tbs);
        var w = new AsnWriter(AsnEncodingRules.DER, tbs.Length + signature.Length + 64);
        using (w.PushSequence())
        {
            w.WriteEncodedValue(tbs);
            WriteAlgorithm(w, signer.Scheme);
            w.WriteBitString(signature);
        }
        return w.Encode();
    }

    private static HashAlgorithmName HashIn(SignatureScheme scheme) =>
        scheme switch
        {
            SignatureScheme.Sha256Rsa or SignatureScheme.Sha256Ecdsa or SignatureScheme.RsaPss => HashAlgorithmName.SHA256,
            SignatureScheme.Sha384Rsa or SignatureScheme.Sha384Ecdsa or SignatureScheme.Sha384Pss => HashAlgorithmName.SHA384,
            SignatureScheme.Sha512Rsa or SignatureScheme.Sha512Ecdsa or SignatureScheme.Sha512Pss => HashAlgorithmName.SHA512,
            SignatureScheme.Sha1Rsa or SignatureScheme.Sha1Ecdsa => HashAlgorithmName.SHA1,
            _ => default,
        };

    /// <summary>What kind of key makes such signatures.</summary>
    private static KeyAlgorithm KeyOf(SignatureScheme scheme) =>
        scheme switch
        {
            SignatureScheme.Sha256Ecdsa or SignatureScheme.Sha384Ecdsa or SignatureScheme.Sha512Ecdsa or SignatureScheme.Sha1Ecdsa =>
                KeyAlgorithm.Ec,
            SignatureScheme.Ed25519 => KeyAlgorithm.Ed25519,
            SignatureScheme.Unknown => KeyAlgorithm.Unknown,
            _ => KeyAlgorithm.Rsa,
        };

    /// <summary>Checks a signature; false when it does not match, the algorithm does not fit the key, or the key is of a kind that cannot be used here.</summary>
    public static bool Verify(PublicKeyInfo key, SignatureScheme scheme, ReadOnlySpan<byte> tbs, ReadOnlySpan<byte> signature)
    {
        if (scheme == SignatureScheme.Unknown || KeyOf(scheme) != key.Spec.Algorithm || !key.IsUsable)
            return false;
        if (scheme == SignatureScheme.Ed25519)
            return Ed25519.Verify(key.KeyBits.Span, tbs, signature);
        try
        {
            var pub = System.Security.Cryptography.X509Certificates.PublicKey.CreateFromSubjectPublicKeyInfo(key.Canonical.Span, out _);
            if (key.Spec.Algorithm == KeyAlgorithm.Ec)
            {
                using var ec = pub.GetECDsaPublicKey();
                return ec?.VerifyData(tbs, signature, HashIn(scheme), DSASignatureFormat.Rfc3279DerSequence) ?? false;
            }
            using var rsa = pub.GetRSAPublicKey();
            var padding = scheme is SignatureScheme.RsaPss or SignatureScheme.Sha384Pss or SignatureScheme.Sha512Pss
                ? RSASignaturePadding.Pss
                : RSASignaturePadding.Pkcs1;
            return rsa?.VerifyData(tbs, signature, HashIn(scheme), padding) ?? false;
        }
        catch (Exception e) when (e is CryptographicException or NotSupportedException)
        {
            return false;
        }
    }
}
