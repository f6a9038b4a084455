using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Does what is ordered with the store's entries. Keys come in and go out sealed; whether a key may go out was settled when it came.</summary>
internal sealed class StoreWork(CertificateStore store, BoundBook bounds, SealKey sealKey, Instances instances)
{
    private const int ShortestPassphrase = 10;
    private readonly Labels _labels = new(store);

    public OrderResult Run(Order order)
    {
        var wish = order.Store ?? throw Unknown();
        return wish.Act switch
        {
            StoreAct.Import => Import(order, wish),
            StoreAct.Export => Export(wish),
            StoreAct.Relabel => Told(_labels.Give(Entry(wish), Label(wish))),
            StoreAct.UndoLabel => Told(_labels.Undo(Entry(wish))),
            StoreAct.Archive => Archive(wish),
            StoreAct.Restore => Restore(wish),
            StoreAct.Remove => Remove(wish),
            _ => throw Unknown(),
        };
    }

    private StoreEntry Entry(StoreOrder wish) => store.ByThumbprint(wish.Thumbprint ?? "");

    private OrderResult Import(Order order, StoreOrder wish)
    {
        var content =
            JsonSerializer.Deserialize(sealKey.Open(SealPurpose.Import, wish.Sealed ?? ""), AgentMessageJson.Default.ImportContent)
            ?? throw Unknown();
        using var bag = CertificateBag.Read(
            [.. content.Files.Select(f => new GivenFile(f.Name, SealKey.Bytes(f.Content)))],
            content.Passphrase,
            withKeys: true
        );
        var pairs = bag
            .Leaves.Select(leaf => (Leaf: leaf, Key: bag.KeyOf(leaf)?.ExportPkcs8PrivateKeyPem(), Here: store.FindKey(leaf.PublicKey)))
            .ToList();
        if (pairs.Count == 0)
            throw new BeaconProblem(
                ProblemCode.FileNotRecognised,
                "There are authorities' certificates alone in it, none that a service could serve.",
                "Give the file with the server's own certificate."
            );
        // All or none: what is not whole is said before anything is written.
        if (pairs.FirstOrDefault(p => p.Key is null && p.Here is null).Leaf is { } orphan)
            throw Orphan(orphan);
        var taken = new List<TakenEntry>();
        var steps = bag.Notes.ToList();
        foreach (var (leaf, key, here) in pairs)
        {
            var name = pairs.Count == 1 && order.Certificate is { Length: > 0 } given ? given : NameOf(leaf);
            var chain = string.Concat(ChainOrder.Of(leaf, bag.Certificates).Select(c => Armor.Write(Armor.Certificate, c.Der.Span)));
            // A key that is on the host already keeps what was settled for it.
            var releasable = here is null ? content.Releasable : content.Releasable && IsReleasable(leaf.PublicKey);
            var entry = store.Adopt(name, here ?? key! + "\n", chain, order.Id, releasable);
            if (store.InUse(name) is null)
                AtomicFiles.Link(store.InUseLink(name), store.LinkTargetFor(entry));
            if (wish.Label is { Length: > 0 } label && pairs.Count == 1)
                steps.AddRange(_labels.Give(entry, label));
            steps.Add(
                here is null ? $"\"{name}\" and its key are in the store." : $"\"{name}\" is paired with its key, which was on this host."
            );
            taken.Add(new(name, chain));
        }
        return Told(steps) with { Taken = taken };
    }

    /// <summary>A key that is only prepared for a request has nothing settled yet: it stays.</summary>
    private bool IsReleasable(PublicKeyInfo key)
    {
        var with = store.Entries().Where(e => e.Leaf().PublicKey.SameKey(key)).ToList();
        return with.Count > 0 && with.TrueForAll(e => e.File.Releasable);
    }

    private static string NameOf(X509 leaf) => leaf.Names.Count > 0 ? leaf.Names[0].Value : leaf.Subject.CommonName ?? leaf.Serial.Hex;

    private static BeaconProblem Orphan(X509 leaf) =>
        new(
            ProblemCode.NotFound,
            $"The private key of {NameOf(leaf)} (serial {leaf.Serial}) is neither in what was given nor on this host.",
            "Give the PKCS#12 file or the key along with it, or import it on the host where its request was made."
        );

    private OrderResult Export(StoreOrder wish)
    {
        var entry = Entry(wish);
        var chain = Armor.Read(File.ReadAllBytes(entry.ChainPath)).Blocks.Select(b => (ReadOnlyMemory<byte>)b.Der).ToList();
        var form = wish.Form ?? ExportForm.Pem;
        var name = CertificateStore.FolderName(entry.File.Label ?? entry.File.Certificate);
        byte[] bytes;
        if (!wish.WithKey)
            bytes = form switch
            {
                ExportForm.Pem => File.ReadAllBytes(entry.ChainPath),
                ExportForm.Der => chain[0].ToArray(),
                ExportForm.Pkcs7 => Pkcs7.WriteCertificates(chain),
                _ => throw NeedsKey(),
            };
        else
            bytes = WithKey(entry, chain, form, wish);
        var part = new FilePart(name + Ending(form), Convert.ToBase64String(bytes));
        var reply = Sealing.Seal(
            SealKey.Bytes(wish.ReplyTo ?? ""),
            SealPurpose.Export,
            JsonSerializer.SerializeToUtf8Bytes(part, AgentMessageJson.Default.FilePart)
        );
        return Told([wish.WithKey ? "the certificate and its key were given out" : "the certificate was given out"]) with
        {
            Sealed = Convert.ToBase64String(reply),
        };
    }

