using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class AuthorityCommands
{
    public static IEnumerable<Command> All() => [Authorities(), Journal()];

    private static Command Authorities()
    {
        var list = new Command("list", "Our authorities.");
        list.Does(async (r, ct) =>
        {
            using var api = Api.SignedIn();
            var json = await api.TextAsync("/api/v1/authorities", ct);
            if (r.GetValue(Program.Json)) { Json(json); return 0; }
            Table(["Authority", "Key", "Ends", "CRL", "Editions"], Api.Read(json, BeaconJson.Default.ListAuthorityInfo).Select(a => a.WaitsFor is { } request ? [Esc($"{a.Id}: {a.Name}"), $"[darkorange]◆[/] waits for the answer to request {request}", "–", "–", "0"] : new[]
            {
                Esc($"{a.Id}: {a.Name}"), $"{a.Generations[^1].Key}, {a.KeyState}", When(a.Generations[^1].NotAfter), a.Crl is null ? "–" : $"{a.Crl.Number}, next by {When(a.Crl.NextUpdate)}", a.Editions.ToString(),
            }), "There is no authority.");
            return 0;
        });
        var id = new Argument<string>("authority") { Description = "root or issuing." };
        var pem = new Option<bool>("--pem") { Description = "Print its certificate." };
        var show = new Command("show", "One authority.") { id, pem };
        show.Does(async (r, ct) =>
        {
            using var api = Api.SignedIn();
            var a = (await api.GetAsync("/api/v1/authorities", BeaconJson.Default.ListAuthorityInfo, ct)).FirstOrDefault(a => a.Id == r.GetValue(id))
                ?? throw new Core.BeaconProblem(Core.ProblemCode.NotFound, $"There is no authority \"{r.GetValue(id)}\".", "See beacon authority list.");
            if (r.GetValue(pem)) { Console.Out.Write(a.Pem); return 0; }
            if (r.GetValue(Program.Json)) { Json(JsonSerializer.Serialize(a, BeaconJson.Default.AuthorityInfo)); return 0; }
            if (a.WaitsFor is { } request)
            {
                Rich($"[bold]{Esc(a.Name)}[/]  [darkorange]◆[/] waits for the answer to its request {request}");
                Line("Carry the request to the root: beacon authority request " + a.Id);
                Line("Then bring back what the root signed: beacon authority install " + a.Id + " ANSWER ROOT-CERTIFICATE");
                return 0;
            }
            Rich($"[bold]{Esc(a.Name)}[/]  [grey]{a.Kind}, key {a.KeyState}[/]");
            foreach (var g in a.Generations)
                Pairs(("generation", g.Number.ToString()), ("subject", Esc(g.Subject)), ("issuer", Esc(g.Issuer)), ("key", g.Key), ("serial", g.Serial), ("thumbprint", g.Thumbprint), ("from", $"{g.NotBefore.UtcDateTime:d MMM yyyy HH:mm} UTC"), ("until", When(g.NotAfter)), ("published at", Esc(g.CertificateAt)));
            if (a.Crl is { } c) Pairs(("CRL", $"number {c.Number}, {c.Revoked} revoked, next by {When(c.NextUpdate)}"), ("at", Esc(c.At)));
            if (a.Delta is { } d) Pairs(("delta", $"number {d.Number}, goes on from {d.BaseNumber}, {d.Revoked} changes, next by {When(d.NextUpdate)}"), ("at", Esc(d.At)));
            if (a.Responder is { } o) Pairs(("OCSP", Esc(o.At)), ("signed by", $"a delegated key, certificate {o.Serial} until {When(o.NotAfter)}"));
            return 0;
        });
        var crl = new Command("issue-crl", "Issue the next full CRL and its delta now, whatever the schedule says.") { id };
        crl.Does(async (r, ct) =>
        {
            using var api = Api.SignedIn();
            using var answer = await api.SendAsync(new(HttpMethod.Post, $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/crl"), ct);
            var text = await answer.Content.ReadAsStringAsync(ct);
            if (r.GetValue(Program.Json)) Json(text);
            else Line("Issued: " + Api.Read(text, BeaconJson.Default.CrlIssued).Told + ".");
            return 0;
        });
        return new("authority", "The certification authorities.") { list, show, crl, Request(id), Install(id), PublishCrl() };
    }

    private static Command Request(Argument<string> id)
    {
        var output = new Option<string?>("--out") { Description = "File to write; - is standard output; a telling name in this folder when left out." };
        var c = new Command("request", "Write the request that an authority waits to have signed: for carrying to the root.") { id, output };
        c.Does(async (r, ct) =>
        {
            using var api = Api.SignedIn();
            using var answer = await api.SendAsync(new(HttpMethod.Get, $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/request"), ct);
            var bytes = await answer.Content.ReadAsByteArrayAsync(ct);
            if (r.GetValue(output) == "-") { await using var o = Console.OpenStandardOutput(); await o.WriteAsync(bytes, ct); return 0; }
            var path = r.GetValue(output) ?? Path.GetFileName(answer.Content.Headers.ContentDisposition?.FileName?.Trim('"') ?? "issuing-request.pem");
            await File.WriteAllBytesAsync(path, bytes, ct);
            Line($"Written: {path}. Where the root is: beacon ceremony sign FOLDER {Path.GetFileName(path)}");
            return 0;
        });
        return c;
    }

    private static Command Install(Argument<string> id)
    {
        var files = new Argument<string[]>("files") { Description = "What came back: the authority's certificate and the root's, in one file or several, whatever they are called.", Arity = ArgumentArity.OneOrMore };
        var c = new Command("install", "Install the answer to an authority's request; it takes effect at once.") { id, files };
        c.Does(async (r, ct) =>
        {
            var all = new List<byte[]>();
            foreach (var f in r.GetValue(files)!) all.Add(await File.ReadAllBytesAsync(f, ct));
            using var api = Api.SignedIn();
            await api.PostAsync($"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/answer", new CarriedFiles([.. all.Select(Convert.ToBase64String)]), BeaconJson.Default.CarriedFiles, ct);
            // From now on the service shows a certificate from its own authority, below the root that was just given.
            var root = all.SelectMany(f => FileInspection.Inspect(f)).Where(i => i.Kind == FileItemKind.Certificate).Select(i => X509.Read(i.Der)).First(x => x.IsSelfSigned);
            (Session.Load() with { Root = Armor.Write(Armor.Certificate, root.Der.Span) }).Save();
            Line($"{r.GetValue(id)} is ready: it issues from now on, below {root.Subject}.");
            Line("Publish the root's CRL too: beacon authority publish-crl FILE");
            return 0;
        });
        return c;
    }

    private static Command PublishCrl()
    {
        var file = new Argument<string>("file") { Description = "The CRL that beacon ceremony crl signed." };
        var c = new Command("publish-crl", "Publish a CRL of the offline root at the root's address.") { file };
        c.Does(async (r, ct) =>
        {
            var bytes = await File.ReadAllBytesAsync(r.GetValue(file)!, ct);
            using var api = Api.SignedIn();
            var text = await api.PostAsync("/api/v1/authorities/root/published-crl", new CarriedFiles([Convert.ToBase64String(bytes)]), BeaconJson.Default.CarriedFiles, ct);
            if (r.GetValue(Program.Json)) Json(text);
            else Line("Published: " + Api.Read(text, BeaconJson.Default.CrlIssued).Told + ".");
            return 0;
        });
        return c;
    }

    private static Command Journal()
    {
        var search = new Argument<string?>("search") { Description = "Part of a name, an action or a detail.", Arity = ArgumentArity.ZeroOrOne };
        var take = new Option<int>("--take") { Description = "How many.", DefaultValueFactory = _ => 30 };
        var all = new Option<bool>("--all") { Description = "Everything, oldest first: for keeping and for verifying offline." };
        var list = new Command("list", "Who did what to what, newest first.") { search, take, all };
        list.Does(async (r, ct) =>
        {
            using var api = Api.SignedIn();
            if (r.GetValue(all)) { Json(JsonSerializer.Serialize(await FetchAllAsync(api, ct), BeaconJson.Default.ListJournalEntryInfo)); return 0; }
            var json = await api.TextAsync("/api/v1/journal" + Api.Query(("search", r.GetValue(search)), ("take", r.GetValue(take).ToString())), ct);
            if (r.GetValue(Program.Json)) { Json(json); return 0; }
            Table(["No.", "At (UTC)", "Who", "Did", "To", "Detail"], Api.Read(json, BeaconJson.Default.PageJournalEntryInfo).Items.Select(e => new[] { e.Sequence.ToString(), $"{e.At.UtcDateTime:d MMM HH:mm:ss}", Esc(e.Actor), Esc(e.Action), Esc(e.Subject), Esc(e.Detail) }), "Nothing matches.");
            return 0;
        });

        var file = new Option<string?>("--file") { Description = "A journal kept by beacon journal list --all, instead of the service's." };
        var verify = new Command("verify", "Check the chain of hashes over the whole journal.") { file };
        verify.Does(async (r, ct) =>
        {
            List<JournalEntryInfo> entries;
            if (r.GetValue(file) is { } path) entries = Api.Read(await File.ReadAllTextAsync(path, ct), BeaconJson.Default.ListJournalEntryInfo);
            else
            {
                using var api = Api.SignedIn();
                entries = await FetchAllAsync(api, ct);
            }
            JournalRecord? last = null;
            foreach (var e in entries)
            {
                var record = new JournalRecord(e.Sequence, e.At, e.Actor, e.Action, e.Subject, e.Detail, e.Previous, e.Hash);
                if (JournalChain.Fault(last, record) is { } fault) { Rich($"[red]✕[/] {Esc(fault)}"); return ExitCodes.Failed; }
                last = record;
            }
            Rich($"[green]○[/] {entries.Count} entries hold together; the last one has the hash {last?.Hash ?? "–"}.");
            return ExitCodes.Done;
        });
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
