using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class ProfileCommands
{
    private static readonly Argument<string> Id = new("profile") { Description = "Its short name." };

    public static IEnumerable<Command> All() =>
        [
            new("profile", "What may be issued, and to whom.")
            {
                List(),
                Show(),
                Differences(),
                Export(),
                Import(),
                Copy(),
                Offer("offer", "Offer a withdrawn profile again.", "is offered"),
                Offer(
                    "withdraw",
                    "Take a profile out of what may be asked for; what was issued under it is renewed all the same.",
                    "is withdrawn"
                ),
            },
        ];

    private static Command List()
    {
        var search = new Argument<string?>("search")
        {
            Description = "Part of its name, title or purpose.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var c = new Command("list", "What can be asked for.") { search };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/profiles", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var text = r.GetValue(search);
                Table(
                    ["Profile", "State", "Life", "Approval", "Purpose"],
                    Api.Read(json, BeaconJson.Default.ListProfileInfo)
                        .Where(p => text is null || $"{p.Id} {p.Title} {p.Purpose}".Contains(text, StringComparison.OrdinalIgnoreCase))
                        .Select(p =>
                            new Ink[]
                            {
                                p.Id,
                                p switch
                                {
                                    { ForPeople: false } => (Ink)$"{Grey("·")} the system's",
                                    { Offered: false } => $"{Grey("–")} withdrawn",
                                    { ForYou: true } => $"{Green("○")} offered",
                                    _ => $"{Grey("◐")} for {string.Join(", ", p.MayAsk)}",
                                },
                                p.Life,
                                p.Approval,
                                p.Purpose,
                            }
                        ),
                    "Nothing matches."
                );
                return 0;
            }
        );
        return c;
    }

    private static Command Show()
    {
        var c = new Command("show", "One profile with its revisions.") { Id };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync($"/api/v1/profiles/{Api.Escape(r.GetValue(Id)!)}", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var d = Api.Read(json, BeaconJson.Default.ProfileDetail);
                var (p, x) = (d.Profile, d.Definition);
                var forPeople = p.Offered ? "offered" : "withdrawn";
                Rich(
                    $"{Bold(p.Title)}  {Grey($"{p.Id}, revision {p.Revision}, {(p.ForPeople ? forPeople : "for the system alone")}, {d.Certificates} certificates")}"
                );
                Pairs(
                    ("purpose", p.Purpose),
                    ("life", p.Life),
                    ("keys", string.Join(", ", p.Keys)),
                    ("usage", string.Join(", ", p.KeyUsage.Concat(p.ExtendedKeyUsage))),
                    (
                        "names",
                        string.Join(
                            ", ",
                            new[]
                            {
                                x.Names.HostNames ? "host names" : "no host names",
                                x.Names.Wildcards ? "wildcards with approval" : "no wildcards",
                                x.Names.Addresses ? "addresses" : "no addresses",
                                x.Names.Outward ? "no names of inside" : "",
                                x.Names.Within.Count > 0 ? "only in " + string.Join(", ", x.Names.Within) : "",
                                x.Names.Most < 250 ? $"at most {x.Names.Most}" : "",
                            }.Where(t => t.Length > 0)
                        )
                    ),
                    (
                        "subject",
                        (
                            x.Subject switch
                            {
                                "empty" => "none",
                                "first-name" => "the first name",
                                _ => "from the request",
                            } + (x.Fixed.Length > 0 ? ", always with " + x.Fixed : "")
                        )
                    ),
                    ("may ask", (x.MayAsk.Count == 0 ? "anyone allowed to request certificates" : string.Join(", ", x.MayAsk))),
                    ("approval", p.Approval),
                    ("makes", x.AuthorityDepth is { } depth ? $"authorities, with {depth} further ones below" : null)
                );
                Line();
                foreach (var v in d.Revisions)
                {
                    Rich($"{Bold($"revision {v.Revision}")}  {Grey($"{v.At.UtcDateTime:d MMM yyyy HH:mm} UTC, by {v.By}")}");
                    foreach (var change in v.Changes)
                        Change(change);
                }
                return 0;
            }
        );
        return c;
    }

    private static void Change(ProfileDifference d)
    {
        Hanging($"  {Red("-")} ", 4, $"{d.Field}: {(d.Before.Length == 0 ? "(nothing)" : d.Before)}");
        Hanging($"  {Green("+")} ", 4, $"{d.Field}: {(d.After.Length == 0 ? "(nothing)" : d.After)}");
    }

    private static Command Differences()
    {
        var from = new Option<int?>("--from") { Description = "A revision; the last but one when left out." };
        var to = new Option<int?>("--to") { Description = "A revision; the newest when left out." };
        var c = new Command("diff", "What differs between two revisions.") { Id, from, to };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync(
                    $"/api/v1/profiles/{Api.Escape(r.GetValue(Id)!)}/differences"
                        + Api.Query(("from", r.GetValue(from)?.ToString()), ("to", r.GetValue(to)?.ToString())),
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var all = Api.Read(json, BeaconJson.Default.ListProfileDifference);
                if (all.Count == 0)
                    Line("Nothing differs.");
                foreach (var d in all)
                    Change(d);
                return 0;
            }
        );
        return c;
    }

    private static Command Export()
    {
        var revision = new Option<int?>("--revision") { Description = "A revision; the newest when left out." };
        var output = new Option<string?>("--out") { Description = "File to write; standard output when left out." };
        var c = new Command("export", "Write a profile as YAML, for keeping, changing and importing.") { Id, revision, output };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.GetAsync(
                    $"/api/v1/profiles/{Api.Escape(r.GetValue(Id)!)}/yaml" + Api.Query(("revision", r.GetValue(revision)?.ToString())),
                    BeaconJson.Default.ProfileText,
                    ct
                );
                if (r.GetValue(output) is not { } path)
                {
                    Console.Out.Write(text.Yaml);
                    return 0;
                }
                await File.WriteAllTextAsync(path, text.Yaml, ct);
                Line($"Written: {path}");
                return 0;
            }
        );
        return c;
    }

    private static Command Import()
    {
        var file = new Argument<string>("file") { Description = "YAML as beacon profile export writes it; - reads standard input." };
        var preview = new Option<bool>("--preview") { Description = "Say what would change, and change nothing." };
        var c = new Command("import", "Make a profile from its YAML, or the next revision of one that is there.") { file, preview };
        c.Does(
            async (r, ct) =>
            {
                var yaml = r.GetValue(file) is "-"
                    ? await Console.In.ReadToEndAsync(ct)
                    : await File.ReadAllTextAsync(r.GetValue(file)!, ct);
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    "/api/v1/profiles/import" + (r.GetValue(preview) ? "?preview=true" : ""),
                    new ProfileText(yaml),
                    BeaconJson.Default.ProfileText,
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var v = Api.Read(json, BeaconJson.Default.ProfileRevisionInfo);
                Line((r.GetValue(preview) ? "It would be" : "It is") + (v.Revision == 1 ? " a new profile." : $" revision {v.Revision}."));
                foreach (var d in v.Changes)
                    Change(d);
                return 0;
            }
        );
        return c;
    }

    private static Command Copy()
    {
        var to = new Argument<string>("new") { Description = "Short name of the copy." };
        var title = new Option<string?>("--title") { Description = "Its title." };
        var c = new Command("copy", "Make a new profile with another's content; then export, change and import it.") { Id, to, title };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    $"/api/v1/profiles/{Api.Escape(r.GetValue(Id)!)}/copy",
                    new ProfileCopy(r.GetValue(to)!, r.GetValue(title)),
                    BeaconJson.Default.ProfileCopy,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Line(
                        $"Made: {r.GetValue(to)}. Change it: beacon profile export {r.GetValue(to)} --out {r.GetValue(to)}.yaml, then beacon profile import {r.GetValue(to)}.yaml"
                    );
                return 0;
            }
        );
        return c;
    }

    private static Command Offer(string verb, string what, string done)
    {
        var c = new Command(verb, what) { Id };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(
                    () => new(HttpMethod.Post, $"/api/v1/profiles/{Api.Escape(r.GetValue(Id)!)}/{verb}"),
                    ct
                );
                if (!r.GetValue(Program.Json))
                    Line($"{r.GetValue(Id)} {done}.");
                return 0;
            }
        );
        return c;
    }
}
