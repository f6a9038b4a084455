using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>One line of log.jsonl.</summary>
internal sealed record LogLine(
    long Number,
    DateTimeOffset At,
    string Who,
    string Act,
    string Subject,
    Dictionary<string, string> Facts,
    string Der,
    string Previous,
    string Hash,
    string Signature
);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(LogLine))]
[JsonSerializable(typeof(CeremonyState))]
internal sealed partial class CeremonyJson : JsonSerializerContext;

/// <summary>What a root has done, for people and as JSON.</summary>
internal sealed record CeremonyState(
    string Folder,
    string Subject,
    IReadOnlyList<RootState> Generations,
    IReadOnlyList<SubordinateState> Subordinates,
    IReadOnlyList<CrlState> Crls,
    int Entries
);

internal sealed record RootState(
    int Number,
    string Serial,
    string Key,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string Thumbprint,
    string? Constraints
);

internal sealed record SubordinateState(
    string Subject,
    string Serial,
    int Root,
    DateTimeOffset NotAfter,
    DateTimeOffset? RevokedAt,
    string? Reason
);

internal sealed record CrlState(int Root, long Number, DateTimeOffset NextUpdate, int Revoked);

/// <summary>
/// A root in a folder: <c>log.jsonl</c> (all it ever signed, chained and signed), <c>root-key-N.pem</c> (encrypted), <c>root-N.pem</c>, and <c>out/</c> for what leaves.
/// <see cref="Open"/> checks everything before anything is done. What is signed is in the log, on the disk, before its file is written: a file that a kill
/// left unwritten is written by the next command.
/// </summary>
internal sealed class RootFolder
{
    private const UnixFileMode Owner = UnixFileMode.UserRead | UnixFileMode.UserWrite;

