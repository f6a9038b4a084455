using System.Formats.Asn1;
using System.IO.Compression;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Formats;

/// <summary>A file as somebody gives it; its name is for messages alone.</summary>
public sealed record GivenFile(string Name, ReadOnlyMemory<byte> Content);

/// <summary>All certificates and keys that lie in some files, in whatever form and order: PEM, DER, PKCS#7, PKCS#12, bare Base64, or a ZIP of these.</summary>
public sealed class CertificateBag : IDisposable
{
    /// <summary>All files together.</summary>
    public const int MostBytes = 4 << 20;

    /// <summary>What a ZIP may become when it is unpacked.</summary>
    private const int MostUnpacked = 8 << 20;
    private const int MostFiles = 200,
        MostCertificates = 500;
    private static readonly string[] KeyLabels = ["PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "ENCRYPTED PRIVATE KEY"];

    private readonly Dictionary<Thumbprint, X509> _certificates = [];
    private readonly Dictionary<string, AsymmetricAlgorithm> _keys = [];
    private readonly List<string> _notes = [];
    private readonly string? _passphrase;
    private readonly bool _withKeys;
    private int _files;
    private long _unpacked;

    private CertificateBag(string? passphrase, bool withKeys) => (_passphrase, _withKeys) = (passphrase, withKeys);

    /// <summary>Each once, in the order in which they were found.</summary>
    public IReadOnlyCollection<X509> Certificates => _certificates.Values;

    /// <summary>What was passed over, for people.</summary>
    public IReadOnlyList<string> Notes => _notes;

    /// <summary>The private key of a certificate, if it was there too.</summary>
    public AsymmetricAlgorithm? KeyOf(X509 certificate) => _keys.GetValueOrDefault(certificate.PublicKey.Fingerprint());

    public int KeyCount => _keys.Count;

    /// <summary>The certificates that somebody can serve: what is no authority's, and what came with its key (many a self-signed one calls itself an authority).</summary>
    public IReadOnlyList<X509> Leaves => [.. Certificates.Where(c => !c.IsAuthority || KeyOf(c) is not null)];

    /// <param name="passphrase">For PKCS#12 and encrypted keys; null when none was given.</param>
    /// <param name="withKeys">False where private keys do not belong: one is a reason to refuse.</param>
    /// <exception cref="BeaconProblem">Too large, nothing in it, the passphrase is wrong, or a key where none belongs.</exception>
    public static CertificateBag Read(IReadOnlyList<GivenFile> files, string? passphrase, bool withKeys)
    {
        if (files.Sum(f => (long)f.Content.Length) > MostBytes || files.Count > MostFiles)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"That is more than {MostBytes >> 20} MiB, or than {MostFiles} files.",
                "Give the certificate files alone."
            );
        var bag = new CertificateBag(passphrase, withKeys);
        try
        {
            foreach (var f in files)
                bag.Take(f, isPacked: false);
            if (bag._certificates.Count == 0)
                throw new BeaconProblem(
                    ProblemCode.FileNotRecognised,
                    $"There is no certificate in {Told(files)}.{(bag._notes.Count > 0 ? " " + string.Join(" ", bag._notes) : "")}",
                    "Give the file that the authority sent: PEM, DER, PKCS#7, PKCS#12, or a ZIP of them."
                );
            return bag;
        }
        catch
        {
            bag.Dispose();
            throw;
        }
    }

    private static string Told(IReadOnlyList<GivenFile> files) =>
        files.Count == 0 ? "what was given" : string.Join(", ", files.Take(5).Select(f => f.Name));

