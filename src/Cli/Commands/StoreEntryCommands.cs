using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>What is done with the entries of one host's store.</summary>
internal static class StoreEntryCommands
{
    private static readonly Argument<string> Host = new("host") { Description = "The host." };
    private static readonly Argument<string> Entry = new("entry")
    {
        Description = "Its fingerprint or serial; or the certificate's name or the label, where one entry has it.",
    };

    public static IEnumerable<Command> All() => [Import(), Label(), Archive(), Restore(), Remove(), Export()];

    private static Command Import()
    {
        var files = new Argument<string[]>("file")
        {
            Description = "PKCS#12, PEM, DER, PKCS#7 or a ZIP, with the key or for a key that is on the host already.",
            Arity = ArgumentArity.OneOrMore,
        };
        var name = new Option<string?>("--as") { Description = "The certificate's name; its first name when left out." };
        var label = new Option<string?>("--label") { Description = "A label for it." };
        var releasable = new Option<bool>("--releasable")
        {
            Description = "Its key may be taken out of the host again. Said once; it cannot be changed later.",
        };
        var import = new Command("import", "Bring certificates and keys into a host's store. They travel sealed to its agent.")
        {
            Host,
            files,
            name,
            label,
            releasable,
            Secrets.PassphraseFd,
        };
        import.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var host = await Sealed.HostAsync(api, r.GetValue(Host)!, ct);
                var parts = GivenFiles.Read(r.GetValue(files)!);
                var passphrase = GivenFiles.AreLocked(parts) ? Secrets.Passphrase(r, "The file's passphrase: ", twice: false) : null;
                var content = JsonSerializer.SerializeToUtf8Bytes(
                    new ImportContent(parts, passphrase, r.GetValue(releasable)),
                    BeaconJson.Default.ImportContent
                );
                var text = await api.PostAsync(
                    $"/api/v1/hosts/{Api.Escape(host.Host.Name)}/store/import",
                    new ImportWish(Sealed.To(host, SealPurpose.Import, content), r.GetValue(name), r.GetValue(label)),
                    BeaconJson.Default.ImportWish,
                    ct
                );
                return await FollowAsync(
                    api,
                    text,
                    $"It is in the store of {host.Host.Name}. See it: beacon store list --host {host.Host.Name.Split('.')[0]}",
                    r,
                    ct
                );
            }
        );
        return import;
    }

    private static Command Label()
    {
        var label = new Argument<string?>("label") { Description = "What to call it.", Arity = ArgumentArity.ZeroOrOne };
        var pattern = new Option<string?>("--pattern")
        {
            Description = "Make the label of its facts instead: {name}, {issuer}, {end}, {serial}, as in \"{issuer} {end}\".",
        };
        var undo = new Option<bool>("--undo") { Description = "Give the label back to who carried it before." };
        var c = new Command("label", "Call an entry something; whoever carried that label is renamed, and says so.")
        {
            Host,
            Entry,
            label,
            pattern,
            undo,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var e = await FindAsync(api, r.GetValue(Host)!, r.GetValue(Entry)!, ct);
                if (r.GetValue(undo))
                {
                    using var answer = await api.ProvenAsync(() => new(HttpMethod.Delete, PathOf(e) + "/label"), ct);
                    return await FollowAsync(api, await answer.Content.ReadAsStringAsync(ct), "Undone.", r, ct);
                }
                var wanted =
                    r.GetValue(label)
                    ?? (r.GetValue(pattern) is { } p ? Filled(p, e) : null)
                    ?? throw new BeaconProblem(ProblemCode.InputInvalid, "No label is given.", "Give one, or --pattern, or --undo.");
                var text = await api.PutAsync(PathOf(e) + "/label", new NewLabel(wanted), BeaconJson.Default.NewLabel, ct);
                return await FollowAsync(
                    api,
                    text,
                    $"It is called \"{wanted}\". Undo it: beacon store label {r.GetValue(Host)} {e.Serial} --undo",
                    r,
                    ct
                );
            }
        );
        return c;
    }

    private static string Filled(string pattern, StoredEntryInfo e) =>
        pattern
            .Replace("{name}", e.Certificate)
            .Replace("{issuer}", CommonName(e.Issuer))
            .Replace("{end}", e.NotAfter.UtcDateTime.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture))
            .Replace("{serial}", e.Serial);

    private static string CommonName(string? issuer) =>
        issuer is null ? "" : Core.Names.DistinguishedName.Parse(issuer).CommonName ?? issuer;

    private static Command Archive() =>
        Act(
            "archive",
            "Lay an entry aside: its key is kept, no server can be given it.",
            HttpMethod.Post,
            "/archive",
            "It is in the archive."
        );

    private static Command Restore() =>
        Act("restore", "Take an entry out of the archive.", HttpMethod.Post, "/restore", "It is out of the archive.");

    private static Command Act(string verb, string what, HttpMethod method, string path, string done)
    {
        var c = new Command(verb, what) { Host, Entry };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var e = await FindAsync(api, r.GetValue(Host)!, r.GetValue(Entry)!, ct);
                using var answer = await api.ProvenAsync(() => new(method, PathOf(e) + path), ct);
                return await FollowAsync(api, await answer.Content.ReadAsStringAsync(ct), done, r, ct);
            }
        );
        return c;
    }

    private static Command Remove()
    {
        var sure = new Option<bool>("--with-its-key") { Description = "Yes, its key is deleted for good." };
        var c = new Command("remove", "Delete an entry with its key; refused while a service serves it.") { Host, Entry, sure };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var e = await FindAsync(api, r.GetValue(Host)!, r.GetValue(Entry)!, ct);
                if (!r.GetValue(sure))
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"The key of \"{e.Certificate}\" (serial {e.Serial}, until {e.NotAfter:yyyy-MM-dd}) would be gone for good: nobody else has it.",
                        $"Lay it aside instead: beacon store archive {r.GetValue(Host)} {e.Serial}. Or say --with-its-key."
                    );
                using var answer = await api.ProvenAsync(() => new(HttpMethod.Delete, PathOf(e)), ct);
                return await FollowAsync(api, await answer.Content.ReadAsStringAsync(ct), "It is deleted.", r, ct);
            }
        );
        return c;
    }

    private static Command Export()
    {
        var form = new Option<string>("--form")
        {
            Description = "pem, der, pkcs7; with the key: pem, pkcs12, pkcs12-legacy (for old programs), java-keystore.",
            DefaultValueFactory = _ => "pem",
        };
        var withKey = new Option<bool>("--with-key")
        {
            Description = "The private key too, under a passphrase; only where it was made as one that may leave its host.",
        };
        var to = new Option<string?>("--out") { Description = "File to write, which is not there yet; a telling name when left out." };
        var c = new Command("export", "Take a certificate out of a host's store; it travels sealed to this client.")
        {
            Host,
            Entry,
            form,
            withKey,
            to,
            Secrets.PassphraseFd,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var e = await FindAsync(api, r.GetValue(Host)!, r.GetValue(Entry)!, ct);
                var host = await Sealed.HostAsync(api, e.Host, ct);
                var wanted = OpenWord<ExportForm>.Of(r.GetValue(form)!);
                if (wanted == ExportForm.Unknown)
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"\"{r.GetValue(form)}\" is no form.",
                        "Use pem, der, pkcs7, pkcs12, pkcs12-legacy or java-keystore."
                    );
                var isKey = r.GetValue(withKey);
                var passphrase = isKey ? Secrets.Passphrase(r, "A passphrase for the file: ", twice: true) : null;
                using var reply = Sealing.NewKey();
                var wish = new ExportWish(
                    wanted,
                    Convert.ToBase64String(Sealing.PublicKeyOf(reply)),
                    passphrase is null ? null : Sealed.To(host, SealPurpose.Passphrase, passphrase)
                );
                var text = await api.PostAsync(PathOf(e) + (isKey ? "/export-key" : "/export"), wish, BeaconJson.Default.ExportWish, ct);
                var part = Sealed.Open(reply, Api.Read(text, BeaconJson.Default.Exported).Sealed);
                // What the name says comes from elsewhere: it stays in this folder.
                var path = r.GetValue(to) ?? Path.GetFileName(part.Name);
                GivenFiles.WriteNew(path, Convert.FromBase64String(part.Content));
                Line($"Written: {path}{(isKey ? ", with the key; it is in the journal who took it" : "")}");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static string PathOf(StoredEntryInfo e) => $"/api/v1/hosts/{Api.Escape(e.Host)}/store/{e.Thumbprint}";

    private static async Task<int> FollowAsync(Api api, string accepted, string done, ParseResult r, CancellationToken ct) =>
        await Progress.FollowAsync(api, Api.Read(accepted, BeaconJson.Default.OrderAccepted).Order, done, r.GetValue(Program.Json), ct);

    /// <exception cref="BeaconProblem">None has it, or several have.</exception>
    private static async Task<StoredEntryInfo> FindAsync(Api api, string host, string entry, CancellationToken ct)
    {
        var all = await api.AllAsync("/api/v1/store" + Api.Query(("host", host)), BeaconJson.Default.PageStoredEntryInfo, null, ct);
        var plain = entry.Replace(":", "").ToLowerInvariant();
        var found = all.Where(e => e.Thumbprint == plain || e.Serial.Replace(":", "") == plain || e.Label == entry).ToList();
        if (found.Count == 0)
            found = [.. all.Where(e => e.Certificate == entry)];
        if (found.Count > 1 && found.Where(e => e.InUse).ToList() is { Count: 1 } inUse)
            found = inUse;
        return found.Count switch
        {
            1 => found[0],
            0 => throw new BeaconProblem(
                ProblemCode.NotFound,
                $"The store of {host} has nothing that is called \"{entry}\".",
                $"See beacon store list --host {host}."
            ),
            _ => throw new BeaconProblem(
                ProblemCode.NameAmbiguous,
                $"{found.Count} entries are called \"{entry}\": serials {string.Join(", ", found.Select(e => e.Serial))}.",
                "Give a serial."
            ),
        };
    }
}