    private byte[] WithKey(StoreEntry entry, List<ReadOnlyMemory<byte>> chain, ExportForm form, StoreOrder wish)
    {
        if (!entry.File.Releasable)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The key of \"{entry.File.Certificate}\" stays on this host: it was not made as one that may leave it.",
                "Request it anew with a profile whose keys may be released; keys that exist are never made so afterwards."
            );
        var passphrase = Encoding.UTF8.GetString(sealKey.Open(SealPurpose.Passphrase, wish.Sealed ?? ""));
        if (passphrase.Length < ShortestPassphrase)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"The passphrase has {passphrase.Length} characters; whoever finds the file would try them all.",
                $"Give at least {ShortestPassphrase}."
            );
        using var key = KeySigner.LoadPem(File.ReadAllText(entry.KeyPath));
        var (label, salt) = (entry.File.Label ?? entry.File.Certificate, RandomNumberGenerator.GetBytes(16));
        return form switch
        {
            ExportForm.Pem =>
            [
                .. Encoding.ASCII.GetBytes(
                    key.ExportEncryptedPkcs8PrivateKeyPem(
                        passphrase,
                        new PbeParameters(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 200_000)
                    ) + "\n"
                ),
                .. File.ReadAllBytes(entry.ChainPath),
            ],
            ExportForm.Pkcs12 or ExportForm.JavaKeystore => Pkcs12.Write(chain, key, passphrase, salt, label),
            ExportForm.Pkcs12Legacy => Pkcs12.Write(chain, key, passphrase, salt, label, Pkcs12Strength.Legacy),
            _ => throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "That form has no place for a private key.",
                "Use pem, pkcs12, pkcs12-legacy or java-keystore."
            ),
        };
    }

    private static string Ending(ExportForm form) =>
        form switch
        {
            ExportForm.Der => ".cer",
            ExportForm.Pkcs7 => ".p7b",
            ExportForm.Pkcs12 or ExportForm.Pkcs12Legacy or ExportForm.JavaKeystore => ".p12",
            _ => ".pem",
        };

    private OrderResult Archive(StoreOrder wish)
    {
        var entry = Entry(wish);
        if (store.IsArchived(entry))
            return Told(["It is in the archive already."]);
        ThrowIfBound(entry);
        store.Archive(entry);
        return Told([$"\"{entry.File.Certificate}\" is in the archive; its key is kept."]);
    }

    private OrderResult Restore(StoreOrder wish)
    {
        var entry = Entry(wish);
        if (!store.IsArchived(entry))
            return Told(["It is not in the archive."]);
        store.Restore(entry);
        return Told([$"\"{entry.File.Certificate}\" is out of the archive."]);
    }

    private OrderResult Remove(StoreOrder wish)
    {
        // Removed once, an entry is not there the second time: that is what was wanted.
        if (store.Entries().FirstOrDefault(e => e.File.Thumbprint == wish.Thumbprint) is not { } entry)
            return Told(["It is not in the store."]);
        ThrowIfBound(entry);
        store.Remove(entry);
        return Told([$"\"{entry.File.Certificate}\" and its key are deleted."]);
    }

    private void ThrowIfBound(StoreEntry entry)
    {
        if (store.IsInUse(entry) && bounds.ServicesOf(entry.File.Certificate) is { Count: > 0 } services)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{string.Join(", ", services)} serve{(services.Count == 1 ? "s" : "")} it: without it they would not start again.",
                "Bind them to another certificate first, or put them back as they were: beacon unbind."
            );
        var signers = instances.All.OfType<IFederation>().SelectMany(s => s.Providers(s.Files));
        if (
            signers.FirstOrDefault(p => p.Signs?.Thumbprint == entry.File.Thumbprint || p.Also?.Thumbprint == entry.File.Thumbprint) is
            { } signer
        )
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{signer.Entity} signs with it, or publishes it: without it nobody could sign in by that provider.",
                "Give the provider another certificate first, and wait until it publishes that one alone: beacon federation list."
            );
    }

    private static string Label(StoreOrder wish) =>
        wish.Label?.Trim() is { Length: > 0 and <= 100 } label && !label.Any(char.IsControl)
            ? label
            : throw new BeaconProblem(ProblemCode.InputInvalid, "A label has 1 to 100 characters.", "Give a short name.");

    private static OrderResult Told(IReadOnlyList<string> steps) => new(true, null, steps, null, null);

    private static BeaconProblem NeedsKey() =>
        new(ProblemCode.InputInvalid, "PKCS#12 and keystores are for keys.", "Use pem, der or pkcs7 for certificates alone.");

    private static BeaconProblem Unknown() =>
        new(ProblemCode.ConfigurationUnsupported, "This agent does not know what to do with the store here.", "Update the agent.");
}
