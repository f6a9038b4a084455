using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
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
            Table(["Authority", "Key", "Ends", "CRL", "Editions"], Api.Read(json, BeaconJson.Default.ListAuthorityInfo).Select(a => new[]
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
        return new("authority", "The certification authorities.") { list, show, crl };
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
