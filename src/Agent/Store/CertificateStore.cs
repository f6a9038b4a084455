using System.Text;
using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Agent.Store;

/// <summary>What stands beside an entry's key and certificates.</summary>
/// <param name="Certificate">The certificate's name.</param>
/// <param name="Order">The order that brought it.</param>
internal sealed record EntryFile(string Certificate, string Serial, string Thumbprint, DateTimeOffset NotAfter, long Order)
{
    /// <summary>What a person called it; one entry of the store has it.</summary>
    public string? Label { get; init; }

    /// <summary>The label before, for as long as the change can be undone.</summary>
    public string? FormerLabel { get; init; }

    /// <summary>The key may leave the host: said when it was made or brought.</summary>
    public bool Releasable { get; init; }
}

/// <summary>The files of an entry, named by their form, below its folder.</summary>
internal static class StoreFiles
{
    public const string Pair = "pair",
        Bundle = "bundle",
        KeystoreFolder = "keystore";

    /// <summary>What the entry of a keystore is called in it.</summary>
    public const string KeystoreLabel = "beacon";

    /// <summary>The file with a keystore's passphrase.</summary>
    public static string PassphraseBeside(string keystore) => Path.Combine(Path.GetDirectoryName(keystore)!, "passphrase");

    /// <summary>The file in which a form has certificates and key together; null when it has a file for each.</summary>
    public static string? TogetherIn(StoreForm form) =>
        form switch
        {
            StoreForm.KeyFirstBundle => "key-first.pem",
            StoreForm.KeyLastBundle => "key-last.pem",
            StoreForm.Keystore => "keystore.p12",
            _ => null,
        };

    /// <summary>The folder of a form, for an account of its own when the server reads it as such.</summary>
    public static string FolderOf(Needs needs)
    {
        var inFiles = TogetherIn(needs.Form) is null ? Pair : Bundle;
        var form = needs.Form == StoreForm.Keystore ? KeystoreFolder : inFiles;
        if (needs.Label is { } label)
            form = $"{form}.{CertificateStore.FolderName(label)}";
        return needs.Reader is { } reader ? $"{form}.{reader.Name}" : form;
    }

    /// <summary>The certificates, leaf first, PEM.</summary>
    public const string Certificates = Pair + "/certificates.pem";

    /// <summary>The private key, PKCS#8 in PEM (RFC 5958), mode 0600.</summary>
    public const string Key = Pair + "/key.pem";
}

/// <summary>What a server is configured with for a certificate, and what an agent until version 0.1 configured. One path when certificates and key are one file.</summary>
internal sealed record UsedFiles(string Certificates, string Key, string? EarlierCertificates = null, string? EarlierKey = null)
{
    public bool IsOurs(string? path) =>
        path is not null && (path == Certificates || path == Key || path == EarlierCertificates || path == EarlierKey);
}

/// <summary>A keyed entry of the store.</summary>
internal sealed record StoreEntry(string Folder, EntryFile File)
{
    public string KeyPath => Path.Combine(Folder, StoreFiles.Key);
    public string ChainPath => Path.Combine(Folder, StoreFiles.Certificates);

    public X509 Leaf() => X509.Read(Armor.Read(System.IO.File.ReadAllBytes(ChainPath)).Blocks[0].Der);
}

/// <summary>
/// The host's certificates on disk. <c>pending/order-N</c>: a key and CSR under way. <c>keyed/NAME--SERIAL</c>: <c>pair/certificates.pem</c>, <c>pair/key.pem</c> (0600) and
/// <c>entry.json</c>; a folder appears there complete or not at all. <c>in-use/NAME</c>: a link to the entry in use, which is what servers are configured with.
/// </summary>
internal sealed class CertificateStore(string root)
{
    private string Keyed => Path.Combine(root, "keyed");
    private string Pending => Path.Combine(root, "pending");
    private string Archived => Path.Combine(root, "archived");

    /// <summary>The folder of the links to what is in use.</summary>
    public const string InUseFolder = "in-use";

    public string InUseLink(string certificate) => Path.Combine(root, InUseFolder, FolderName(certificate));

    private string EarlierLink(string certificate) => Path.Combine(root, EarlierLayout.Links, FolderName(certificate));

