using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Providers of federations: what they sign with, the way to the next certificate, and who has learnt of it.</summary>
internal static class FederationCommands
{
    private const string Path = "/api/v1/federation";

    public static IEnumerable<Command> All() =>
        [
            new("federation", "Providers of sign-ins: the life of what they sign with, and which partners know it.")
            {
                List(),
                Show(),
                SignWith(),
                GoOn(),
                Back(),
                Partner(),
            },
        ];

    private static Argument<int> Number() => new("provider") { Description = "The provider's number in the list." };

    private static Option<string> Reason(string why) => new("--reason") { Description = why, Required = true };

    private static Command List()
    {
        var search = new Argument<string?>("search") { Description = "Part of a name.", Arity = ArgumentArity.ZeroOrOne };
        var step = new Option<string?>("--step") { Description = "One step alone, as waiting or fading; or failed." };
        var sort = new Option<string?>("--sort") { Description = "name (usual), or ends." };
        var most = Mistakes.Most();
        var list = new Command("list", "All providers.") { search, step, sort, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(("search", r.GetValue(search)), ("step", r.GetValue(step)), ("sort", r.GetValue(sort)));
                var all = await api.AllAsync(Path + query, BeaconJson.Default.PageProviderInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(all, BeaconJson.Default.ListProviderInfo));
                    return 0;
                }
                Table(
                    ["No.", "Provider", "State", "Host", "Signs with", "Expires", "Partners that know"],
                    all.Select(p =>
                        new Ink[]
                        {
                            p.Number.ToString(),
                            p.Entity,
                            StateOf(p),
                            p.Host.Split('.')[0],
                            p.Certificate ?? p.Signs?.Subject ?? "–",
                            When(p.Signs?.NotAfter),
                            p.Step == FederationStep.Waiting ? $"{p.Partners.Count(x => x.Knows)} of {p.Partners.Count}" : "–",
                        }
                    ),
                    "No agent looks after a provider: beacon-agent add simplesamlphp FOLDER."
                );
                return 0;
            }
        );
        return list;
    }

    private static Ink StateOf(ProviderInfo p) =>
        Shape(p.Severity) + " " + (p.Problem is not null && p.Severity == Severity.Failed ? "failed" : Word(p.Step));

    private static string Word(FederationStep step) =>
        step switch
        {
            FederationStep.Unmanaged => "not looked after",
            FederationStep.Steady => "signs and publishes one",
            FederationStep.Publishing => "publishing the next",
            FederationStep.Waiting => "waiting for partners",
            FederationStep.Switching => "changing its key",
            FederationStep.Fading => "one before still published",
            FederationStep.Retiring => "retiring the one before",
            FederationStep.Held => "held",
            _ => "unknown",
        };

    private static Command Show()
    {
        var number = Number();
        var show = new Command("show", "One provider: what it signs with, what comes next, and for whom that breaks something.") { number };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var p = await api.GetAsync($"{Path}/{r.GetValue(number)}", BeaconJson.Default.ProviderInfo, ct);
                if (r.GetValue(Program.Json))
                    Json(JsonSerializer.Serialize(p, BeaconJson.Default.ProviderInfo));
                else
                    Shown(p);
                return 0;
            }
        );
        return show;
    }

    private static void Shown(ProviderInfo p)
    {
        Rich($"{Bold(p.Entity)}  {StateOf(p)}");
        Line($"on {p.Host}, {p.Place}");
        Line($"its metadata: {p.Metadata}");
        Line();
        Signing("signs with", p.Signs);
        Signing("publishes too", p.Also);
        if (p.Certificate is { } name)
            Line($"its certificate here: {name}{(p.NextSerial is { } next ? $", next edition {next}" : "")}");
        Hanging("→ ", 2, p.Next);
        foreach (var b in p.Breaks)
            Hanging($"{Yellow("◐")} ", 2, b);
        if (p.NotCounted is { } why)
            Hanging($"{Yellow("◐")} ", 2, $"Who fetches the metadata is not known: {why}");
        if (p.Problem is { } problem)
            Hanging(Red("✕") + " ", 2, $"{problem.Message} {problem.Cure}");
        Line();
        Table(
            ["Partner", "Knows what is published", "Fetches from"],
            p.Partners.Select(x =>
                new Ink[] { x.Entity, Knows(p, x), x.Addresses.Count == 0 ? "not known: --from ADDRESS" : string.Join(", ", x.Addresses) }
            ),
            "It names no partners."
        );
        foreach (var s in p.Strangers)
            Hanging($"{Grey("·")} ", 2, $"{s.Address} has fetched it too, {When(s.At)}; whose address that is was not said.");
    }

    private static void Signing(string what, SigningCertificate? c)
    {
        if (c is not null)
            Line($"{what}: {c.Subject}, serial {c.Serial}, expires {When(c.NotAfter)}");
    }

    private static Ink Knows(ProviderInfo p, PartnerInfo x)
    {
        if (x.FetchedAt is { } at)
            return Green("○") + $" fetched {When(at)}";
        if (x.WordBy is { } by)
            return Green("○") + $" by {by}'s word: {x.Word}";
        if (p.Also is null)
            return Grey("–");
        return Yellow("◐") + " not yet";
    }

    private static Command SignWith()
    {
        var number = Number();
        var certificate = new Argument<string?>("certificate")
        {
            Description = "A certificate of that host, with an RSA key. Left out: the provider is left as it is from now on.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var command = new Command(
            "sign-with",
            "Say which certificate it signs with: its editions are published, used and retired one after the other."
        )
        {
            number,
            certificate,
        };
        command.Does(
            (r, ct) =>
                ChangedAsync(
                    r,
                    number,
                    (api, path) => api.PutAsync(path + "/certificate", new(r.GetValue(certificate)), BeaconJson.Default.SigningWish, ct)
                )
        );
        return command;
    }

    private static async Task<int> ChangedAsync(ParseResult r, Argument<int> number, Func<Api, string, Task<string>> change)
    {
        using var api = Api.SignedIn();
        var text = await change(api, $"{Path}/{r.GetValue(number)}");
        if (r.GetValue(Program.Json))
            Json(text);
        else
            Shown(Api.Read(text, BeaconJson.Default.ProviderInfo));
        return 0;
    }

    private static Command GoOn()
    {
        var (number, reason) = (Number(), Reason("Why it need not wait any longer; the journal keeps it."));
        var on = new Option<string?>("--on") { Description = "Not before then: a date, or a span from now as 14d." };
        var command = new Command(
            "go-on",
            "Let it go on: without partners that have not fetched the next certificate, after a step back, or after a failure."
        )
        {
            number,
            reason,
            on,
        };
        command.Does(
            (r, ct) =>
                ChangedAsync(
                    r,
                    number,
                    (api, path) =>
                        api.PostAsync(
                            path + "/go-on",
                            new(r.GetValue(reason), Moment.OrNone(r.GetValue(on))),
                            BeaconJson.Default.GoOnWish,
                            ct
                        )
                )
        );
        return command;
    }

    private static Command Back()
    {
        var (number, reason) = (Number(), Reason("Why; the journal keeps it."));
        var preview = new Option<bool>("--preview") { Description = "Show what it would change, and do nothing." };
        var command = new Command("back", "Take the last step back. Nothing more happens until somebody lets it go on.")
        {
            number,
            reason,
            preview,
        };
        command.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var path = $"{Path}/{r.GetValue(number)}";
                if (r.GetValue(preview))
                {
                    var p = await api.GetAsync(path, BeaconJson.Default.ProviderInfo, ct);
                    var act = p.NextSerial is null ? FederationAct.Publish : FederationAct.Withdraw;
                    var planned = await api.PostAsync(path + "/plan", new(act), BeaconJson.Default.FederationPlanWish, ct);
                    return Plans.Preview(planned, r.GetValue(Program.Json));
                }
                var text = await api.PostAsync(path + "/back", new(r.GetValue(reason)), BeaconJson.Default.BackWish, ct);
                var order = Api.Read(text, BeaconJson.Default.OrderAccepted).Order;
                return await Progress.FollowAsync(api, order, "One step is taken back.", r.GetValue(Program.Json), ct);
            }
        );
        return command;
    }

    private static Command Partner()
    {
        var number = Number();
        var entity = new Argument<string>("partner") { Description = "Its name in the federation, as the list has it." };
        var from = new Option<string[]>("--from") { Description = "An address that it fetches metadata from; repeat it for more." };
        var word = new Option<string?>("--word") { Description = "How you know that it has the next certificate; the journal keeps it." };
        var command = new Command("partner", "Say where a partner fetches metadata from, or that it knows the next certificate.")
        {
            number,
            entity,
            from,
            word,
        };
        command.Does(
            (r, ct) =>
                ChangedAsync(
                    r,
                    number,
                    (api, path) =>
                        api.PutAsync(
                            path + "/partner",
                            new(r.GetValue(entity)!, r.GetValue(from) is { Length: > 0 } f ? f : null, r.GetValue(word)),
                            BeaconJson.Default.PartnerWish,
                            ct
                        )
                )
        );
        return command;
    }
}
