using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Who trusts what: the anchors in the trust stores of hosts, and changes of them.</summary>
internal static class TrustCommands
{
    private const string AnchorWord = "Its SHA-256 fingerprint from its beginning, or root for our own root.";

    public static IEnumerable<Command> All() =>
        [
            new("trust", "What the clients of hosts trust, and changes of it.")
            {
                Anchors(),
                Show(),
                List(),
                Why(),
                Change("push", "Have stores trust one of our roots, or one that we say is trusted.", TrustAct.Push),
                Change("withdraw", "Take out of stores what was pushed to them.", TrustAct.Withdraw),
                Change("distrust", "End the trust in an anchor that stores have otherwise.", TrustAct.Distrust),
                Change("again", "Trust an anchor again that stores were told to distrust.", TrustAct.TrustAgain),
            },
        ];

    private static Command Anchors()
    {
        var search = new Option<string?>("--search") { Description = "Part of a name, or the beginning of a fingerprint." };
        var which = new Option<string?>("--which") { Description = "ours, used (a service's chain ends there) or distrusted." };
        var sort = new Option<string?>("--sort") { Description = "name (usual, ours first), or ends." };
        var most = Mistakes.Most();
        var list = new Command("anchors", "Anchors that stores of hosts have, ours first.") { search, which, sort, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("which", r.GetValue(which)),
                    ("sort", r.GetValue(sort)),
                    ("take", "200")
                );
                var all = await api.AllAsync("/api/v1/trust/anchors" + query, BeaconJson.Default.PageAnchorInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                    Json(JsonSerializer.Serialize(all, BeaconJson.Default.ListAnchorInfo));
                else
                    Table(
                        ["Fingerprint", "Trusted by", "Lacked by", "Distrusted by", "Services", "Expires", "Anchor"],
                        all.Select(a =>
                            new Ink[]
                            {
                                a.Thumbprint[..16],
                                a.TrustedBy.ToString(),
                                a.LackedBy.ToString(),
                                a.DistrustedBy.ToString(),
                                a.Services.ToString(),
                                When(a.NotAfter),
                                a.Subject + (a.Ours ? " (ours)" : ""),
                            }
                        ),
                        Nothing(r.GetValue(search), "No agent has told of a trust store yet.")
                    );
                return 0;
            }
        );
        return list;
    }

    private static Command Show()
    {
        var anchor = new Argument<string>("anchor") { Description = AnchorWord };
        var show = new Command("show", "An anchor, who trusts it and what stands on it.") { anchor };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.TextAsync("/api/v1/trust/anchors/" + Api.Escape(r.GetValue(anchor)!), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(text);
                    return 0;
                }
                var d = Api.Read(text, BeaconJson.Default.AnchorDetail);
                var a = d.Anchor;
                Rich(Bold(a.Subject) + (a.Ours ? "  ours" : ""));
                Pairs(
                    ("Fingerprint", a.Thumbprint),
                    ("Expires", When(a.NotAfter)),
                    ("Key", d.Text.Key),
                    ("Trusted by", $"{a.TrustedBy} stores"),
                    ("Lacked by", $"{a.LackedBy} stores"),
                    ("Distrusted by", $"{a.DistrustedBy} stores"),
                    ("Services", a.Services == 0 ? "no chain of a service ends there" : $"{a.Services} chains end there")
                );
                foreach (var s in d.Services)
                    Line("  " + s);
                if (a.Services > d.Services.Count)
                    Line($"  and {a.Services - d.Services.Count} more");
                Command(0, $"beacon trust list --anchor {a.Thumbprint[..16]}");
                return 0;
            }
        );
        return show;
    }

    private static Command List()
    {
        var host = new Option<string?>("--host") { Description = "Of one host." };
        var kind = new Option<string?>("--kind") { Description = "system, nss, java or file." };
        var anchor = new Option<string?>("--anchor") { Description = "How they stand to this anchor. " + AnchorWord };
        var standing = new Option<string?>("--standing")
        {
            Description = "With --anchor: trusted, pushed, lacking, distrusted or not-known.",
        };
        var most = Mistakes.Most();
        var list = new Command("list", "Trust stores of hosts.") { host, kind, anchor, standing, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("host", r.GetValue(host)),
                    ("kind", r.GetValue(kind)),
                    ("anchor", r.GetValue(anchor)),
                    ("standing", r.GetValue(standing)),
                    ("take", "200")
                );
                var all = await api.AllAsync("/api/v1/trust/stores" + query, BeaconJson.Default.PageTrustStoreInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                    Json(JsonSerializer.Serialize(all, BeaconJson.Default.ListTrustStoreInfo));
                else
                    Stores(all, "No agent has told of such a trust store.");
                return 0;
            }
        );
        return list;
    }

    private static void Stores(IReadOnlyList<TrustStoreInfo> stores, string empty)
    {
        var about = stores.Any(s => s.Standing is not null);
        Table(
            ["Store", "Host", "Kind", "Anchors", about ? "Stands to it" : "By order", "Who trusts by it", "Path"],
            stores.Select(s =>
                new Ink[]
                {
                    s.Id.ToString(),
                    s.Host.Split('.')[0],
                    OpenWord<TrustKind>.WordOf(s.Kind),
                    s.Problem is null || s.Anchors > 0 ? s.Anchors.ToString() : "–",
                    s.Standing is { } standing ? StandingOf(standing) : $"{s.Pushed} pushed, {s.Distrusted} distrusted",
                    s.Reader + (s.LetsIn ? " (lets clients in)" : ""),
                    s.Path,
                }
            ),
            empty
        );
        foreach (var s in stores.Where(s => s.Problem is not null).Take(10))
            Hanging($"{Orange("◆")} ", 2, $"Store {s.Id}: {s.Problem!.Message} {s.Problem.Cure}");
    }

    private static Ink StandingOf(AnchorStanding standing) =>
        standing switch
        {
            AnchorStanding.Trusted => Green("○") + " trusted",
            AnchorStanding.Pushed => Green("●") + " pushed",
            AnchorStanding.Lacking => Yellow("◐") + " lacking",
            AnchorStanding.Distrusted => Orange("✕") + " distrusted",
            _ => Grey("?") + " not known",
        };

    private static Command Change(string verb, string what, TrustAct act)
    {
        var anchor = new Argument<string>("anchor") { Description = AnchorWord };
        var store = new Option<long[]>("--store")
        {
            Description = "A store by its number; repeat it for more. What lets clients in is named so alone.",
        };
        var host = new Option<string[]>("--host") { Description = "Stores of a host; repeat it for more. Without it and --store: of all." };
        var kind = new Option<string?>("--kind") { Description = "Stores of one kind: system, nss, java or file." };
        var reason = new Option<string?>("--reason") { Description = "Why, for the journal." };
        var preview = new Option<bool>("--preview") { Description = "Only say what it would change." };
        var yes = new Option<bool>("--yes") { Description = "Do it though services are refused afterwards, or clients let in." };
        var change = new Command(verb, what) { anchor, store, host, kind, reason, preview, yes };
        change.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var wish = new TrustWish(
                    act,
                    r.GetValue(anchor)!,
                    r.GetValue(store),
                    r.GetValue(host),
                    r.GetValue(kind) is { } word ? KindOf(word) : null,
                    r.GetValue(reason)
                );
                var json = r.GetValue(Program.Json);
                var text = await api.PostAsync("/api/v1/trust/plan", wish, BeaconJson.Default.TrustWish, ct);
                var plan = Api.Read(text, BeaconJson.Default.TrustPlan);
                if (r.GetValue(preview) && json)
                    Json(text);
                else if (!json)
                    Show(plan);
                if (r.GetValue(preview) || plan.Count == 0)
                    return 0;
                if (Hurts(plan) && !r.GetValue(yes))
                    throw new Core.BeaconProblem(
                        Core.ProblemCode.InputInvalid,
                        "Nothing is ordered yet: see what it does to clients.",
                        "If that is meant, give the same again with --yes."
                    );
                return await OrderAsync(api, wish, json, ct);
            }
        );
        return change;
    }

    private static TrustKind KindOf(string word) =>
        OpenWord<TrustKind>.Of(word) is var kind and not TrustKind.Unknown
            ? kind
            : throw new Core.BeaconProblem(
                Core.ProblemCode.InputInvalid,
                $"There is no kind \"{word}\".",
                "Use system, nss, java or file."
            );

    private static bool Hurts(TrustPlan plan) =>
        (plan.Act is TrustAct.Withdraw or TrustAct.Distrust && plan.Anchor.Services > 0) || plan.Stores.Any(s => s.LetsIn);

    private static void Show(TrustPlan plan)
    {
        Rich(Bold($"{Told(plan.Act)} {plan.Anchor.Subject}") + $"  {plan.Anchor.Thumbprint[..16]}");
        if (plan.Count > 0)
            Stores(plan.Stores, "");
        if (plan.Count > plan.Stores.Count)
            Line($"and {plan.Count - plan.Stores.Count} more stores");
        Line(
            plan switch
            {
                { Count: 0 } => "No store is changed by it: they are so already, or it does not apply to them.",
                { Already: > 0 } => $"{Number(plan.Count)} changed, {Number(plan.Already)} not: so already, or it does not apply.",
                _ => $"{Number(plan.Count)} changed.",
            }
        );
        foreach (var c in plan.Consequences)
            Hanging("→ ", 2, c);
        foreach (var s in plan.Services)
            Line("  " + s);
    }

    private static string Number(int stores) => stores == 1 ? "1 store is" : $"{stores} stores are";

    private static string Told(TrustAct act) =>
        act switch
        {
            TrustAct.Push => "Push",
            TrustAct.Withdraw => "Withdraw",
            TrustAct.Distrust => "Distrust",
            _ => "Trust again",
        };

    private static async Task<int> OrderAsync(Api api, TrustWish wish, bool json, CancellationToken ct)
    {
        var text = await api.PostAsync("/api/v1/trust/changes", wish, BeaconJson.Default.TrustWish, ct);
        var ordered = Api.Read(text, BeaconJson.Default.TrustOrdered);
        if (json)
        {
            Json(text);
            return 0;
        }
        if (ordered is { Orders: [var one], Left: 0 })
            return await Progress.FollowAsync(api, one, "The trust store is changed.", json, ct);
        Line(
            ordered.Orders.Count == 0
                ? "It is ordered already; the agents have not done it yet."
                : $"{ordered.Orders.Count} stores are ordered to be changed; see how they stand: beacon trust list --anchor {wish.Anchor}"
        );
        if (ordered.Left > 0)
            Line($"{ordered.Left} stores remain. When these have proved good, give the same command again.");
        return 0;
    }

    private static Command Why()
    {
        var host = new Argument<string>("host") { Description = "The host that the client is on." };
        var address = new Argument<string>("address") { Description = "The server that it refuses: NAME, NAME:PORT or ADDRESS:PORT." };
        var name = new Option<string?>("--name") { Description = "The server name to ask for." };
        var store = new Option<long?>("--store")
        {
            Description = "The client's trust store by its number; without it, each of the host's.",
        };
        var startTls = new Option<string?>("--start-tls")
        {
            Description = "How to come to TLS: smtp, imap, pop3, ftp, ldap, postgresql, mysql or xmpp.",
        };
        var why = new Command("why", "Why does a client on a host refuse a server? The first cause and its cure, store by store.")
        {
            host,
            address,
            name,
            store,
            startTls,
        };
        why.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var wish = new WhyWish(
                    r.GetValue(host)!,
                    r.GetValue(address)!,
                    r.GetValue(name),
                    r.GetValue(startTls) is { } word ? OpenWord<ProbeProtocol>.Of(word) : null,
                    r.GetValue(store)
                );
                var text = await api.PostAsync("/api/v1/trust/why", wish, BeaconJson.Default.WhyWish, ct);
                var answer = Api.Read(text, BeaconJson.Default.WhyAnswer);
                if (r.GetValue(Program.Json))
                    Json(text);
                else
                    Show(answer);
                return answer.Verdicts.All(v => v.Accepted) ? ExitCodes.Done : ExitCodes.Failed;
            }
        );
        return why;
    }

    private static void Show(WhyAnswer answer)
    {
        var l = answer.Look;
        Rich(Bold($"{l.ServerName} at {l.Address}:{l.Port}") + (l.Served is { } s ? $"  {s.Subject}, issued by {s.Issuer}" : ""));
        if (l.Served is null)
        {
            foreach (var p in l.Problems)
                Hanging($"{Red("✕")} ", 2, $"{p.Reason} {Grey("Cure:")} {p.Cure}");
            return;
        }
        foreach (var v in answer.Verdicts)
        {
            var mark = v.Accepted ? Green("○") + " accepts it" : Red("✕") + " refuses it";
            Rich($"{mark}: {v.Store.Reader}, by store {v.Store.Id}, {OpenWord<TrustKind>.WordOf(v.Store.Kind)} {v.Store.Path}");
            if (v.Cause is not null)
                Hanging("    ", 4, v.Cause);
            if (v.Cure is not null)
                Hanging("    ", 4, Grey("Cure:") + " " + v.Cure);
        }
    }
}
