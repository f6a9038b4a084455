using System.CommandLine;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class TodayCommands
{
    public static IEnumerable<Command> All()
    {
        var status = new Command("status", "What needs a hand now, worst first, each with its cure.");
        status.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/today", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                Show(Api.Read(json, BeaconJson.Default.Today));
                return 0;
            }
        );

        var lookahead = new Command("lookahead", "What will fall due and what will expire, nearest first.");
        lookahead.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/lookahead", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var l = Api.Read(json, BeaconJson.Default.Lookahead);
                Table(
                    ["", "Name", "Life", "Renewal", "Expires"],
                    l.Items.Select(i =>
                        new Ink[]
                        {
                            i.Kind == "authority" ? Grey("▣ authority") : Mark(i.Severity),
                            i.Host is null ? i.Name : Stack(i.Name, Grey(i.Host)),
                            LifeBar(i.NotBefore, i.NotAfter, i.Planned),
                            (i.Kind, i.Planned) switch
                            {
                                ("authority", _) => (Ink)"by hand",
                                (_, { } p) => When(p),
                                _ => Yellow("nothing renews it"),
                            },
                            When(i.NotAfter),
                        }
                    ),
                    "There is no certificate yet. Request one: beacon request new."
                );
                return 0;
            }
        );

        var address = new Argument<string>("address") { Description = "A name or address, optionally with :PORT." };
        var name = new Option<string?>("--name") { Description = "The server name to ask for, when it differs." };
        var from = new Option<string?>("--from") { Description = "The host whose agent looks." };
        var startTls = new Option<string?>("--starttls")
        {
            Description =
                "How to come to TLS: smtp, imap, pop3, ftp, ldap, xmpp, postgresql, mysql, or tls for at once. Known services and usual ports need no word.",
        };
        startTls.AcceptOnlyFromAmong([.. OpenWord<ProbeProtocol>.Words.Where(w => w != "unknown")]);
        var fromService = new Option<bool>("--from-service") { Description = "The service itself looks, for host keepers." };
        var look = new Command("look", "Look at a service as its clients see it.") { address, name, from, fromService, startTls };
        look.Does(
            async (r, ct) =>
            {
                if (r.GetValue(fromService) && r.GetValue(from) is not null)
                    throw new BeaconProblem(ProblemCode.InputInvalid, "--from and --from-service exclude each other.", "Give one of them.");
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    r.GetValue(fromService) ? "/api/v1/looks/from-service" : "/api/v1/looks",
                    new LookWish(r.GetValue(address)!, r.GetValue(name), r.GetValue(from))
                    {
                        Protocol = r.GetValue(startTls) is { } word ? OpenWord<ProbeProtocol>.Of(word) : null,
                    },
                    BeaconJson.Default.LookWish,
                    ct
                );
                var l = Api.Read(json, BeaconJson.Default.LookInfo);
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Show(l);
                return l.Accepted ? ExitCodes.Done : ExitCodes.Failed;
            }
        );
        return [status, lookahead, look];
    }

    private static void Show(Today t)
    {
        var c = t.Counts;
        var hands = t.Concerns.Count;
        Rich(
            Bold(
                hands switch
                {
                    0 => "Nothing needs a hand.",
                    1 => "1 thing needs a hand.",
                    _ => $"{hands} things need a hand.",
                }
            )
        );
        Rich(
            $"{Grey($"{Many(c.Services, "service")} on {Many(c.Hosts, "host")}{(c.HostsAway > 0 ? $", {c.HostsAway:N0} away" : "")} · {Many(c.Certificates, "certificate")} · {t.At.UtcDateTime:d MMM yyyy HH:mm} UTC")}"
        );
        foreach (var x in t.Concerns)
        {
            Line();
            Hanging(Mark(x.Severity) + new string(' ', 8 - WordOf(x.Severity)), 10, $"{Bold(x.About)}{Grey(Since(x, t.At))}");
            Hanging(new string(' ', 10), 10, (x.Reason + " " + x.Hurts));
            Hanging(new string(' ', 10), 10, Grey("Cure:") + " " + x.Cure);
            if (x.Command is not null)
                Command(10, x.Command);
        }
        var next = t.Lookahead.Items.Where(i => i.Planned > t.At).OrderBy(i => i.Planned).FirstOrDefault();
        if (next is not null)
        {
            Line();
            Hanging("", 0, $"{Grey($"Next renewal: {next.Name}, {When(next.Planned)}.")}");
        }
    }

    private static string Since(Concern c, DateTimeOffset now) =>
        c.Since is { } since && now - since > TimeSpan.FromHours(1) ? $"  since {since.UtcDateTime:d MMM HH:mm}" : "";

    private static string Many(int count, string noun) => count == 1 ? $"1 {noun}" : $"{count:N0} {noun}s";

    private static string Going(IReadOnlyList<Readable> what) =>
        (what.Count == 0 ? "nothing" : string.Join(", ", what.Select(OpenWord<Readable>.WordOf))) + " can be read";

    private static int WordOf(Severity s) => s.ToString().Length;

    public static void Show(LookInfo l)
    {
        Rich($"{Bold(l.ServerName)} {Grey($"at {l.Address}:{l.Port}{(l.From is null ? "" : $", seen from {l.From}")}")}");
        Rich(l.Accepted ? $"{Green("○")} Clients accept it." : $"{Orange("◆")} Clients do not accept it.");
        foreach (var p in l.Problems)
            Hanging("  ", 4, $"{p.Reason} {p.Hurts} {Grey("Cure:")} {p.Cure}");
        var s = l.Served;
        Pairs(
            ("serves", s is null ? null : string.Join(", ", s.Names.Count > 0 ? s.Names : [s.Subject])),
            ("issuer", s?.Issuer),
            ("serial", s?.Serial),
            ("expires", s is null ? null : When(s.NotAfter)),
            ("key", s?.Key),
            ("protocol", l.Protocol),
            ("takes", l.Versions is { Count: > 0 } v ? string.Join(", ", v) : null),
            ("stapled answer", l.Staple),
            ("without TLS", l.Readable is { } what ? Going(what) : null)
        );
        foreach (var step in l.ChainSteps)
            Hanging($"  {Grey("·")} ", 4, Grey(step));
    }
}
