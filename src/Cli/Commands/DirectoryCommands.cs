using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>What directory and DNS say, and how the service stands with them.</summary>
internal static class DirectoryCommands
{
    public static IEnumerable<Command> All()
    {
        var c = new Command("directory", "The domain's directory: whether it answers, and who may have which names.") { Find(), Refresh() };
        c.Does((r, ct) => ShowAsync(r, api => api.TextAsync("/api/v1/directory", ct)));
        return [c];
    }

    private static Command Refresh()
    {
        var c = new Command("refresh", "Ask directory and DNS anew, instead of using what they said some minutes ago.");
        c.Does(
            (r, ct) =>
                ShowAsync(
                    r,
                    async api =>
                    {
                        using var answer = await api.ProvenAsync(() => new(HttpMethod.Post, "/api/v1/directory/refresh"), ct);
                        return await answer.Content.ReadAsStringAsync(ct);
                    }
                )
        );
        return c;
    }

    private static async Task<int> ShowAsync(ParseResult r, Func<Api, Task<string>> ask)
    {
        using var api = Api.SignedIn();
        var json = await ask(api);
        if (r.GetValue(Program.Json))
        {
            Json(json);
            return 0;
        }
        var state = Api.Read(json, BeaconJson.Default.DirectoryState);
        if (!state.Present)
            Line("There is no directory: names are decided by hosts, zones and people alone. See BEACON_DIRECTORY.");
        else if (state.Away is { } away)
        {
            Rich($"{Mark(Severity.Failed)} {away.Message}  {Grey($"since {away.Since.UtcDateTime:d MMM HH:mm:ss} UTC")}");
            Line("  " + away.Cure);
        }
        else
            Rich(
                $"{Mark(Severity.Fine)} {state.Called}  {Grey(state.Answered is { } at ? $"answered {at.UtcDateTime:d MMM HH:mm:ss} UTC; its answers are kept for {state.Minutes:0.#} min" : "not asked yet")}"
            );
        Line(state.Dns ? "DNS is asked about names." : "DNS is not asked (BEACON_DNS).");
        Line();
        Table(
            ["Zone", "Held by", "Bounds"],
            state.Zones.Select(z => new Ink[] { z.Zone, z.Group, Bounds(z) }),
            "No group holds a zone: only hosts' own names are issued. See BEACON_ZONES."
        );
        return 0;
    }

    private static string Bounds(ZoneInfo z) =>
        string.Join(
            ", ",
            new[]
            {
                z.Wildcards || z.Zone.Contains('/') ? null : "no wildcards",
                z.Depth is { } d ? $"{d} {(d == 1 ? "label" : "labels")} deep" : null,
                z.Profile is { } p ? $"profile {p} alone" : null,
            }.OfType<string>()
        );

    private static Command Find()
    {
        var name = new Argument<string>("name") { Description = "A DNS name or an address." };
        var c = new Command("find", "All that directory and DNS say about a name: whose it is, where it leads, who holds its zone.")
        {
            name,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync($"/api/v1/directory/names/{Api.Escape(r.GetValue(name)!)}", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var found = Api.Read(json, BeaconJson.Default.NameInDirectory);
                Rich(Bold(found.Name));
                foreach (var computer in found.Computers)
                    Pairs(
                        ("Computer", computer.Account + (computer.Enabled ? "" : " (locked)")),
                        ("Names", string.Join(", ", computer.Names)),
                        ("Principals", string.Join(", ", computer.Principals)),
                        ("Groups", string.Join(", ", computer.Groups)),
                        ("As of", $"{computer.AsOf.UtcDateTime:d MMM HH:mm:ss} UTC")
                    );
                if (found.Computers.Count == 0)
                    Line("No computer of the directory has it.");
                if (found.Dns is { } dns)
                    Line(dns);
                foreach (var zone in found.Zones)
                    Line(zone + ".");
                if (found.Zones.Count == 0)
                    Line("It is in no zone that a group here holds.");
                return 0;
            }
        );
        return c;
    }
}