    // The passphrase is a person's, so guessing is made dear.
    private static readonly PbeParameters Sealing = new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA512, 1_000_000);

    private readonly string _path;
    private readonly List<CeremonyEntry> _log = [];

    private RootFolder(string path) => _path = path;

    public IReadOnlyList<CeremonyEntry> Log => _log;

    /// <summary>The root's certificates, oldest first.</summary>
    public List<X509> Generations { get; } = [];

    public X509 Root => Generations[^1];

    private (string[] Crl, string[] Issuer) _addresses = ([], []);

    /// <summary>Where the CRL and the certificate of a key will be found: as said at the founding, and from the second key on with its number before the file's ending, since each key has files of its own.</summary>
    public (string[] Crl, string[] Issuer) AddressesOf(int keyNumber)
    {
        return keyNumber == 1 ? _addresses : ([.. _addresses.Crl.Select(Numbered)], [.. _addresses.Issuer.Select(Numbered)]);

        string Numbered(string uri) =>
            uri.LastIndexOf('.') is var dot && dot > uri.LastIndexOf('/') ? $"{uri[..dot]}-{keyNumber}{uri[dot..]}" : $"{uri}-{keyNumber}";
    }

    /// <summary>Counts the root's keys: generations with the same key share the number.</summary>
    public int KeyNumberOf(int generation) =>
        Generations
            .Take(generation)
            .Select(g => g.PublicKey.Fingerprint())
            .Distinct()
            .ToList()
            .IndexOf(Generations[generation - 1].PublicKey.Fingerprint()) + 1;

    public List<(X509 Certificate, DateTimeOffset? RevokedAt, RevocationReason Reason)> Subordinates { get; } = [];

    private string LogPath => Path.Combine(_path, "log.jsonl");

    private string KeyPath(int generation) => Path.Combine(_path, $"root-key-{generation}.pem");

    private string CertificatePath(int generation) => Path.Combine(_path, $"root-{generation}.pem");

    /// <summary>Makes the folder for a new root; nothing that is there is touched.</summary>
    public static RootFolder Create(string path)
    {
        if (Directory.Exists(path) && Directory.EnumerateFileSystemEntries(path).Any())
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"The folder {path} is not empty.",
                "Give a new folder: a root is never founded over anything."
            );
        Directory.CreateDirectory(path, Owner | UnixFileMode.UserExecute);
        Directory.CreateDirectory(Path.Combine(path, "out"));
        return new(path);
    }

    /// <summary>Reads and checks the whole folder: the log's chain and signatures, the certificates, that every key's file is there.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CeremonyFolderBroken"/>.</exception>
    public static RootFolder Open(string path)
    {
        var f = new RootFolder(path);
        if (!File.Exists(f.LogPath))
            throw Broken(
                $"{f.LogPath} is missing",
                Directory.Exists(path)
                    ? "Give the root's folder; beacon ceremony create makes one."
                    : "Give the folder as it is mounted now."
            );
        var n = 0;
        foreach (var line in File.ReadLines(f.LogPath))
        {
            n++;
            CeremonyEntry entry;
            try
            {
                entry = Read(line);
            }
            catch (Exception e) when (e is JsonException or FormatException)
            {
                throw Broken($"line {n} of {f.LogPath} cannot be read");
            }
            // The first entry is signed by the key it founds; a renewal by the key before it.
            var keys = f.Generations.Select(g => g.PublicKey).ToList();
            if (n == 1)
                keys.Add(ReadCertificate(entry, n).PublicKey);
            if (CeremonyLog.Fault(f._log.LastOrDefault(), entry, keys) is { } fault)
                throw Broken($"{f.LogPath}: {fault}");
            f.Take(entry, n);
        }
        if (f.Generations.Count == 0)
            throw Broken($"{f.LogPath} is empty");
        for (var g = 1; g <= f.Generations.Count; g++)
        {
            if (!File.Exists(f.KeyPath(g)))
                throw Broken($"the key {f.KeyPath(g)} is missing");
            Rewrite(f.CertificatePath(g), Armor.Write(Armor.Certificate, f.Generations[g - 1].Der.Span), check: true);
        }
        foreach (var e in f._log)
            f.WriteOut(e);
        return f;
    }

    private static X509 ReadCertificate(CeremonyEntry e, int line)
    {
        try
        {
            return X509.Read(e.Der);
        }
        catch (BeaconProblem)
        {
            throw Broken($"the certificate in line {line} of the log cannot be read");
        }
    }

    private void Take(CeremonyEntry e, int line)
    {
        _log.Add(e);
        switch (e.Record.Action)
        {
            case Acts.Founded:
                _addresses = (Split("crl-at"), Split("certificate-at"));
                Generations.Add(ReadCertificate(e, line));
                break;
            case Acts.Renewed:
                Generations.Add(ReadCertificate(e, line));
                break;
            case Acts.Signed:
                Subordinates.Add((ReadCertificate(e, line), null, default));
                break;
            case Acts.Revoked:
                var i = Subordinates.FindIndex(s => s.Certificate.Serial.Hex == e.Record.Subject);
                if (i < 0)
                    throw Broken($"line {line} of the log revokes {e.Record.Subject}, which was never signed");
                Subordinates[i] = (Subordinates[i].Certificate, e.Record.At, Enum.Parse<RevocationReason>(e.Facts["reason"]));
                break;
        }
        string[] Split(string fact) => e.Facts.GetValueOrDefault(fact)?.Split(' ', StringSplitOptions.RemoveEmptyEntries) ?? [];
    }

    /// <summary>The newest CRL of each of the root's keys.</summary>
    public IEnumerable<(int Root, Crl List)> Crls() =>
        _log.Where(e => e.Record.Action == Acts.Crl).GroupBy(e => e.Facts["root"]).Select(g => (int.Parse(g.Key), Crl.Read(g.Last().Der)));

    public long LastCrlNumber =>
        _log.Where(e => e.Record.Action == Acts.Crl).Select(e => long.Parse(e.Facts["number"])).DefaultIfEmpty(0).Max();

    /// <summary>Makes the key of a generation and keeps it, encrypted.</summary>
    public KeySigner NewKey(int generation, KeySpec spec, string passphrase)
    {
        if (passphrase.Length < 12)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "The passphrase has under 12 characters.",
                "Take a longer one, for example five words: it is all that protects the root's key where its disk is lost."
            );
        var key = KeySigner.NewKey(spec);
        Write(KeyPath(generation), key.ExportEncryptedPkcs8PrivateKeyPem(passphrase, Sealing));
        return new KeySigner(key);
    }

    /// <summary>Keeps a key that was made elsewhere.</summary>
    public void TakeKey(int generation, AsymmetricAlgorithm key, string passphrase) =>
        Write(KeyPath(generation), key.ExportEncryptedPkcs8PrivateKeyPem(passphrase, Sealing));

    /// <summary>Uses the same key for the next generation.</summary>
    public void CarryKey(int from, int to) => Write(KeyPath(to), File.ReadAllText(KeyPath(from)));

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.PassphraseWrong"/>, or <see cref="ProblemCode.CeremonyFolderBroken"/> when it opens another key.</exception>
    public KeySigner Unlock(int generation, string passphrase)
    {
        var pem = File.ReadAllText(KeyPath(generation));
        var certificate = Generations[generation - 1];
        AsymmetricAlgorithm key = certificate.PublicKey.Spec.Algorithm == KeyAlgorithm.Rsa ? RSA.Create() : ECDsa.Create();
        try
        {
            key.ImportFromEncryptedPem(pem, passphrase);
        }
        catch (ArgumentException)
        {
            throw Broken($"{KeyPath(generation)} is not an encrypted key");
        }
        catch (CryptographicException)
        {
            throw new BeaconProblem(
                ProblemCode.PassphraseWrong,
                $"The passphrase does not open {KeyPath(generation)}, or the file was altered.",
                "Type the passphrase of this folder. If it is right for certain, take the other copy of the folder."
            );
        }
        var signer = new KeySigner(key);
        return signer.PublicKey.SameKey(certificate.PublicKey)
            ? signer
            : throw Broken($"{KeyPath(generation)} holds another key than the certificate of that generation");
    }

    /// <summary>Records what was signed, durably, and then writes its file.</summary>
    /// <param name="file">Its name under out/, or empty.</param>
    public void Record(
        string act,
        string subject,
        Dictionary<string, string> facts,
        ReadOnlyMemory<byte> der,
        string file,
        ISigner signer,
        DateTimeOffset now
    )
    {
        if (file.Length > 0)
            facts["file"] = file;
        var entry = CeremonyLog.Append(_log.LastOrDefault(), now, Environment.UserName, act, subject, facts, der, signer);
        Write(LogPath, string.Concat(_log.Append(entry).Select(Line)));
        Take(entry, _log.Count + 1);
        WriteOut(entry);
        if (act is Acts.Founded or Acts.Renewed)
            Rewrite(CertificatePath(Generations.Count), Armor.Write(Armor.Certificate, Root.Der.Span), check: false);
    }

    /// <summary>Where the file of the newest entry lies.</summary>
    public string Written => Path.Combine(_path, "out", _log[^1].Facts["file"]);

    private void WriteOut(CeremonyEntry e)
    {
        if (!e.Facts.TryGetValue("file", out var file) || e.Der.IsEmpty)
            return;
        var label = e.Record.Action == Acts.Crl ? Armor.Crl : Armor.Certificate;
        Directory.CreateDirectory(Path.Combine(_path, "out"));
        var path = Path.Combine(_path, "out", Path.GetFileName(file));
        if (!File.Exists(path))
            Write(path, Armor.Write(label, e.Der.Span));
    }

    private static void Rewrite(string path, string text, bool check)
    {
        if (!File.Exists(path))
            Write(path, text);
        else if (check && File.ReadAllText(path) != text)
            throw Broken($"{path} is not the certificate that the log has");
    }

    private static void Write(string path, string text)
    {
        var temporary = path + ".new";
        File.Delete(temporary);
        using (
            var f = new FileStream(
                temporary,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = Owner,
                }
            )
        )
        {
            f.Write(System.Text.Encoding.UTF8.GetBytes(text));
            f.Flush(flushToDisk: true);
        }
        File.Move(temporary, path, overwrite: true);
    }

    private static string Line(CeremonyEntry e) =>
        JsonSerializer.Serialize(
            new LogLine(
                e.Record.Sequence,
                e.Record.At,
                e.Record.Actor,
                e.Record.Action,
                e.Record.Subject,
                e.Facts.ToDictionary(),
                Convert.ToBase64String(e.Der.Span),
                e.Record.Previous,
                e.Record.Hash,
                Convert.ToBase64String(e.Signature.Span)
            ),
            CeremonyJson.Default.LogLine
        ) + "\n";

    private static CeremonyEntry Read(string line)
    {
        var l = JsonSerializer.Deserialize(line, CeremonyJson.Default.LogLine) ?? throw new JsonException();
        if (l.Facts is null || l.Der is null || l.Signature is null)
            throw new JsonException();
        return new(
            new(l.Number, l.At, l.Who, l.Act, l.Subject, CeremonyLog.Text(l.Facts), l.Previous, l.Hash),
            l.Facts,
            Convert.FromBase64String(l.Der),
            Convert.FromBase64String(l.Signature)
        );
    }

    private static BeaconProblem Broken(string what, string? cure = null) =>
        new(
            ProblemCode.CeremonyFolderBroken,
            $"The root's folder cannot be relied on: {what}.",
            cure ?? "Sign nothing with this copy; take the other copy of the folder."
        );

    public CeremonyState State() =>
        new(
            _path,
            Root.Subject.ToString(),
            [
                .. Generations.Select(
                    (g, i) =>
                        new RootState(
                            i + 1,
                            g.Serial.Hex,
                            g.PublicKey.Spec.ToString(),
                            g.NotBefore,
                            g.NotAfter,
                            g.Thumbprint.Hex,
                            g.Constraints?.ToString()
                        )
                ),
            ],
            [
                .. Subordinates.Select(s => new SubordinateState(
                    s.Certificate.Subject.ToString(),
                    s.Certificate.Serial.Hex,
                    RootOf(s.Certificate),
                    s.Certificate.NotAfter,
                    s.RevokedAt,
                    s.RevokedAt is null ? null : BeaconProblem.SlugOf(s.Reason)
                )),
            ],
            [.. Crls().Select(c => new CrlState(c.Root, (long)c.List.Number!, c.List.NextUpdate!.Value, c.List.Revoked.Count))],
            _log.Count
        );

    /// <summary>The first generation with the key that signed a certificate.</summary>
    public int RootOf(X509 subordinate) =>
        Generations.FindIndex(g => g.SubjectKeyIdentifier.Span.SequenceEqual(subordinate.AuthorityKeyIdentifier.Span)) + 1;
}

/// <summary>What a root does, as its log has it.</summary>
internal static class Acts
{
    public const string Founded = "root.founded",
        Renewed = "root.renewed",
        Crossed = "root.cross-signed",
        Signed = "subordinate.signed",
        Revoked = "subordinate.revoked",
        Crl = "crl.signed";
}
