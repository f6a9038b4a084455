using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Authorities that are not ours, asked by hand.</summary>
internal static class OutsideCommands
{
    public static IEnumerable<Command> All() =>
        [new("outside", "Authorities that are not ours, asked by hand.") { List(), Set(), Forget() }];

    private static Command List()
    {
        var list = new Command("list", "Which there are, and what they want in a subject.");
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/outside", ct);
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Show(Api.Read(json, BeaconJson.Default.ListOutsideInfo));
                return ExitCodes.Done;
            }
        );
        return list;
    }

    private static void Show(List<OutsideInfo> all)
    {
        Table(
            ["Name", "Authority", "Subject besides the name", "Anchors"],
            all.Select(o =>
                new Ink[]
                {
                    o.Name,
                    o.Title,
                    o.Subject,
                    string.Join(
                        ", ",
                        o.Certificates.Where(c => c.Kind == "anchor").Select(c => $"{c.Subject}, until {c.NotAfter:yyyy-MM-dd}")
                    ),
                }
            ),
            "No authority outside is known. An authority keeper adds one: beacon outside set NAME --title … --anchor FILE."
        );
        foreach (var o in all.Where(o => o.Note.Length > 0))
            Hanging($"{o.Name}: ", 2, o.Note);
    }

    private static Command Set()
    {
        var name = new Argument<string>("name") { Description = "Its short name, as harbour-trust." };
        var title = new Option<string?>("--title") { Description = "What people call it." };
        var subject = new Option<string?>("--subject")
        {
            Description =
                "What every subject for it holds besides the common name: O is the organisation exactly as registered, OU a part of it (many refuse it), L the city, ST the state in full, C the country in two letters. As C=GB,L=Thistledown,O=Thistledown Rail.",
        };
        var note = new Option<string?>("--note") { Description = "How a request is handed in there." };
        var anchors = Files("--anchor", "Its root certificate.");
        var intermediates = Files("--intermediate", "An intermediate certificate of it, for answers that come without.");
        var fetch = new Option<string[]>("--fetch-from")
        {
            Description = "A host from which a missing intermediate may be fetched by the address in the answer; repeat it for more.",
            AllowMultipleArgumentsPerToken = true,
        };
        var set = new Command("set", "Add one, or change what is known of it; what is left out stays.")
        {
            name,
            title,
            subject,
            note,
            anchors,
            intermediates,
            fetch,
        };
        set.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var id = r.GetValue(name)!;
                var all = await api.GetAsync("/api/v1/outside", BeaconJson.Default.ListOutsideInfo, ct);
                var now = all.Find(o => o.Name == id);
                List<FilePart>? Given(Option<string[]> option) =>
                    r.GetValue(option) is { Length: > 0 } files ? GivenFiles.Read(files) : null;
                var wish = new OutsideWish(
                    r.GetValue(title) ?? now?.Title ?? id,
                    r.GetValue(subject) ?? now?.Subject ?? "",
                    r.GetValue(note) ?? now?.Note ?? "",
                    r.GetValue(fetch) is { Length: > 0 } hosts ? hosts : now?.FetchFrom ?? [],
                    Given(anchors),
                    Given(intermediates)
                );
                var json = await api.PutAsync("/api/v1/outside/" + Api.Escape(id), wish, BeaconJson.Default.OutsideWish, ct);
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Line($"{id} is kept. Ask it: beacon request new --host HOST --name NAME --outside {id}");
                return ExitCodes.Done;
            }
        );
        return set;
    }

    private static Option<string[]> Files(string option, string what) =>
        new(option) { Description = what + " PEM, DER or PKCS#7; repeat it for more.", AllowMultipleArgumentsPerToken = true };

    private static Command Forget()
    {
        var name = new Argument<string>("name") { Description = "Its short name." };
        var forget = new Command("forget", "Ask it no more; refused while a certificate is signed by it.") { name };
        forget.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(
                    () => new(HttpMethod.Delete, "/api/v1/outside/" + Api.Escape(r.GetValue(name)!)),
                    ct
                );
                Line($"{r.GetValue(name)} is forgotten.");
                return ExitCodes.Done;
            }
        );
        return forget;
    }
}
