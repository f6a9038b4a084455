using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>The hierarchy as its clients see it, and the renewal of an authority.</summary>
internal static class HealthCommands
{
    public static Command Health()
    {
        var last = new Option<bool>("--last") { Description = "What the service found at its last look, instead of looking now." };
        var c = new Command(
            "health",
            "Look at every address in our certificates as a client does: reachable, right, signed by the right key, fresh. Ends with 1 when something needs a hand now."
        )
        {
            last,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                string json;
                if (r.GetValue(last))
                    json = await api.TextAsync("/api/v1/authorities/health", ct);
                else
                {
                    using var answer = await api.ProvenAsync(() => new(HttpMethod.Post, "/api/v1/authorities/health"), ct);
                    json = await answer.Content.ReadAsStringAsync(ct);
                }
                var report = Api.Read(json, BeaconJson.Default.HealthReport);
                var code = report.Severity >= Severity.Now ? ExitCodes.Failed : ExitCodes.Done;
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return code;
                }
                Rich(
                    $"{Mark(report.Severity)} {(report.Findings == 0 ? $"All {report.Points} addresses give clients what they should." : $"{Bold($"{report.Findings} {(report.Findings == 1 ? "finding" : "findings")}")} at {report.Points} addresses and {report.Authorities.Sum(a => a.Generations.Count)} generations.")}  {Grey($"looked {report.At.UtcDateTime:d MMM HH:mm:ss} UTC")}"
                );
                foreach (var a in report.Authorities)
                    Authority(a);
                if (report.Pushes.Count > 0)
                {
                    Line();
                    Rich(Bold("Brought to"));
                    foreach (var p in report.Pushes)
                        Hanging(
                            $"  {Mark(p.Good ? Severity.Fine : Severity.Now)} ",
                            4,
                            $"{p.Target}  {Grey($"{p.Told} {p.At.UtcDateTime:d MMM HH:mm:ss}")}"
                        );
                }
                return code;
            }
        );
        return c;
    }

    private static void Authority(HealthAuthority a)
    {
        Line();
        Rich($"{Mark(a.Severity)} {Bold(a.Name)}  {Grey(a.Kind)}");
        foreach (var g in a.Generations)
        {
            Rich(
                $"  {Bold($"generation {g.Number}")}  {(g.State.Replace('-', ' '))}{(g.NotAfter is null ? "" : $", {g.Key} key {g.KeyNumber} {g.KeyState}, ends {When(g.NotAfter)}")}{(g.Editions > 0 ? $", {g.Editions} editions good, the last until {g.LastEditionEnds:d MMM yyyy}" : "")}"
            );
            foreach (var f in g.Findings)
                Finding(f, $"    {Mark(f.Severity)} ", 6);
            foreach (var p in g.Points)
            {
                Hanging($"    {Mark(p.Severity)} ", 6, $"{Word(p.Kind)}  {Grey(p.Uri)}");
                if (p.Finding is { } f)
                    Finding(f, "      ", 6);
                else
                    Hanging("      ", 6, Grey(p.Told));
            }
        }
    }

    private static void Finding(HealthFinding f, string head, int indent)
    {
        Hanging(head, indent, Bold(f.Reason));
        var blank = new string(' ', indent);
        Hanging(blank + $"{Grey("likely ")} ", indent + 8, string.Join("  or  ", f.Causes));
        Hanging(blank + $"{Grey("hurts  ")} ", indent + 8, f.Hurts);
        Hanging(blank + $"{Grey("cure   ")} ", indent + 8, f.Cure);
    }

    private static string Word(string kind) =>
        kind switch
        {
            "issuer-certificate" => "certificate",
            "crl" => "CRL",
            "delta-crl" => "delta CRL",
            "ocsp" => "OCSP",
            _ => kind,
        };

    public static IEnumerable<Command> Renewal(Argument<string> id)
    {
        var newKey = new Option<string?>("--new-key")
        {
            Description = "With a new key of this kind, as ec-p256 or rsa-3072; with the same key when left out.",
        };
        var rehearse = new Command("rehearse", "Say what a renewal of this authority would change, before anything is done.")
        {
            id,
            newKey,
        };
        rehearse.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/rehearsal",
                    new RenewalWish(r.GetValue(newKey)),
                    BeaconJson.Default.RenewalWish,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Show(Api.Read(json, BeaconJson.Default.Rehearsal));
                return ExitCodes.Done;
            }
        );
        var renew = new Command("renew", "Begin a renewal: make the request for the next generation. The authority in use keeps issuing.")
        {
            id,
            newKey,
        };
        renew.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                Tell(
                    r,
                    await api.PostAsync(
                        $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/renewal",
                        new RenewalWish(r.GetValue(newKey)),
                        BeaconJson.Default.RenewalWish,
                        ct
                    )
                );
                if (!r.GetValue(Program.Json))
                    Line($"Next: beacon authority request {r.GetValue(id)}");
                return ExitCodes.Done;
            }
        );
        var take = new Command(
            "take-up",
            "Let the published generation issue, after every address that its editions will name was fetched and found right."
        )
        {
            id,
        };
        take.Does((r, ct) => PostAsync(r, id, "take-up", ct));
        var undo = new Command("undo", "Take a renewal back, as long as nothing was issued under it.") { id };
        undo.Does((r, ct) => PostAsync(r, id, "undo", ct));
        return [rehearse, renew, take, undo];
    }

    private static async Task<int> PostAsync(ParseResult r, Argument<string> id, string what, CancellationToken ct)
    {
        using var api = Api.SignedIn();
        using var answer = await api.ProvenAsync(
            () => new(HttpMethod.Post, $"/api/v1/authorities/{Api.Escape(r.GetValue(id)!)}/{what}"),
            ct
        );
        Tell(r, await answer.Content.ReadAsStringAsync(ct));
        return ExitCodes.Done;
    }

    public static void Tell(ParseResult r, string json)
    {
        if (r.GetValue(Program.Json))
            Json(json);
        else
            foreach (var s in Api.Read(json, BeaconJson.Default.Told).Sentences)
                Line(s);
    }

    private static void Show(Rehearsal r)
    {
        Rich(
            $"Renewing {Bold(r.Authority)} with {(r.NewKey ? $"a {Bold("new key")} ({r.Key})" : $"the {Bold("same key")}")}: generation {r.Generation}. {Grey("This is a rehearsal; nothing is changed.")}"
        );
        foreach (var w in r.Warnings)
            Hanging(Orange("◆") + " ", 2, w);
        Head("Chains");
        foreach (var c in r.Chains)
        {
            Hanging(
                "  ",
                2,
                $"{c.Who}{(c.Editions > 0 ? $": {c.Editions} good, the last until {c.LastEnds?.UtcDateTime:d MMM yyyy HH:mm} UTC" : "")}"
            );
            for (var i = 0; i < c.Chain.Count; i++)
                Hanging($"  {new string(' ', 2 * i)}{(i == 0 ? "  " : "└ ")}", 6 + 2 * i, $"{Grey($"{c.Chain[i]}")}");
        }
        Head("Addresses");
        foreach (var p in r.Points)
            Hanging(p.Changes ? $"  {Orange("◆")} " : $"  {Green("○")} ", 4, $"{p.At}  {Grey(p.Holds)}");
        Head("Revocation");
        foreach (var l in r.Lists)
            Hanging("  · ", 4, l);
        Head("Hosts without the newest root");
        Hanging(
            "  ",
            2,
            r.Hosts.Count == 0
                ? "none"
                : string.Join(", ", r.Hosts.Take(20)) + (r.Hosts.Count > 20 ? $" and {r.Hosts.Count - 20} more" : "")
        );
        Head("Side by side");
        Hanging(
            "  ",
            2,
            r.SideBySideUntil is { } until
                ? $"until {until.UtcDateTime:d MMM yyyy HH:mm} UTC, when the last edition of today ends; later if more are issued before the new generation is taken up"
                : "not at all: no edition is good now"
        );
        Head("Steps");
        for (var i = 0; i < r.Steps.Count; i++)
            Hanging($"  {i + 1}. ", 5, r.Steps[i]);

        static void Head(string text)
        {
            Line();
            Rich(Bold(text));
        }
    }
}