    /// <summary>What a server is configured with, in the form that it needs.</summary>
    public UsedFiles FilesOf(string certificate, Needs needs)
    {
        var folder = Path.Combine(InUseLink(certificate), StoreFiles.FolderOf(needs));
        if (StoreFiles.TogetherIn(needs.Form) is { } file)
            return new(Path.Combine(folder, file), Path.Combine(folder, file));
        return new(
            Path.Combine(folder, Path.GetFileName(StoreFiles.Certificates)),
            Path.Combine(folder, Path.GetFileName(StoreFiles.Key)),
            Path.Combine(EarlierLink(certificate), EarlierLayout.Certificates),
            Path.Combine(EarlierLink(certificate), EarlierLayout.Key)
        );
    }

    /// <summary>An entry's own files, whatever is in use: for who uses two editions at a time.</summary>
    public static UsedFiles OwnFilesOf(StoreEntry entry, Needs needs)
    {
        var folder = Path.Combine(entry.Folder, StoreFiles.FolderOf(needs));
        return new(
            Path.Combine(folder, StoreFiles.TogetherIn(needs.Form) ?? Path.GetFileName(StoreFiles.Certificates)),
            Path.Combine(folder, StoreFiles.TogetherIn(needs.Form) ?? Path.GetFileName(StoreFiles.Key))
        );
    }

