using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.Core.Formats;

/// <summary>
/// Reads the certificates that a Java keystore trusts, in both of its forms: PKCS#12 (RFC 7292), and the older one of Java's own (magic <c>FEEDFEED</c>: count, then entries of tag, alias,
/// date, and a certificate with its type). Keys in it are passed over.
/// </summary>
public static class JavaKeystore
{
    /// <summary>Entries of a keystore; public bundles have some 150.</summary>
    public const int MostEntries = 2000;

    private const uint Magic = 0xFEEDFEED;
    private const int KeyEntry = 1,
        CertificateEntry = 2,
        DateLength = 8;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.FileNotRecognised"/>, or <see cref="ProblemCode.PassphraseWrong"/>.</exception>
    /// <returns>DER of each.</returns>
    public static IReadOnlyList<ReadOnlyMemory<byte>> Anchors(ReadOnlySpan<byte> bytes, string passphrase) =>
        bytes.Length >= 12 && BinaryPrimitives.ReadUInt32BigEndian(bytes) == Magic ? Older(bytes) : FromPkcs12(bytes, passphrase);

    private static List<ReadOnlyMemory<byte>> FromPkcs12(ReadOnlySpan<byte> bytes, string passphrase)
    {
        try
        {
            var loaded = X509CertificateLoader.LoadPkcs12Collection(bytes, passphrase, X509KeyStorageFlags.EphemeralKeySet);
            try
            {
                return [.. loaded.Where(c => !c.HasPrivateKey).Select(c => (ReadOnlyMemory<byte>)c.RawData)];
            }
            finally
            {
                foreach (var c in loaded)
                    c.Dispose();
            }
        }
        catch (Pkcs12LoadLimitExceededException e)
        {
            throw Unknown("It has more in it than a keystore has", e);
        }
        catch (CryptographicException e)
        {
            throw new BeaconProblem(
                ProblemCode.PassphraseWrong,
                "The keystore does not open with this passphrase, or is none.",
                "Name a file with its passphrase.",
                e
            );
        }
    }

    private static List<ReadOnlyMemory<byte>> Older(ReadOnlySpan<byte> bytes)
    {
        var reader = new Cursor(bytes[4..]);
        var version = reader.Int();
        var count = reader.Int();
        if (version is not (1 or 2) || count is < 0 or > MostEntries)
            throw Unknown($"Its version is {version}, and it says that it has {count} entries");
        var found = new List<ReadOnlyMemory<byte>>();
        for (var i = 0; i < count; i++)
        {
            var tag = reader.Int();
            reader.PassText();
            reader.Take(DateLength);
            if (tag == CertificateEntry)
                found.Add(Certificate(ref reader, version).ToArray());
            else if (tag == KeyEntry)
                PassKey(ref reader, version);
            else
                throw Unknown($"Entry {i + 1} is of an unknown kind {tag}");
        }
        return found;
    }

    private static ReadOnlySpan<byte> Certificate(ref Cursor reader, int version)
    {
        if (version == 2)
            reader.PassText();
        return reader.Take(reader.Int());
    }

    private static void PassKey(ref Cursor reader, int version)
    {
        reader.Take(reader.Int());
        var chain = reader.Int();
        if (chain is < 0 or > MostEntries)
            throw Unknown($"A key's chain has {chain} certificates");
        for (var i = 0; i < chain; i++)
            Certificate(ref reader, version);
    }

    private static BeaconProblem Unknown(string why, Exception? cause = null) =>
        new(
            ProblemCode.FileNotRecognised,
            $"The keystore cannot be read: {why}.",
            "Look at it with keytool -list; it may have been written by half.",
            cause
        );

    /// <summary>Numbers in network order, texts with two bytes of length.</summary>
    private ref struct Cursor(ReadOnlySpan<byte> rest)
    {
        private ReadOnlySpan<byte> _rest = rest;

        public int Int() => BinaryPrimitives.ReadInt32BigEndian(Take(4));

        public void PassText() => Take(BinaryPrimitives.ReadUInt16BigEndian(Take(2)));

        public ReadOnlySpan<byte> Take(int count)
        {
            if (count < 0 || count > _rest.Length)
                throw Unknown("it ends in the middle of an entry");
            var taken = _rest[..count];
            _rest = _rest[count..];
            return taken;
        }
    }
}
