using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Agent.Store;

/// <summary>Writes an entry's files in the form that a server needs. What is there already, and the same, is left.</summary>
internal sealed class EntryForms(StoreEntry entry, Needs needs)
{
    private const int PassphraseDigits = 48;

    public string Folder { get; } = Path.Combine(entry.Folder, StoreFiles.FolderOf(needs));

    public void Write()
    {
        var (certificates, key) = (File.ReadAllBytes(entry.ChainPath), File.ReadAllBytes(entry.KeyPath));
        if (needs.Form == StoreForm.Keystore)
            WriteKeystore(certificates, key);
        else if (StoreFiles.TogetherIn(needs.Form) is { } together)
            Write(together, needs.Form == StoreForm.KeyFirstBundle ? [.. key, .. certificates] : [.. certificates, .. key]);
        else
        {
            Write(Path.GetFileName(StoreFiles.Key), key);
            Write(Path.GetFileName(StoreFiles.Certificates), certificates);
        }
    }

    // A passphrase that somebody types is kept by people; this one nobody needs to know.
    private void WriteKeystore(byte[] certificates, byte[] key)
    {
        var path = Path.Combine(Folder, StoreFiles.TogetherIn(StoreForm.Keystore)!);
        var beside = StoreFiles.PassphraseBeside(path);
        if (!File.Exists(beside))
            Write(Path.GetFileName(beside), Encoding.ASCII.GetBytes(RandomNumberGenerator.GetHexString(PassphraseDigits, lowercase: true)));
        var passphrase = File.ReadAllText(beside);
        if (Opens(path, passphrase))
            return;
        using var signer = KeySigner.LoadPem(Encoding.ASCII.GetString(key));
        var chain = Armor.Read(certificates).Blocks.Select(b => (ReadOnlyMemory<byte>)b.Der).ToList();
        var salt = RandomNumberGenerator.GetBytes(16);
        Write(Path.GetFileName(path), Pkcs12.Write(chain, signer, passphrase, salt, needs.Label ?? StoreFiles.KeystoreLabel));
    }

    // It has other octets each time: whether it is the right one is asked of what is in it.
    private bool Opens(string path, string passphrase)
    {
        try
        {
            if (!File.Exists(path))
                return false;
            using var bag = CertificateBag.Read([new(Path.GetFileName(path), File.ReadAllBytes(path))], passphrase, withKeys: true);
            var leaf = entry.Leaf();
            return bag.Leaves.Any(l => l.Thumbprint == leaf.Thumbprint && bag.KeyOf(l) is not null);
        }
        catch (Core.BeaconProblem)
        {
            return false;
        }
    }

    private void Write(string name, byte[] content)
    {
        var path = Path.Combine(Folder, name);
        if (File.Exists(path) && File.ReadAllBytes(path).AsSpan().SequenceEqual(content))
            return;
        if (needs.Reader is { } account)
            AtomicFiles.WriteForGroup(path, content, account.Group);
        else
            AtomicFiles.Write(path, content, isPrivate: true);
    }
}
