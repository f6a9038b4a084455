using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class AuthorityCommands
{
    public static IEnumerable<Command> All() => [Authorities(), Journal()];

    private static Command Authorities()
    {
        var list = new Command("list", "Our authorities.");
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/authorities", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                Table(
                    ["Authority", "Key", "Expires", "CRL", "Editions"],
                    Api.Read(json, BeaconJson.Default.ListAuthorityInfo)
                        .Select(a =>
                            a.Generations.Count == 0 && a.WaitsFor is { } request
                                ? [$"{a.Id}: {a.Name}", $"{Orange("◆")} waits for the answer to request {request}", "–", "–", "0"]
                                : new Ink[]
                                {
                                    $"{a.Id}: {a.Name}",
                                    $"{a.Generations.Last(g => g.State == "in-use").Key}, {a.KeyState}",
                                    When(a.Generations.Last(g => g.State == "in-use").NotAfter),
                                    a.Crl is null ? "–" : $"{a.Crl.Number}, next by {When(a.Crl.NextUpdate)}",
                                    a.Editions.ToString(),
                                }
                        ),
                    "There is no authority."
                );
                return 0;
            }
        );
        var id = new Argument<string>("authority") { Description = "root or issuing." };
        var pem = new Option<bool>("--pem") { Description = "Print its certificate." };
        var show = new Command("show", "One authority.") { id, pem };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var a =
                    (await api.GetAsync("/api/v1/authorities", BeaconJson.Default.ListAuthorityInfo, ct)).FirstOrDefault(a =>
                        a.Id == r.GetValue(id)
                    )
                    ?? throw new Core.BeaconProblem(
                        Core.ProblemCode.NotFound,
                        $"There is no authority \"{r.GetValue(id)}\".",
                        "See beacon authority list."
                    );
                if (r.GetValue(pem))
                {
                    Console.Out.Write(a.Pem);
                    return 0;
                }
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(a, BeaconJson.Default.AuthorityInfo));
                    return 0;
                }
                if (a.WaitsFor is { } request && a.Generations.Count == 0)
                {
                    Rich($"{Bold(a.Name)}  {Orange("◆")} waits for the answer to its request {request}");
                    if (a.WaitsAt is { } at)
                    {
                        Hanging("", 0, "It lies with its parent: " + at);
                        return 0;
                    }
                    Line("Carry the request to the root: beacon authority request " + a.Id);
                    Line("Then bring back what the root signed: beacon authority install " + a.Id + " ANSWER ROOT-CERTIFICATE");
                    return 0;
                }
                Rich($"{Bold(a.Name)}  {Grey($"{a.Kind}, key {a.KeyState}")}");
                foreach (var g in a.Generations)
                    Pairs(
                        ("generation", $"{g.Number}, {g.State.Replace('-', ' ')}"),
                        ("subject", g.Subject),
                        ("issuer", g.Issuer),
                        ("key", $"{g.Key}, number {g.KeyNumber}"),
                        ("serial", g.Serial),
                        ("SHA-256 fingerprint", g.Thumbprint),
                        ("from", $"{g.NotBefore.UtcDateTime:d MMM yyyy HH:mm} UTC"),
                        ("until", When(g.NotAfter)),
                        ("published at", g.CertificateAt)
                    );
                if (a.Crl is { } c)
                    Pairs(("CRL", $"number {c.Number}, {c.Revoked} revoked, next by {When(c.NextUpdate)}"), ("at", c.At));
                if (a.Delta is { } d)
                    Pairs(
                        ("delta", $"number {d.Number}, goes on from {d.BaseNumber}, {d.Revoked} changes, next by {When(d.NextUpdate)}"),
                        ("at", d.At)
                    );
                if (a.WaitsFor is { } next)
                    Rich($"{Orange("◆")} The next generation waits for the answer to request {next}: beacon authority request {a.Id}");
                foreach (var k in a.OtherKeys)
                    Pairs(
                        (
                            $"key {k.KeyNumber}",
                            $"CRL {k.Crl?.Number}, next by {When(k.Crl?.NextUpdate)}; OCSP {(k.Responder is { } other ? $"certificate until {When(other.NotAfter)}" : "–")}"
                        )
                    );
                if (a.Responder is { } o)
                    Pairs(("OCSP", o.At), ("signed by", $"a delegated key, certificate {o.Serial} until {When(o.NotAfter)}"));
                return 0;
            }
        );
        var crl = new Command("issue-crl", "Issue the next full CRL and its delta now, whatever the schedule says.") { id };
        crl.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(
                    () => new(HttpMethod.Post, $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/crl"),
                    ct
                );
                var text = await answer.Content.ReadAsStringAsync(ct);
                if (r.GetValue(Program.Json))
                    Json(text);
                else
                    Line("Issued: " + Api.Read(text, BeaconJson.Default.CrlIssued).Told + ".");
                return 0;
            }
        );
        var all = new Command("authority", "The certification authorities.")
        {
            list,
            show,
            HealthCommands.Health(),
            crl,
            Request(id),
            Install(id),
            Ask(id),
            PublishCrl(),
        };
        foreach (var c in HealthCommands.Renewal(id))
            all.Add(c);
        return all;
    }

    private static Command Request(Argument<string> id)
    {
        var output = new Option<string?>("--out")
        {
            Description = "File to write; - is standard output; a telling name in this folder when left out.",
        };
        var c = new Command("request", "Write the request that an authority waits to have signed: for carrying to the root.")
        {
            id,
            output,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.SendAsync(
                    new(HttpMethod.Get, $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/request"),
                    ct
                );
                var bytes = await answer.Content.ReadAsByteArrayAsync(ct);
                if (r.GetValue(output) == "-")
                {
                    await using var o = Console.OpenStandardOutput();
                    await o.WriteAsync(bytes, ct);
                    return 0;
                }
                var path =
                    r.GetValue(output)
                    ?? Path.GetFileName(answer.Content.Headers.ContentDisposition?.FileName?.Trim('"') ?? "issuing-request.pem");
                await File.WriteAllBytesAsync(path, bytes, ct);
                Line($"Written: {path}. Where the root is: beacon ceremony sign FOLDER {Path.GetFileName(path)}");
                return 0;
            }
        );
        return c;
    }

    private static Command Install(Argument<string> id)
    {
        var files = new Argument<string[]>("files")
        {
            Description = "What came back: the authority's certificate and the root's, in one file or several, whatever they are called.",
            Arity = ArgumentArity.OneOrMore,
        };
        var c = new Command("install", "Install the answer to an authority's request; it takes effect at once.") { id, files };
        c.Does(
            async (r, ct) =>
            {
                var all = new List<byte[]>();
                foreach (var f in r.GetValue(files)!)
                    all.Add(await File.ReadAllBytesAsync(f, ct));
                using var api = Api.SignedIn();
                var text = await api.PostAsync(
                    $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/answer",
                    new CarriedFiles([.. all.Select(Convert.ToBase64String)]),
                    BeaconJson.Default.CarriedFiles,
                    ct
                );
                // From now on the service shows certificates below the root that was just given. Until the first answer it showed one of its own making.
                var session = Session.Load();
                var roots = all.SelectMany(f => FileInspection.Inspect(f))
                    .Where(i => i.Kind == FileItemKind.Certificate)
                    .Select(i => X509.Read(i.Der))
                    .Where(x => x.IsSelfSigned)
                    .Concat(
                        Armor
                            .Read(System.Text.Encoding.ASCII.GetBytes(session.Root))
                            .Blocks.Select(b => X509.Read(b.Der))
                            .Where(x => x.IsAuthority)
                    )
                    .DistinctBy(x => x.Thumbprint.Hex)
                    .ToList();
                if (roots.Count > 0)
                    (session with { Root = string.Concat(roots.Select(x => Armor.Write(Armor.Certificate, x.Der.Span))) }).Save();
                HealthCommands.Tell(r, text);
                if (!r.GetValue(Program.Json) && roots.Count > 0)
                    Line("Publish the root's CRL too, if there is a newer one: beacon authority publish-crl FILE");
                return 0;
            }
        );
        return c;
    }

    private static Command Ask(Argument<string> id)
    {
        var parent = new Option<string>("--parent")
        {
            Description = "Address of the parent service, as https://pki.thistledown.example:7443.",
            Required = true,
        };
        var root = new Option<string>("--parent-root")
        {
            Description = "File with the parent's root; it alone is trusted for it.",
            Required = true,
        };
        var name = new Option<string>("--name") { Description = "Your sign-in name at the parent.", Required = true };
        var passwordFile = new Option<string?>("--password-file")
        {
            Description = "File with the password there; otherwise it is asked for, unseen. It is used once and not kept.",
        };
        var profile = new Option<string?>("--profile") { Description = "The profile there; subordinate when left out." };
        var life = new Option<string?>("--life") { Description = "The life to ask for; the profile's when left out." };
        var c = new Command(
            "ask",
            "Bring an authority's request to a parent service; somebody there approves it, and the answer is collected by itself."
        )
        {
            id,
            parent,
            root,
            name,
            passwordFile,
            profile,
            life,
        };
        c.Does(
            async (r, ct) =>
            {
                var password = r.GetValue(passwordFile) is { } f
                    ? (await File.ReadAllTextAsync(f, ct)).TrimEnd('\r', '\n')
                    : Secrets.Ask($"Password of {r.GetValue(name)} at the parent: ", "--password-file FILE");
                using var api = Api.SignedIn();
                HealthCommands.Tell(
                    r,
                    await api.PostAsync(
                        $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/parent",
                        new ParentWish(
                            r.GetValue(parent)!,
                            await File.ReadAllTextAsync(r.GetValue(root)!, ct),
                            r.GetValue(name)!,
                            password,
                            r.GetValue(profile),
                            r.GetValue(life)
                        ),
                        BeaconJson.Default.ParentWish,
                        ct
                    )
                );
                return 0;
            }
        );
        return c;
    }

    private static Command PublishCrl()
    {
        var file = new Argument<string>("file") { Description = "The CRL that beacon ceremony crl signed." };
        var c = new Command("publish-crl", "Publish a CRL of the offline root at the root's address.") { file };
        c.Does(
            async (r, ct) =>
            {
                var bytes = await File.ReadAllBytesAsync(r.GetValue(file)!, ct);
                using var api = Api.SignedIn();
                var text = await api.PostAsync(
                    "/api/v1/authorities/root/published-crl",
                    new CarriedFiles([Convert.ToBase64String(bytes)]),
                    BeaconJson.Default.CarriedFiles,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(text);
                else
                    Line("Published: " + Api.Read(text, BeaconJson.Default.CrlIssued).Told + ".");
                return 0;
            }
        );
        return c;
    }

    private static Command Journal()
    {
        var search = new Argument<string?>("search")
        {
            Description = "Part of a name, an action or a detail.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var most = Mistakes.Most(30);
        var all = new Option<bool>("--all") { Description = "Everything, oldest first: for keeping and for verifying offline." };
        var list = new Command("list", "Who did what to what, newest first.") { search, most, all };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                if (r.GetValue(all))
                {
                    Json(JsonSerializer.Serialize(await FetchAllAsync(api, ct), BeaconJson.Default.ListJournalEntryInfo));
                    return 0;
                }
                var wanted = r.GetValue(most);
                var path = "/api/v1/journal" + Api.Query(("search", r.GetValue(search)), ("take", Math.Clamp(wanted, 1, 500).ToString()));
                var found = await api.AllAsync(path, BeaconJson.Default.PageJournalEntryInfo, wanted, ct, "before");
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(found, BeaconJson.Default.ListJournalEntryInfo));
                    return 0;
                }
                Table(
                    ["No.", "At (UTC)", "Who", "Did", "To", "Detail"],
                    found.Select(e =>
                        new Ink[]
                        {
                            e.Sequence.ToString(),
                            IsPiped ? When(e.At) : $"{e.At.UtcDateTime:d MMM HH:mm:ss}",
                            e.Actor,
                            e.Action,
                            e.Subject,
                            e.Detail,
                        }
                    ),
                    "Nothing matches."
                );
                return 0;
            }
        );

        var file = new Option<string?>("--file") { Description = "A journal kept by beacon journal list --all, instead of the service's." };
        var verify = new Command("verify", "Check the chain of hashes over the whole journal.") { file };
        verify.Does(
            async (r, ct) =>
            {
                List<JournalEntryInfo> entries;
                if (r.GetValue(file) is { } path)
                    entries = Api.Read(await File.ReadAllTextAsync(path, ct), BeaconJson.Default.ListJournalEntryInfo);
                else
                {
                    using var api = Api.SignedIn();
                    entries = await FetchAllAsync(api, ct);
                }
                JournalRecord? last = null;
                foreach (var e in entries)
                {
                    var record = new JournalRecord(e.Sequence, e.At, e.Actor, e.Action, e.Subject, e.Detail, e.Previous, e.Hash);
                    if (JournalChain.Fault(last, record) is { } fault)
                    {
                        Rich($"{Red("✕")} {fault}");
                        return ExitCodes.Failed;
                    }
                    last = record;
                }
                Rich($"{Green("○")} {entries.Count} entries hold together; the last one has the hash {last?.Hash ?? "–"}.");
                return ExitCodes.Done;
            }
        );
        return new("journal", "The tamper-evident record.") { list, verify };
    }

    private static async Task<List<JournalEntryInfo>> FetchAllAsync(Api api, CancellationToken ct)
    {
        var entries = new List<JournalEntryInfo>();
        string? after = "0";
        while (after is not null)
        {
            var page = await api.GetAsync($"/api/v1/journal?after={after}&take=1000", BeaconJson.Default.PageJournalEntryInfo, ct);
            entries.AddRange(page.Items);
            after = page.Next;
        }
        return entries;
    }
}
