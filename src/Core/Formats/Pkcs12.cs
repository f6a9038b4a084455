using System.Buffers.Binary;
using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Text;

namespace OrderlyBeacon.Core.Formats;

/// <summary>How a PKCS#12 file is protected.</summary>
public enum Pkcs12Strength
{
    /// <summary>The key with AES-256 (PBES2, RFC 8018) and SHA-256; the whole with HMAC-SHA-256 (RFC 7292 appendix B.2).</summary>
    Modern,

    /// <summary>The key with Triple-DES, the whole with HMAC-SHA-1: for programs from before 2018 that open nothing else.</summary>
    Legacy,
}

/// <summary>
/// Writes PKCS#12 files (RFC 7292). The private key is encrypted; the certificates, which everybody may see, are not. A label is the friendly name (PKCS#9) by which
/// programs find their entry, and the alias of a Java keystore.
/// </summary>
public static class Pkcs12
{
    private const int Rounds = 100_000,
        LegacyRounds = 2048;
    private const string KeyBag = "1.2.840.113549.1.12.10.1.2",
        CertificateBag = "1.2.840.113549.1.12.10.1.3",
        X509Certificate = "1.2.840.113549.1.9.22.1",
        FriendlyName = "1.2.840.113549.1.9.20",
        LocalKeyId = "1.2.840.113549.1.9.21",
        Sha256 = "2.16.840.1.101.3.4.2.1",
        Sha1 = "1.3.14.3.2.26";
    private static readonly Asn1Tag Zero = new(TagClass.ContextSpecific, 0, true);

    /// <summary>Packs a leaf, its chain and optionally its key.</summary>
    /// <param name="chain">Leaf first.</param>
    /// <param name="key">The leaf's private key, or null for certificates alone.</param>
    /// <param name="salt">16 random octets for the MAC.</param>
    /// <param name="label">The friendly name of key and leaf; null gives none.</param>
    public static byte[] Write(
        IReadOnlyList<ReadOnlyMemory<byte>> chain,
        AsymmetricAlgorithm? key,
        string password,
        ReadOnlySpan<byte> salt,
        string? label = null,
        Pkcs12Strength strength = Pkcs12Strength.Modern
    )
    {
        var id = SHA256.HashData(chain[0].Span)[..20];
        var safes = new List<byte[]> { Safe(w => WriteCertificates(w, chain, key is null ? null : id, label)) };
        if (key is not null)
            safes.Add(Safe(w => WriteKey(w, key, password, id, label, strength)));
        var content = new AsnWriter(AsnEncodingRules.DER);
        using (content.PushSequence())
            foreach (var safe in safes)
                WriteData(content, safe);
        var authenticated = content.Encode();
        var pfx = new AsnWriter(AsnEncodingRules.DER);
        using (pfx.PushSequence())
        {
            pfx.WriteInteger(3);
            WriteData(pfx, authenticated);
            WriteMac(pfx, authenticated, password, salt, strength);
        }
        return pfx.Encode();
    }

    private static byte[] Safe(Action<AsnWriter> bags)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            bags(w);
        return w.Encode();
    }

    private static void WriteData(AsnWriter w, byte[] content)
    {
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(Oids.Data);
            using (w.PushSequence(Zero))
                w.WriteOctetString(content);
        }
    }

    private static void WriteCertificates(AsnWriter w, IReadOnlyList<ReadOnlyMemory<byte>> chain, byte[]? id, string? label)
    {
        for (var i = 0; i < chain.Count; i++)
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(CertificateBag);
                using (w.PushSequence(Zero))
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(X509Certificate);
                    using (w.PushSequence(Zero))
                        w.WriteOctetString(chain[i].Span);
                }
                if (i == 0)
                    WriteAttributes(w, id, label);
            }
    }

    private static void WriteKey(AsnWriter w, AsymmetricAlgorithm key, string password, byte[] id, string? label, Pkcs12Strength strength)
    {
        var parameters =
            strength == Pkcs12Strength.Modern
                ? new PbeParameters(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, Rounds)
                : new PbeParameters(PbeEncryptionAlgorithm.TripleDes3KeyPkcs12, HashAlgorithmName.SHA1, LegacyRounds);
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(KeyBag);
            using (w.PushSequence(Zero))
                w.WriteEncodedValue(key.ExportEncryptedPkcs8PrivateKey(password, parameters));
            WriteAttributes(w, id, label);
        }
    }

    private static void WriteAttributes(AsnWriter w, byte[]? id, string? label)
    {
        if (id is null && label is null)
            return;
        using (w.PushSetOf())
        {
            if (label is not null)
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(FriendlyName);
                    using (w.PushSetOf())
                        w.WriteCharacterString(UniversalTagNumber.BMPString, label);
                }
            if (id is not null)
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(LocalKeyId);
                    using (w.PushSetOf())
                        w.WriteOctetString(id);
                }
        }
    }

    private static void WriteMac(AsnWriter w, byte[] content, string password, ReadOnlySpan<byte> salt, Pkcs12Strength strength)
    {
        var (oid, hash, rounds) =
            strength == Pkcs12Strength.Modern ? (Sha256, HashAlgorithmName.SHA256, Rounds) : (Sha1, HashAlgorithmName.SHA1, LegacyRounds);
        var key = MacKey(hash, password, salt, rounds);
        var mac = hash == HashAlgorithmName.SHA256 ? HMACSHA256.HashData(key, content) : HMACSHA1.HashData(key, content);
        using (w.PushSequence())
        {
            using (w.PushSequence())
            {
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(oid);
                    w.WriteNull();
                }
                w.WriteOctetString(mac);
            }
            w.WriteOctetString(salt);
            w.WriteInteger(rounds);
        }
    }

    /// <summary>RFC 7292 appendix B.2 with ID 3; one block of the hash is as long as the key that is wanted.</summary>
    private static byte[] MacKey(HashAlgorithmName hash, string password, ReadOnlySpan<byte> salt, int rounds)
    {
        const int block = 64;
        var text = new byte[(password.Length + 1) * 2];
        for (var i = 0; i < password.Length; i++)
            BinaryPrimitives.WriteUInt16BigEndian(text.AsSpan(i * 2), password[i]);
        byte[] digest = [.. Enumerable.Repeat((byte)3, block), .. Repeated(salt, block), .. Repeated(text, block)];
        for (var i = 0; i < rounds; i++)
            digest = hash == HashAlgorithmName.SHA256 ? SHA256.HashData(digest) : SHA1.HashData(digest);
        return digest;
    }

    private static byte[] Repeated(ReadOnlySpan<byte> what, int block)
    {
        var all = new byte[(what.Length + block - 1) / block * block];
        for (var i = 0; i < all.Length; i++)
            all[i] = what[i % what.Length];
        return all;
    }
}
