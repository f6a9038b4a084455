using System.Buffers.Binary;
using System.Formats.Asn1;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Formats;

/// <summary>
/// CMS AuthEnvelopedData (RFC 5083) with AES-256-GCM (RFC 5084) for holders of elliptic keys (ephemeral-static ECDH with the X9.63 derivation over SHA-256 and AES-256 key
/// wrap, RFC 5753). To seal: <see cref="Seal"/> with the recipients' public keys. To open: <see cref="Open"/> with one of their private keys.
/// </summary>
public static class AuthEnveloped
{
    private const string AuthEnvelopedData = "1.2.840.113549.1.9.16.1.23",
        StdDhSha256 = "1.3.132.1.11.1",
        Aes256Wrap = "2.16.840.1.101.3.4.1.45",
        Aes256Gcm = "2.16.840.1.101.3.4.1.46";
    private const int KeyBytes = 32,
        NonceBytes = 12,
        TagBytes = 16;

    /// <summary>Random bytes that one message takes: content key and nonce.</summary>
    public const int RandomBytes = KeyBytes + NonceBytes;

    private static readonly Asn1Tag Zero = Context(0),
        One = Context(1);

    /// <param name="recipients">Keys on P-256, P-384 or P-521.</param>
    /// <param name="random"><see cref="RandomBytes"/> from a cryptographic source, never used before.</param>
    public static byte[] Seal(ReadOnlySpan<byte> content, IReadOnlyList<PublicKeyInfo> recipients, ReadOnlySpan<byte> random)
    {
        if (random.Length != RandomBytes || recipients.Count == 0)
            throw new ArgumentException("A recipient and fresh random bytes are wanted.", nameof(recipients));
        var (key, nonce) = (random[..KeyBytes].ToArray(), random[KeyBytes..].ToArray());
        var cipher = new byte[content.Length];
        var tag = new byte[TagBytes];
        using (var gcm = new AesGcm(key, TagBytes))
            gcm.Encrypt(nonce, content, cipher, tag);
        var w = new AsnWriter(AsnEncodingRules.DER, content.Length + 1024 + 400 * recipients.Count);
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(AuthEnvelopedData);
            using (w.PushSequence(Zero))
            using (w.PushSequence())
            {
                w.WriteInteger(0);
                using (w.PushSetOf())
                    foreach (var r in recipients)
                        WriteRecipient(w, r, key);
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(Oids.Data);
                    using (w.PushSequence())
                    {
                        w.WriteObjectIdentifier(Aes256Gcm);
                        using (w.PushSequence())
                        {
                            w.WriteOctetString(nonce);
                            w.WriteInteger(TagBytes);
                        }
                    }
                    w.WriteOctetString(cipher, new Asn1Tag(TagClass.ContextSpecific, 0));
                }
                w.WriteOctetString(tag);
            }
        }
        CryptographicOperations.ZeroMemory(key);
        return w.Encode();
    }

    /// <summary>KeyAgreeRecipientInfo (RFC 5753 section 3.1.1), with a key of its own for each recipient.</summary>
    private static void WriteRecipient(AsnWriter w, PublicKeyInfo recipient, byte[] contentKey)
    {
        using var theirs = ImportPublic(recipient);
        using var ephemeral = ECDiffieHellman.Create(theirs.ExportParameters().Curve);
        var mine = PublicKeyInfo.Read(ephemeral.ExportSubjectPublicKeyInfo());
        var wrapped = KeyWrap.Wrap(Agree(ephemeral, theirs), contentKey);
        using (w.PushSequence(One))
        {
            w.WriteInteger(3);
            using (w.PushSequence(Zero))
            using (w.PushSequence(One))
            {
                using (w.PushSequence())
                    w.WriteObjectIdentifier(Oids.EcPublicKey);
                w.WriteBitString(mine.KeyBits.Span);
            }
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(StdDhSha256);
                using (w.PushSequence())
                    w.WriteObjectIdentifier(Aes256Wrap);
            }
            using (w.PushSequence())
            using (w.PushSequence())
            {
                using (w.PushSequence(Zero))
                    w.WriteOctetString(recipient.KeyIdentifier());
                w.WriteOctetString(wrapped);
            }
        }
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongFile"/> when it is no such message, <see cref="ProblemCode.PassphraseWrong"/> when it is not sealed to this key, <see cref="ProblemCode.DataDamaged"/> when it was altered.</exception>
    public static byte[] Open(ReadOnlyMemory<byte> message, ECDiffieHellman key)
    {
        try
        {
            return OpenStrict(message, key);
        }
        catch (AuthenticationTagMismatchException e)
        {
            throw new BeaconProblem(ProblemCode.DataDamaged, "The sealed content was altered.", "Take another copy of the file.", e);
        }
        catch (Exception e)
            when (e is AsnContentException or ArgumentException or OverflowException or FormatException or CryptographicException)
        {
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                "These bytes are no sealed content that can be opened here: " + e.Message,
                "Give the file that beacon backup wrote.",
                e
            );
        }
    }

    private static byte[] OpenStrict(ReadOnlyMemory<byte> message, ECDiffieHellman key)
    {
        var outer = new AsnReader(message, AsnEncodingRules.DER);
        var info = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        if (info.ReadObjectIdentifier() != AuthEnvelopedData)
            throw new AsnContentException("It is not AuthEnvelopedData.");
        var data = info.ReadSequence(Zero).ReadSequence();
        data.ReadInteger();
        if (data.PeekTag().HasSameClassAndValue(Zero))
            data.ReadEncodedValue();
        var contentKey = KeyFor(data.ReadSetOf(skipSortOrderValidation: true), key);
        var content = data.ReadSequence();
        content.ReadObjectIdentifier();
        var algorithm = content.ReadSequence();
        if (algorithm.ReadObjectIdentifier() != Aes256Gcm)
            throw new AsnContentException("It is not encrypted with AES-256-GCM.");
        var parameters = algorithm.ReadSequence();
        var nonce = parameters.ReadOctetString();
        var cipher = content.ReadOctetString(new Asn1Tag(TagClass.ContextSpecific, 0));
        if (data.PeekTag().HasSameClassAndValue(One))
            throw new AsnContentException("It has authenticated attributes, which are not read here.");
        var tag = data.ReadOctetString();
        if (nonce.Length != NonceBytes || tag.Length != TagBytes)
            throw new AsnContentException("Nonce or tag have another length than is used here.");
        var plain = new byte[cipher.Length];
        using var gcm = new AesGcm(contentKey, TagBytes);
        gcm.Decrypt(nonce, cipher, tag, plain);
        return plain;
    }

    private static byte[] KeyFor(AsnReader recipients, ECDiffieHellman key)
    {
        var mine = PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo());
        var identifier = mine.KeyIdentifier();
        for (var n = 0; recipients.HasData && n < 100; n++)
        {
            if (!recipients.PeekTag().HasSameClassAndValue(One))
            {
                recipients.ReadEncodedValue();
                continue;
            }
            var r = recipients.ReadSequence(One);
            r.ReadInteger();
            var originator = r.ReadSequence(Zero).ReadSequence(One);
            originator.ReadEncodedValue();
            var point = originator.ReadBitString(out _);
            if (r.PeekTag().HasSameClassAndValue(One))
                throw new AsnContentException("It has key material of the user, which is not read here.");
            if (r.ReadSequence().ReadObjectIdentifier() != StdDhSha256)
                throw new AsnContentException("Its key agreement is not the one that is used here.");
            var keys = r.ReadSequence();
            while (keys.HasData)
            {
                var one = keys.ReadSequence();
                var isMine =
                    one.PeekTag().HasSameClassAndValue(Zero) && one.ReadSequence(Zero).ReadOctetString().AsSpan().SequenceEqual(identifier);
                if (!isMine)
                    continue;
                using var theirs = ImportPoint(mine, point);
                return KeyWrap.Unwrap(Agree(key, theirs), one.ReadOctetString());
            }
        }
        throw new BeaconProblem(
            ProblemCode.PassphraseWrong,
            "It is not sealed to this recovery key.",
            "Give the private part of a recovery key that the service had in BEACON_RECOVERYCERTIFICATES when the backup was taken."
        );
    }

    private static ECDiffieHellmanPublicKey ImportPublic(PublicKeyInfo key)
    {
        using var ec = ECDiffieHellman.Create();
        ec.ImportSubjectPublicKeyInfo(key.Der.Span, out _);
        return ec.PublicKey;
    }

    /// <summary>A point on the same curve as a key of ours.</summary>
    private static ECDiffieHellmanPublicKey ImportPoint(PublicKeyInfo like, byte[] point)
    {
        if (point.Length != like.KeyBits.Length || point[0] != 4)
            throw new AsnContentException("The sender's key is not on the recipient's curve.");
        var der = like.Der.ToArray();
        point.CopyTo(der.AsSpan(der.Length - point.Length));
        return ImportPublic(PublicKeyInfo.Read(der));
    }

    /// <summary>The key-encryption key: X9.63 with one block (RFC 5753 section 7.2, ECC-CMS-SharedInfo).</summary>
    private static byte[] Agree(ECDiffieHellman mine, ECDiffieHellmanPublicKey theirs)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            using (w.PushSequence())
                w.WriteObjectIdentifier(Aes256Wrap);
            var bits = new byte[4];
            BinaryPrimitives.WriteInt32BigEndian(bits, KeyBytes * 8);
            using (w.PushSequence(Context(2)))
                w.WriteOctetString(bits);
        }
        return mine.DeriveKeyFromHash(theirs, HashAlgorithmName.SHA256, null, [0, 0, 0, 1, .. w.Encode()]);
    }

    private static Asn1Tag Context(int n) => new(TagClass.ContextSpecific, n, true);
}