    /// <summary>Writes an entry's files in a form that a server needs, readable for its account; done again, it changes nothing.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CannotWrite"/>: the account cannot get there.</exception>
    public void Render(StoreEntry entry, Needs needs)
    {
        if (needs is { Form: StoreForm.Pair, Reader: null })
            return;
        var forms = new EntryForms(entry, needs);
        forms.Write();
        if (needs.Reader is not { } reader)
            return;
        foreach (
            var passed in new[]
            {
                forms.Folder,
                entry.Folder,
                Keyed,
                Path.GetDirectoryName(InUseLink("any"))!,
                root,
                Path.GetDirectoryName(root)!,
            }
        )
            SafeFolder.LetThrough(passed);
        if (reader.FirstClosedFolder(Path.Combine(forms.Folder, "any")) is { } closed)
            throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"The account {reader.Name} cannot enter {closed}, on the way to the files that its server shall read. Nothing was changed.",
                $"Let it pass: chmod o+x {closed}; or keep the agent's state elsewhere (--state)."
            );
    }

    /// <summary>Makes a key and CSR for an order, or finds those of an earlier try: the key is made once.</summary>
    /// <returns>The CSR, PEM.</returns>
    public string Prepare(long order, DistinguishedName subject, IReadOnlyList<AlternativeName> names, KeySpec spec)
    {
        var folder = Path.Combine(Pending, $"order-{order}");
        var csrPath = Path.Combine(folder, "csr.pem");
        if (File.Exists(csrPath) && File.Exists(Path.Combine(folder, "key.pem")))
            return File.ReadAllText(csrPath);
        using var key = KeySigner.NewKey(spec);
        var signer = new KeySigner(key);
        var csr = Armor.Write(Armor.CertificateRequest, CertificationRequest.Write(subject, names, signer));
        AtomicFiles.Write(Path.Combine(folder, "key.pem"), Encoding.ASCII.GetBytes(key.ExportPkcs8PrivateKeyPem() + "\n"), isPrivate: true);
        // The CSR comes last: where it is, its key is on the disk.
        AtomicFiles.Write(csrPath, Encoding.ASCII.GetBytes(csr), isPrivate: true);
        return csr;
    }

    /// <summary>The key that was made for an order and waits for its answer, PEM.</summary>
    public string? PreparedKey(long order)
    {
        var path = Path.Combine(Pending, $"order-{order}", "key.pem");
        return File.Exists(path) ? File.ReadAllText(path) : null;
    }

    /// <summary>Removes all keys that wait.</summary>
    public void ForgetPrepared()
    {
        if (Directory.Exists(Pending))
            Directory.Delete(Pending, recursive: true);
    }

    /// <summary>Puts an issued edition together with its key.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DataDamaged"/> when the edition is not for this key.</exception>
    public StoreEntry Complete(long order, string certificate, string chainPem, bool releasable = false)
    {
        var leaf = X509.Read(Armor.Read(Encoding.ASCII.GetBytes(chainPem)).Blocks[0].Der);
        if (Find(certificate, leaf.Serial.Hex) is { } there)
            return there;
        var pending = Path.Combine(Pending, $"order-{order}");
        var keyPem = File.ReadAllText(Path.Combine(pending, "key.pem"));
        CheckPair(keyPem, leaf);
        var entry = Place(new(certificate, leaf.Serial.Hex, leaf.Thumbprint.Hex, leaf.NotAfter, order), keyPem, chainPem, releasable);
        Directory.Delete(pending, recursive: true);
        return entry;
    }

    /// <summary>Brings a pair from elsewhere into the store; done again, it finds what is there.</summary>
    /// <param name="order">The order that brought it.</param>
    public StoreEntry Adopt(string certificate, string keyPem, string chainPem, long order, bool releasable)
    {
        var leaf = X509.Read(Armor.Read(Encoding.ASCII.GetBytes(chainPem)).Blocks[0].Der);
        CheckPair(keyPem, leaf);
        return Find(certificate, leaf.Serial.Hex)
            ?? Place(new(certificate, leaf.Serial.Hex, leaf.Thumbprint.Hex, leaf.NotAfter, order), keyPem, chainPem, releasable);
    }

    /// <summary>Writes an entry beside the others and moves it there whole.</summary>
    private StoreEntry Place(EntryFile described, string keyPem, string chainPem, bool releasable)
    {
        var (certificate, file) = (described.Certificate, described with { Releasable = releasable });
        var staging = Path.Combine(root, "staging", $"{FolderName(certificate)}--{file.Serial}");
        if (Directory.Exists(staging))
            Directory.Delete(staging, recursive: true);
        AtomicFiles.Write(Path.Combine(staging, StoreFiles.Key), Encoding.ASCII.GetBytes(keyPem), isPrivate: true);
        AtomicFiles.Write(Path.Combine(staging, StoreFiles.Certificates), Encoding.ASCII.GetBytes(chainPem), isPrivate: false);
        if (AtomicFiles.LinkTarget(EarlierLink(certificate)) is not null)
            EarlierLayout.LinkFiles(staging);
        AtomicFiles.Write(
            Path.Combine(staging, "entry.json"),
            JsonSerializer.SerializeToUtf8Bytes(file, AgentJson.Default.EntryFile),
            isPrivate: false
        );
        var final = Path.Combine(Keyed, Path.GetFileName(staging));
        AtomicFiles.MoveFolder(staging, final);
        return new(final, file);
    }

    public static void CheckPair(string keyPem, X509 leaf)
    {
        using var key = KeySigner.LoadPem(keyPem);
        if (!PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()).SameKey(leaf.PublicKey))
            throw new BeaconProblem(
                ProblemCode.DataDamaged,
                "The private key does not belong to the certificate.",
                "Renew the certificate: a new key and edition are made."
            );
    }

    /// <summary>What an order has brought already: an order that is done again after a kill finds it, and makes no second key.</summary>
    public StoreEntry? OfOrder(long order) =>
        Directory.Exists(Keyed) ? Directory.GetDirectories(Keyed).Select(Read).FirstOrDefault(e => e?.File.Order == order) : null;

    public StoreEntry? Find(string certificate, string serial)
    {
        var folder = Path.Combine(Keyed, $"{FolderName(certificate)}--{serial}");
        return Directory.Exists(folder) ? Read(folder) : null;
    }

    /// <summary>The entry in use, if any.</summary>
    public StoreEntry? InUse(string certificate) =>
        AtomicFiles.LinkTarget(InUseLink(certificate)) is { } target && Read(Path.Combine(Keyed, Path.GetFileName(target))) is { } e
            ? e
            : null;

    public string LinkTargetFor(StoreEntry e) => Path.Combine("..", "keyed", Path.GetFileName(e.Folder));

    /// <summary>All entries, those in the archive too.</summary>
    public IReadOnlyList<StoreEntryInfo> List() =>
        [.. Entries().Select(Describe).OrderBy(e => e.Certificate, StringComparer.Ordinal).ThenBy(e => e.NotAfter)];

    public IEnumerable<StoreEntry> Entries() =>
        new[] { Keyed, Archived }.Where(Directory.Exists).SelectMany(Directory.GetDirectories).Select(Read).OfType<StoreEntry>();

    public bool IsArchived(StoreEntry e) => Path.GetDirectoryName(e.Folder) == Archived;

    public bool IsInUse(StoreEntry e) =>
        !IsArchived(e) && Path.GetFileName(AtomicFiles.LinkTarget(InUseLink(e.File.Certificate))) == Path.GetFileName(e.Folder);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public StoreEntry ByThumbprint(string thumbprint) =>
        Entries().FirstOrDefault(e => e.File.Thumbprint == thumbprint)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No entry of this host's store has the fingerprint {thumbprint}.",
            "See what it has: beacon store list --host HOST."
        );

    /// <summary>The private key of a certificate that has come without it, PEM: in an entry, or prepared for a request.</summary>
    public string? FindKey(PublicKeyInfo wanted)
    {
        var waiting = Directory.Exists(Pending) ? Directory.GetDirectories(Pending).Select(d => Path.Combine(d, "key.pem")) : [];
        foreach (var path in Entries().Select(e => e.KeyPath).Concat(waiting).Where(File.Exists))
        {
            var pem = File.ReadAllText(path);
            using var key = KeySigner.LoadPem(pem);
            if (PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()).SameKey(wanted))
                return pem;
        }
        return null;
    }

    /// <summary>Writes what stands beside an entry anew.</summary>
    public StoreEntry Describe(StoreEntry e, EntryFile file)
    {
        AtomicFiles.Write(
            Path.Combine(e.Folder, "entry.json"),
            JsonSerializer.SerializeToUtf8Bytes(file, AgentJson.Default.EntryFile),
            isPrivate: false
        );
        return e with { File = file };
    }

    public void Archive(StoreEntry e)
    {
        ForgetInUse(e);
        AtomicFiles.MoveFolder(e.Folder, Path.Combine(Archived, Path.GetFileName(e.Folder)));
    }

    public void Restore(StoreEntry e) => AtomicFiles.MoveFolder(e.Folder, Path.Combine(Keyed, Path.GetFileName(e.Folder)));

    public void Remove(StoreEntry e)
    {
        ForgetInUse(e);
        Directory.Delete(e.Folder, recursive: true);
    }

    private void ForgetInUse(StoreEntry e)
    {
        if (IsInUse(e))
            File.Delete(InUseLink(e.File.Certificate));
    }

    private StoreEntryInfo Describe(StoreEntry e)
    {
        var leaf = LeafOf(e);
        return new(e.File.Certificate, e.File.Serial, e.File.Thumbprint, e.File.NotAfter, IsInUse(e))
        {
            Key = leaf?.PublicKey.Fingerprint(),
            Issuer = leaf?.Issuer.ToString(),
            Label = e.File.Label,
            Releasable = e.File.Releasable,
            Archived = IsArchived(e),
        };
    }

    /// <summary>Null where a death while an entry was forgotten has left a part of its folder: that is listed, so that it is forgotten at last; and where its file is damaged.</summary>
    public static X509? LeafOf(StoreEntry e)
    {
        try
        {
            return e.Leaf();
        }
        catch (Exception x)
            when (x is IOException or UnauthorizedAccessException or BeaconProblem or ArgumentException or IndexOutOfRangeException)
        {
            return null;
        }
    }

    /// <summary>Forgets editions of a certificate that are neither in use nor the one before; a lapsed key is of no use to anybody.</summary>
    public void Tidy(string certificate, DateTimeOffset now)
    {
        var own = List().Where(e => e.Certificate == certificate && !e.Archived).OrderByDescending(e => e.NotAfter).ToList();
        foreach (var e in own.Where(e => !e.Live).Skip(2).Where(e => e.NotAfter < now || own.Count > 4))
            if (Find(certificate, e.Serial) is { } entry)
                Directory.Delete(entry.Folder, recursive: true);
    }

    /// <summary>Brings what an earlier version of the agent left into today's form; what servers are configured with stays valid all the time.</summary>
    public void TakeOverEarlier() => EarlierLayout.TakeOver(root, Keyed);

    private static StoreEntry? Read(string folder)
    {
        try
        {
            var path = Path.Combine(folder, "entry.json");
            return File.Exists(path) && JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.EntryFile) is { } f
                ? new(folder, f)
                : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>A folder name for a certificate's name: different names never meet.</summary>
    public static string FolderName(string name)
    {
        var plain = string.Concat(name.Select(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' ? c : '_'));
        return plain == name ? plain : plain + "--" + Thumbprint.Of(Encoding.UTF8.GetBytes(name)).Hex[..8];
    }
}
