using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Looks over whole networks for certificates that nobody looks after.</summary>
internal static class SweepCommands
{
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(500);

    public static IEnumerable<Command> All() =>
        [new("sweep", "Look over networks for certificates that nobody looks after.") { Start(), List(), Show(), Stop() }];

    private static Command Start()
    {
        var networks = new Argument<string[]>("networks")
        {
            Description = "Addresses and ranges, for example 10.20.0.0/24; within what BEACON_SWEEPS permits.",
            Arity = ArgumentArity.OneOrMore,
        };
        var ports = new Option<int[]>("--port")
        {
            Description = "A port to look at; repeat it for more. Without it, those that servers with TLS usually listen at.",
        };
        var from = new Option<string?>("--from") { Description = "The host whose agent looks." };
        var noWait = new Option<bool>("--no-wait") { Description = "Do not wait for its end." };
        var start = new Command("start", "Look over networks from one of our hosts.") { networks, ports, from, noWait };
        start.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var wish = new SweepWish(r.GetValue(networks)!, r.GetValue(ports), r.GetValue(from));
                var text = await api.PostAsync("/api/v1/sweeps", wish, BeaconJson.Default.SweepWish, ct);
                var sweep = Api.Read(text, BeaconJson.Default.SweepInfo);
                if (!r.GetValue(noWait))
                    sweep = await FollowAsync(api, sweep, r.GetValue(Program.Json), ct);
                if (r.GetValue(Program.Json))
                    Json(JsonSerializer.Serialize(sweep, BeaconJson.Default.SweepInfo));
                else if (r.GetValue(noWait))
                    Line($"Sweep {sweep.Number} looks at {sweep.Total} endpoints from {sweep.From}; see beacon sweep show {sweep.Number}.");
                else
                    await ShowAsync(api, sweep.Number, ct);
                return sweep.State == SweepState.Failed ? ExitCodes.Failed : 0;
            }
        );
        return start;
    }

    private static async Task<SweepInfo> FollowAsync(Api api, SweepInfo sweep, bool quiet, CancellationToken ct)
    {
        var told = -1L;
        while (sweep.State == SweepState.Running)
        {
            if (!quiet && sweep.Tried != told)
                Line(
                    $"  · {sweep.Tried} of {sweep.Total} endpoints, {sweep.Answering} answer, {sweep.Unmanaged} certificates that nobody looks after"
                );
            told = sweep.Tried;
            await Task.Delay(Pause, ct);
            sweep = (await api.GetAsync($"/api/v1/sweeps/{sweep.Number}", BeaconJson.Default.SweepDetail, ct)).Sweep;
        }
        return sweep;
    }

    private static Command List()
    {
        var most = Mistakes.Most();
        var list = new Command("list", "Sweeps, the last first.") { most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var all = await api.AllAsync("/api/v1/sweeps?", BeaconJson.Default.PageSweepInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(all, BeaconJson.Default.ListSweepInfo));
                    return 0;
                }
                Table(
                    ["Sweep", "State", "Networks", "From", "Tried", "Serving", "Unmanaged", "Started"],
                    all.Select(s =>
                        new Ink[]
                        {
                            s.Number.ToString(),
                            StateOf(s),
                            string.Join(", ", s.Networks),
                            s.From.Split('.')[0],
                            $"{s.Tried} of {s.Total}",
                            s.Serving.ToString(),
                            s.Unmanaged.ToString(),
                            When(s.At),
                        }
                    ),
                    "Nothing was looked over yet: beacon sweep start NETWORK."
                );
                return 0;
            }
        );
        return list;
    }

    private static Ink StateOf(SweepInfo s) =>
        s.State switch
        {
            SweepState.Running => Yellow("◐") + " running",
            SweepState.Done => Green("○") + " done",
            SweepState.Stopped => Yellow("◐") + " stopped",
            _ => Orange("◆") + " failed",
        };

    private static Command Show()
    {
        var number = new Argument<long>("number") { Description = "The sweep's number." };
        var search = new Option<string?>("--search") { Description = "Part of a name, an address or an issuer." };
        var all = new Option<bool>("--all") { Description = "All that it met, not what nobody looks after alone." };
        var sort = new Option<string?>("--sort") { Description = "ends (usual), or address." };
        var most = Mistakes.Most();
        var show = new Command("show", "What a sweep met, the first to expire first.") { number, search, all, sort, most };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("managed", r.GetValue(all) ? null : "false"),
                    ("sort", r.GetValue(sort) ?? (r.GetValue(all) ? null : "ends")),
                    ("take", "200")
                );
                await ShowAsync(api, r.GetValue(number), ct, query, r.GetValue(most), r.GetValue(Program.Json));
                return 0;
            }
        );
        return show;
    }

    private static async Task ShowAsync(
        Api api,
        long number,
        CancellationToken ct,
        string query = "?managed=false&sort=ends&take=200",
        int? most = null,
        bool json = false
    )
    {
        var path = $"/api/v1/sweeps/{number}";
        var findings = await api.AllAsync(path + "/findings" + query, BeaconJson.Default.PageSweepFindingInfo, most, ct);
        if (json)
        {
            Json(JsonSerializer.Serialize(findings, BeaconJson.Default.ListSweepFindingInfo));
            return;
        }
        var detail = await api.GetAsync(path, BeaconJson.Default.SweepDetail, ct);
        var s = detail.Sweep;
        Rich($"{Bold($"Sweep {s.Number}")}  {StateOf(s)}  {s.Tried} of {s.Total} endpoints from {s.From.Split('.')[0]}");
        Line($"{s.Answering} answer, {s.Serving} serve a certificate, {s.Unmanaged} of these nobody looks after.");
        if (s.Problem is { } p)
            Hanging(Orange("◆") + " ", 2, p.Message + " " + p.Cure);
        foreach (var g in detail.Groups)
            Line($"  {g.Count} of {g.Issuer}, the first expires {When(g.FirstEnd)}");
        Line();
        Table(
            ["Endpoint", "State", "Names", "Issuer", "Expires", "Looked after by"],
            findings.Select(f =>
                new Ink[]
                {
                    $"{f.Address}:{f.Port}",
                    Shape(f.Severity) + " " + f.State,
                    string.Join(", ", f.Names.Take(2)) + (f.Names.Count > 2 ? $" and {f.Names.Count - 2} more" : ""),
                    f.Issuer ?? "–",
                    When(f.NotAfter),
                    f.Managed ?? "nobody",
                }
            ),
            "Nothing matches."
        );
        foreach (var way in findings.Select(f => f.TakeOver).OfType<string>().Distinct().Take(10))
            Hanging("→ ", 2, way);
    }

    private static Command Stop()
    {
        var number = new Argument<long>("number") { Description = "The sweep's number." };
        var stop = new Command("stop", "Stop a sweep; what was found stays.") { number };
        stop.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.PostAsync($"/api/v1/sweeps/{r.GetValue(number)}/stop", ct);
                if (r.GetValue(Program.Json))
                    Json(text);
                else
                    Line($"Sweep {r.GetValue(number)} is stopped.");
                return 0;
            }
        );
        return stop;
    }
}