/// <summary>AES key wrap (RFC 3394).</summary>
internal static class KeyWrap
{
    private static readonly byte[] Initial = [0xA6, 0xA6, 0xA6, 0xA6, 0xA6, 0xA6, 0xA6, 0xA6];

    public static byte[] Wrap(byte[] kek, byte[] key)
    {
        using var aes = Aes.Create();
        aes.Key = kek;
        var n = key.Length / 8;
        byte[] output = [.. Initial, .. key];
        Span<byte> block = stackalloc byte[16];
        for (var t = 1; t <= 6 * n; t++)
        {
            var register = output.AsSpan(8 * ((t - 1) % n + 1), 8);
            output.AsSpan(0, 8).CopyTo(block);
            register.CopyTo(block[8..]);
            aes.EncryptEcb(block, block, PaddingMode.None);
            block[8..].CopyTo(register);
            block[..8].CopyTo(output);
            Count(output, t);
        }
        return output;
    }

    /// <exception cref="CryptographicException">The key does not fit, or the wrapped one was altered.</exception>
    public static byte[] Unwrap(byte[] kek, byte[] wrapped)
    {
        if (wrapped.Length is < 24 or > 72 || wrapped.Length % 8 != 0)
            throw new CryptographicException("The wrapped key has a length that no key has.");
        using var aes = Aes.Create();
        aes.Key = kek;
        var n = wrapped.Length / 8 - 1;
        var output = (byte[])wrapped.Clone();
        Span<byte> block = stackalloc byte[16];
        for (var t = 6 * n; t >= 1; t--)
        {
            var register = output.AsSpan(8 * ((t - 1) % n + 1), 8);
            Count(output, t);
            output.AsSpan(0, 8).CopyTo(block);
            register.CopyTo(block[8..]);
            aes.DecryptEcb(block, block, PaddingMode.None);
            block[8..].CopyTo(register);
            block[..8].CopyTo(output);
        }
        return CryptographicOperations.FixedTimeEquals(output.AsSpan(0, 8), Initial)
            ? output[8..]
            : throw new CryptographicException("The wrapped key was altered.");
    }

    private static void Count(byte[] output, int t) =>
        BinaryPrimitives.WriteUInt64BigEndian(output, BinaryPrimitives.ReadUInt64BigEndian(output) ^ (ulong)t);
}
