using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;

namespace OrderlyBeacon.Core.Formats;

/// <summary>
/// Seals a message to one reader, so that whoever carries it cannot read it: HPKE (RFC 9180), base mode, one message, with DHKEM(P-256, HKDF-SHA256), HKDF-SHA256 and
/// AES-256-GCM. Sealed is the encapsulated key (65 octets) and then the ciphertext with its tag.
/// </summary>
public static class Sealing
{
    /// <summary>An uncompressed point of P-256 (SEC 1, section 2.3.3).</summary>
    public const int KeyBytes = 65;

    private const int TagBytes = 16;
    private static readonly byte[] KemSuite = [.. "KEM"u8, 0x00, 0x10];
    private static readonly byte[] HpkeSuite = [.. "HPKE"u8, 0x00, 0x10, 0x00, 0x01, 0x00, 0x02];

    public static ECDiffieHellman NewKey() => ECDiffieHellman.Create(ECCurve.NamedCurves.nistP256);

    /// <summary>The public key as it travels.</summary>
    public static byte[] PublicKeyOf(ECDiffieHellman key)
    {
        var q = key.ExportParameters(false).Q;
        return [0x04, .. q.X!, .. q.Y!];
    }

    /// <param name="to">The reader's public key, <see cref="KeyBytes"/> octets.</param>
    /// <param name="purpose">What it is for: opened for another purpose, it does not open.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>: that is no public key.</exception>
    public static byte[] Seal(ReadOnlySpan<byte> to, string purpose, ReadOnlySpan<byte> content)
    {
        using var reader = Point(to);
        using var ephemeral = NewKey();
        var enc = PublicKeyOf(ephemeral);
        var (key, nonce) = Schedule(ephemeral.DeriveRawSecretAgreement(reader.PublicKey), [.. enc, .. to], purpose);
        var sealedBytes = new byte[KeyBytes + content.Length + TagBytes];
        enc.CopyTo(sealedBytes, 0);
        using var aes = new AesGcm(key, TagBytes);
        aes.Encrypt(nonce, content, sealedBytes.AsSpan(KeyBytes, content.Length), sealedBytes.AsSpan(KeyBytes + content.Length));
        CryptographicOperations.ZeroMemory(key);
        return sealedBytes;
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DataDamaged"/>: it was not sealed for this reader and purpose, or was altered.</exception>
    public static byte[] Open(ECDiffieHellman reader, string purpose, ReadOnlySpan<byte> sealedBytes)
    {
        if (sealedBytes.Length < KeyBytes + TagBytes)
            throw Damaged(null);
        var enc = sealedBytes[..KeyBytes];
        ECDiffieHellman ephemeral;
        try
        {
            ephemeral = Point(enc);
        }
        catch (BeaconProblem e)
        {
            throw Damaged(e);
        }
        using (ephemeral)
        {
            var (key, nonce) = Schedule(reader.DeriveRawSecretAgreement(ephemeral.PublicKey), [.. enc, .. PublicKeyOf(reader)], purpose);
            var content = new byte[sealedBytes.Length - KeyBytes - TagBytes];
            using var aes = new AesGcm(key, TagBytes);
            try
            {
                aes.Decrypt(nonce, sealedBytes[KeyBytes..^TagBytes], sealedBytes[^TagBytes..], content);
            }
            catch (CryptographicException e)
            {
                throw Damaged(e);
            }
            CryptographicOperations.ZeroMemory(key);
            return content;
        }
    }

    private static ECDiffieHellman Point(ReadOnlySpan<byte> key)
    {
        try
        {
            if (key.Length != KeyBytes || key[0] != 0x04)
                throw new CryptographicException("It is not an uncompressed point.");
            return ECDiffieHellman.Create(
                new ECParameters
                {
                    Curve = ECCurve.NamedCurves.nistP256,
                    Q = new() { X = key[1..33].ToArray(), Y = key[33..].ToArray() },
                }
            );
        }
        catch (CryptographicException e)
        {
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "That is not a public key on P-256.",
                "Give the 65 octets of an uncompressed point, in Base64.",
                e
            );
        }
    }

    /// <summary>RFC 9180 section 4.1, ExtractAndExpand, then section 5.1, KeySchedule in base mode.</summary>
    private static (byte[] Key, byte[] Nonce) Schedule(byte[] agreed, ReadOnlySpan<byte> kemContext, string purpose)
    {
        var shared = Expand(KemSuite, Extract(KemSuite, [], "eae_prk", agreed), "shared_secret", kemContext, 32);
        CryptographicOperations.ZeroMemory(agreed);
        byte[] context =
        [
            0x00,
            .. Extract(HpkeSuite, [], "psk_id_hash", []),
            .. Extract(HpkeSuite, [], "info_hash", Encoding.UTF8.GetBytes(purpose)),
        ];
        var secret = Extract(HpkeSuite, shared, "secret", []);
        return (Expand(HpkeSuite, secret, "key", context, 32), Expand(HpkeSuite, secret, "base_nonce", context, 12));
    }

    /// <summary>LabeledExtract (RFC 9180 section 4).</summary>
    private static byte[] Extract(byte[] suite, byte[] salt, string label, ReadOnlySpan<byte> input) =>
        HKDF.Extract(HashAlgorithmName.SHA256, [.. "HPKE-v1"u8, .. suite, .. Encoding.ASCII.GetBytes(label), .. input], salt);

    /// <summary>LabeledExpand (RFC 9180 section 4).</summary>
    private static byte[] Expand(byte[] suite, byte[] secret, string label, ReadOnlySpan<byte> info, int length)
    {
        var two = new byte[2];
        BinaryPrimitives.WriteUInt16BigEndian(two, (ushort)length);
        return HKDF.Expand(
            HashAlgorithmName.SHA256,
            secret,
            length,
            [.. two, .. "HPKE-v1"u8, .. suite, .. Encoding.ASCII.GetBytes(label), .. info]
        );
    }

    private static BeaconProblem Damaged(Exception? e) =>
        new(
            ProblemCode.DataDamaged,
            "What was sealed does not open: it was sealed for another reader, or altered on its way.",
            "Do it again; it is sealed anew.",
            e
        );
}