    private void Take(GivenFile file, bool isPacked)
    {
        if (++_files > MostFiles)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"There are over {MostFiles} files.",
                "Unpack it, and give the certificate files alone."
            );
        if (file.Content.Span.StartsWith("PK\u0003\u0004"u8))
        {
            if (isPacked)
                _notes.Add($"{file.Name} is a ZIP within a ZIP; it was not opened.");
            else
                Unpack(file);
            return;
        }
        ArmorFile armor;
        try
        {
            armor = Armor.Read(FileText.ToAscii(file.Content.Span));
        }
        catch (BeaconProblem p)
        {
            // A note to the customer is no certificate either: the rest is read all the same.
            _notes.Add($"{file.Name}: {p.Message}");
            return;
        }
        foreach (var block in armor.Blocks)
            if (!TakeBlock(file, block))
                _notes.Add($"{file.Name}: nothing that is known{(block.Label.Length > 0 ? $" ({block.Label})" : "")}.");
    }

    private void Unpack(GivenFile file)
    {
        try
        {
            using var zip = new ZipArchive(new MemoryStream(file.Content.ToArray()), ZipArchiveMode.Read);
            foreach (var entry in zip.Entries.Where(e => e.Name.Length > 0))
            {
                using var content = entry.Open();
                Take(new(entry.FullName, ReadBounded(content, file.Name)), isPacked: true);
            }
        }
        catch (InvalidDataException e)
        {
            throw new BeaconProblem(
                ProblemCode.FileNotRecognised,
                $"{file.Name} is a damaged ZIP: {e.Message}",
                "Fetch it again, or unpack it and give what is in it.",
                e
            );
        }
    }

    // What the archive says of its sizes is not believed: what comes out is counted.
    private byte[] ReadBounded(Stream content, string archive)
    {
        using var all = new MemoryStream();
        var buffer = new byte[16 << 10];
        for (int read; (read = content.Read(buffer)) > 0; )
        {
            if ((_unpacked += read) > MostUnpacked)
                throw new BeaconProblem(
                    ProblemCode.TooLarge,
                    $"{archive} unpacks to more than {MostUnpacked >> 20} MiB; certificates need a few KiB. It was not read further.",
                    "Unpack it with care, and give the certificate files alone."
                );
            all.Write(buffer, 0, read);
        }
        return all.ToArray();
    }

    private bool TakeBlock(GivenFile file, ArmorBlock block)
    {
        if (block.IsEncrypted || KeyLabels.Contains(block.Label))
            return TakeKey(file, block);
        if (TryCertificate(block.Der) || TryBundle(block.Der))
            return true;
        if (block.Label.Length == 0 && IsPfx(block.Der))
        {
            TakePfx(file, block.Der);
            return true;
        }
        // A key in DER has no label; what it is shows in its structure alone.
        return block.Label.Length == 0 && LooksLikeKey(block.Der) && TakeKey(file, block);
    }

    private bool TryCertificate(byte[] der)
    {
        X509 x;
        try
        {
            x = X509.Read(der);
        }
        catch (BeaconProblem)
        {
            return false;
        }
        Add(x);
        return true;
    }

    private void Add(X509 x)
    {
        if (_certificates.Count >= MostCertificates)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"There are over {MostCertificates} certificates.",
                "Give those of one answer alone."
            );
        _certificates.TryAdd(x.Thumbprint, x);
    }

    private bool TryBundle(byte[] der)
    {
        IReadOnlyList<ReadOnlyMemory<byte>> inside;
        try
        {
            inside = Pkcs7.ReadCertificates(der);
        }
        catch (AsnContentException)
        {
            return false;
        }
        foreach (var c in inside)
            if (!TryCertificate(c.ToArray()))
                _notes.Add("A part of a bundle is no certificate that can be read; it was passed over.");
        return inside.Count > 0;
    }

    private static bool IsPfx(byte[] der)
    {
        try
        {
            var seq = new AsnReader(der, AsnEncodingRules.BER).ReadSequence();
            return seq.TryReadInt32(out var v) && v == 3 && seq.ReadSequence().ReadObjectIdentifier() is Oids.Data or Oids.SignedData;
        }
        catch (AsnContentException)
        {
            return false;
        }
    }

    private static bool LooksLikeKey(byte[] der)
    {
        try
        {
            return FileInspection.Inspect(der).Any(i => i.Kind is FileItemKind.PrivateKey or FileItemKind.EncryptedPrivateKey);
        }
        catch (BeaconProblem)
        {
            return false;
        }
    }

    private void ThrowIfKeysDoNotBelong(string file)
    {
        if (!_withKeys)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"{file} holds a private key: it does not belong here, and was not kept.",
                "Give the certificates alone. A key is brought into a host's store with: beacon store import."
            );
    }

    private bool TakeKey(GivenFile file, ArmorBlock block)
    {
        ThrowIfKeysDoNotBelong(file.Name);
        if (block.Label.Length == 0 || block.Label == "ENCRYPTED PRIVATE KEY")
            foreach (var make in new Func<AsymmetricAlgorithm>[] { ECDsa.Create, RSA.Create })
            {
                var key = make();
                if (Imports(key, block))
                {
                    Keep(key);
                    return true;
                }
                key.Dispose();
            }
        if (block.IsEncrypted || block.Label == "ENCRYPTED PRIVATE KEY")
            throw WrongPassphrase(file.Name, null);
        if (block.Label.Length == 0)
            return false;
        Keep(KeySigner.LoadPem(Armor.Write(block.Label, block.Der)));
        return true;
    }

    private bool Imports(AsymmetricAlgorithm key, ArmorBlock block)
    {
        try
        {
            if (_passphrase is not null)
                key.ImportEncryptedPkcs8PrivateKey(_passphrase, block.Der, out _);
            else
                key.ImportPkcs8PrivateKey(block.Der, out _);
            return true;
        }
        catch (Exception e) when (e is CryptographicException or NotSupportedException)
        {
            return false;
        }
    }

    private void Keep(AsymmetricAlgorithm key)
    {
        if (!_keys.TryAdd(PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()).Fingerprint(), key))
            key.Dispose();
    }

    private void TakePfx(GivenFile file, byte[] der)
    {
        ThrowIfKeysDoNotBelong(file.Name);
        if (_passphrase is null)
            throw new BeaconProblem(
                ProblemCode.PassphraseWrong,
                $"{file.Name} is a PKCS#12 file; it opens with its passphrase alone, and none was given.",
                "Give the passphrase that the file was made with."
            );
        foreach (var c in Load(file, der))
            using (c)
            {
                Add(X509.Read(c.RawData));
                if (c.GetECDsaPrivateKey() is { } ec)
                    Keep(ec);
                else if (c.GetRSAPrivateKey() is { } rsa)
                    Keep(rsa);
            }
    }

    private X509Certificate2Collection Load(GivenFile file, byte[] der)
    {
        try
        {
            return X509CertificateLoader.LoadPkcs12Collection(
                der,
                _passphrase,
                X509KeyStorageFlags.EphemeralKeySet | X509KeyStorageFlags.Exportable,
                new Pkcs12LoaderLimits
                {
                    MacIterationLimit = 2_000_000,
                    IndividualKdfIterationLimit = 2_000_000,
                    TotalKdfIterationLimit = 6_000_000,
                }
            );
        }
        catch (Pkcs12LoadLimitExceededException e)
        {
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"{file.Name} asks for more work than any PKCS#12 file needs ({e.Message})",
                "Export it again from where it was made, with its usual settings.",
                e
            );
        }
        catch (Exception e) when (e is CryptographicException or NotSupportedException)
        {
            throw e.HResult == WrongPassphraseCode ? WrongPassphrase(file.Name, e) : NotReadable(file.Name, e);
        }
    }

    /// <summary>What the platform's loader says when the file's MAC does not fit the passphrase.</summary>
    private const int WrongPassphraseCode = unchecked((int)0x80070056);

    private static BeaconProblem NotReadable(string file, Exception e) =>
        new(
            ProblemCode.FileNotRecognised,
            $"{file} is damaged, or what is in it is encrypted with a cipher that is not read here: {e.Message}",
            "Export it again with AES; old programs write RC2 or DES unless they are told otherwise.",
            e
        );

    private static BeaconProblem WrongPassphrase(string file, Exception? e) =>
        new(
            ProblemCode.PassphraseWrong,
            $"The passphrase does not open {file}, or the file is damaged.",
            "Give the passphrase that the file was made with; it may differ in case or in a blank at its end.",
            e
        );

    public void Dispose()
    {
        foreach (var k in _keys.Values)
            k.Dispose();
    }
}
