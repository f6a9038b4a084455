using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>The stores of all hosts: who has this certificate, this key, this issuer?</summary>
internal static class StoreCommands
{
    public static IEnumerable<Command> All()
    {
        var store = new Command("store", "The certificates with keys on all hosts.") { List() };
        foreach (var c in StoreEntryCommands.All())
            store.Add(c);
        return [store];
    }

    private static Command List()
    {
        var search = new Argument<string?>("text")
        {
            Description = "The beginning of a certificate's name; or a serial, or the SHA-256 fingerprint of a certificate or a key.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var host = new Option<string?>("--host") { Description = "Only those of one host." };
        var issuer = new Option<string?>("--issuer") { Description = "Only those of an issuer: its common name, or its whole name." };
        var inUse = new Option<bool>("--in-use")
        {
            Description = "Only those that servers are configured with, not what is kept for a while.",
        };
        var before = new Option<string?>("--ends-before")
        {
            Description = "Only those that expire before: a date, or a span from now, for example 30d.",
        };
        var most = Mistakes.Most();
        var list = new Command("list", "Which host has which certificate and key.") { search, host, issuer, inUse, before, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("host", r.GetValue(host)),
                    ("issuer", r.GetValue(issuer)),
                    ("inUse", r.GetValue(inUse) ? "true" : null),
                    ("endsBefore", Moment.OrNone(r.GetValue(before))?.ToString("O"))
                );
                var all = await api.AllAsync("/api/v1/store" + query, BeaconJson.Default.PageStoredEntryInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(System.Text.Json.JsonSerializer.Serialize(all, BeaconJson.Default.ListStoredEntryInfo));
                    return 0;
                }
                Table(
                    ["Host", "Certificate", "Label", "Serial", "Expires", "Use", "Key", "Issuer"],
                    all.Select(e =>
                        new Ink[]
                        {
                            e.Host,
                            e.Certificate,
                            e.Label ?? "",
                            e.Serial,
                            When(e.NotAfter),
                            Use(e),
                            e.Releasable ? "may leave" : "stays",
                            e.Issuer ?? "",
                        }
                    ),
                    Nothing(r.GetValue(search), "No host has a certificate yet.")
                );
                return 0;
            }
        );
        return list;
    }

    private static string Use(StoredEntryInfo e)
    {
        if (e.Archived)
            return "archived";
        if (!e.InUse)
            return "kept";
        if (e.BoundTo.Count == 0)
            return "in use";
        return "serves " + string.Join(", ", e.BoundTo);
    }
}
