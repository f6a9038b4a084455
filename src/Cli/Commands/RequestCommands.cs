using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class RequestCommands
{
    public static IEnumerable<Command> All() => [Requests()];

    private static Command Requests()
    {
        var request = new Command("request", "Wishes for certificates.")
        {
            New(),
            ComposeCommand.Make(),
            List(),
            AnswerCommands.Csr(),
            AnswerCommands.Answer(),
            AnswerCommands.Accept(),
        };
        var number = new Argument<long>("number") { Description = "The request's number." };
        var show = new Command("show", "One request with the verdict on each name.") { number };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync($"/api/v1/requests/{r.GetValue(number)}", ct);
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Show(Api.Read(json, BeaconJson.Default.RequestInfo));
                return 0;
            }
        );
        request.Add(show);
        var reason = new Option<string>("--reason") { Description = "What the requester reads.", Required = true };
        request.Add(Deed("approve", "Approve somebody else's request.", number, null, "is approved"));
        request.Add(Deed("refuse", "Refuse a request.", number, reason, "is refused"));
        request.Add(Amend(number, reason));
        request.Add(Deed("withdraw", "Take a request back.", number, null, "is withdrawn"));
        return request;
    }

    private static Command Deed(string verb, string what, Argument<long> number, Option<string>? reason, string done)
    {
        var c = new Command(verb, what) { number };
        if (reason is not null)
            c.Add(reason);
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    $"/api/v1/requests/{r.GetValue(number)}/{verb}",
                    new Refusal(reason is null ? "" : r.GetValue(reason)!),
                    BeaconJson.Default.Refusal,
                    ct
                );
                var q = Api.Read(json, BeaconJson.Default.RequestInfo);
                if (r.GetValue(Program.Json))
                    Json(json);
                else if (verb == "approve" && q.Approvals.Count < q.Needed)
                    Line($"Request {q.Number} is approved by {q.Approvals.Count} of {q.Needed}: somebody else approves it too.");
                else
                    Line($"Request {r.GetValue(number)} {done}.");
                return 0;
            }
        );
        return c;
    }

    private static Command Amend(Argument<long> number, Option<string> reason)
    {
        var names = new Option<string[]>("--name")
        {
            Description = "A name that it shall have; give all of them.",
            AllowMultipleArgumentsPerToken = true,
            Required = true,
        };
        var c = new Command(
            "amend",
            "Give somebody else's request other names before it is approved. They are judged by the requester's zones."
        )
        {
            number,
            names,
            reason,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    $"/api/v1/requests/{r.GetValue(number)}/amend",
                    new Amendment(r.GetValue(names)!, r.GetValue(reason)!),
                    BeaconJson.Default.Amendment,
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var q = Api.Read(json, BeaconJson.Default.RequestInfo);
                Line($"Request {q.Number} is amended; {q.Requester} sees it with the reason. Approvals begin anew.");
                ShowVerdicts(q.Verdicts);
                return 0;
            }
        );
        return c;
    }

    private static Command New()
    {
        var host = new Option<string?>("--host") { Description = "The host that makes the key." };
        var names = new Option<string[]>("--name")
        {
            Description = "A name or address for the certificate; repeat it for more.",
            AllowMultipleArgumentsPerToken = true,
        };
        var profile = new Option<string?>("--profile") { Description = "The profile; server when left out." };
        var subject = new Option<string?>("--subject") { Description = "The subject, as CN=…,O=…; the first name when left out." };
        var label = new Option<string?>("--as") { Description = "The certificate's name; its first name when left out." };
        var key = new Option<string?>("--key") { Description = "ec-p256, ec-p384, rsa-2048, rsa-3072 …" };
        var life = new Option<string?>("--life") { Description = "As 90d, 12h, 10m; the profile's when left out." };
        var after = new Option<double?>("--renew-after")
        {
            Description = "Part of its life after which it is renewed; 0.67 when left out.",
        };
        var csr = new Option<string?>("--csr")
        {
            Description = "File with a CSR made elsewhere, instead of --host; - reads standard input.",
        };
        var outside = new Option<string?>("--outside")
        {
            Description = "The authority outside that shall sign it (beacon outside list); the host makes the key all the same.",
        };
        var bind = new Option<string[]>("--bind-to")
        {
            Description = "A service of the host to put it into at once; repeat it for more.",
            AllowMultipleArgumentsPerToken = true,
        };
        var port = new Option<int?>("--port") { Description = "Port for the new TLS listener." };
        var leaveOut = BindingCommands.LeaveOut();
        var note = new Option<string?>("--note") { Description = "What others should know." };
        var preview = new Option<bool>("--preview") { Description = "Show verdicts and the certificate as it would be; submit nothing." };
        var noWait = new Option<bool>("--no-wait") { Description = "Do not wait for the host." };
        var c = new Command("new", "Ask for a certificate.")
        {
            host,
            names,
            profile,
            subject,
            label,
            key,
            life,
            after,
            csr,
            outside,
            bind,
            port,
            leaveOut,
            note,
            preview,
            noWait,
        };
        c.Does(
            async (r, ct) =>
            {
                var csrText = r.GetValue(csr) switch
                {
                    null => null,
                    "-" => await Console.In.ReadToEndAsync(ct),
                    var f => await File.ReadAllTextAsync(f, ct),
                };
                var wish = new NewRequest(
                    r.GetValue(host),
                    r.GetValue(profile),
                    r.GetValue(names),
                    r.GetValue(subject),
                    r.GetValue(label),
                    r.GetValue(key),
                    r.GetValue(life),
                    csrText,
                    r.GetValue(bind),
                    r.GetValue(port),
                    r.GetValue(after),
                    r.GetValue(note)
                )
                {
                    LeaveOut = r.GetValue(leaveOut),
                    Outside = r.GetValue(outside),
                };
                using var api = Api.SignedIn();
                var json = r.GetValue(Program.Json);
                if (r.GetValue(preview))
                {
                    var text = await api.PostAsync("/api/v1/requests/preview", wish, BeaconJson.Default.NewRequest, ct);
                    var p = Api.Read(text, BeaconJson.Default.RequestPreview);
                    if (json)
                        Json(text);
                    else
                        Show(p);
                    return p.Overall == Verdict.Refused ? ExitCodes.Failed : ExitCodes.Done;
                }
                var answer = await api.PostAsync("/api/v1/requests", wish, BeaconJson.Default.NewRequest, ct);
                var request = Api.Read(answer, BeaconJson.Default.RequestInfo);
                if (json && (request.State != RequestState.WaitingForHost || r.GetValue(noWait)))
                    Json(answer);
                else if (!json)
                    Rich($"Request {Bold($"{request.Number}")} for {Bold(request.Certificate)}: {Word(request)}.");
                switch (request.State)
                {
                    case RequestState.Refused:
                        if (!json)
                            ShowVerdicts(request.Verdicts);
                        if (!json && request.Reason is not null)
                            Hanging(Red("✕") + " ", 2, request.Reason);
                        return ExitCodes.Failed;
                    case RequestState.WaitingForApproval:
                        if (!json)
                        {
                            ShowVerdicts(request.Verdicts);
                            Line(
                                request.Needed > 1
                                    ? $"Two other people must still approve it: beacon request approve {request.Number}"
                                    : $"Somebody else approves it: beacon request approve {request.Number}"
                            );
                        }
                        return ExitCodes.Waiting;
                    case RequestState.WaitingForHost when request.OrderId is { } order && !r.GetValue(noWait):
                        return await Progress.FollowAsync(
                            api,
                            order,
                            request.BindTo.Count > 0
                                ? $"{request.Certificate} is issued and serving."
                                : $"{request.Certificate} is issued and in the store of {request.Host}. Bind it: beacon bind {request.Certificate} --to {request.Host!.Split('.')[0]}/SERVICE",
                            json,
                            ct
                        );
                    default:
                        if (!json && request.State == RequestState.Issued)
                            Line($"Take it: beacon cert export {request.Certificate} --form chain");
                        return ExitCodes.Done;
                }
            }
        );
        return c;
    }

    private static Command List()
    {
        var search = new Argument<string?>("search")
        {
            Description = "A number, part of a name, or a requester.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var state = new Option<string?>("--state")
        {
            Description = "waiting-for-approval, waiting-for-host, waiting-outside, issued, refused, withdrawn.",
        };
        var most = Mistakes.Most();
        var c = new Command("list", "Requests, newest first.") { search, state, most };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(("search", r.GetValue(search)), ("state", r.GetValue(state)), ("take", HostCommands.PageSize));
                var path = "/api/v1/requests" + query;
                var all = await api.AllAsync(path, BeaconJson.Default.PageRequestInfo, r.GetValue(most), ct, "before");
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(all, BeaconJson.Default.ListRequestInfo));
                    return 0;
                }
                Table(
                    ["No.", "Certificate", "State", "By", "At"],
                    all.Select(q => new Ink[] { q.Number.ToString(), q.Certificate, Word(q), q.Requester, When(q.At) }),
                    Nothing(r.GetValue(search) ?? r.GetValue(state), "There is no request yet. Make one: beacon request new.")
                );
                return 0;
            }
        );
        return c;
    }

    private static Ink Word(RequestInfo q) =>
        q.State switch
        {
            RequestState.Issued => Green("○") + " issued",
            RequestState.WaitingForApproval => Yellow("◐") + " waiting for approval",
            RequestState.WaitingForHost when q.WaitsForDns => Yellow("◐") + " waiting for DNS",
            RequestState.WaitingForHost => Yellow("◐") + " waiting for its host",
            RequestState.WaitingOutside => Yellow("◐") + " waiting outside",
            RequestState.Refused => Red("✕") + " refused",
            _ => q.State.ToString().ToLowerInvariant(),
        };

    private static void ShowVerdicts(IEnumerable<NameVerdictInfo> verdicts) =>
        Table(
            ["Name", "Verdict", "Because"],
            verdicts.Select(v => new Ink[] { v.Name, Mark(v.Verdict), (v.Evidence + (v.Cure.Length > 0 ? " " + v.Cure : "")) }),
            "No name."
        );

    private static void Show(RequestPreview p)
    {
        ShowVerdicts(p.Verdicts);
        foreach (var f in p.Findings)
            Hanging(
                f.Weight switch
                {
                    "fatal" => $"{Red("✕")} ",
                    "warning" => $"{Yellow("◐")} ",
                    _ => $"{Grey("·")} ",
                },
                2,
                (f.Message + " " + f.Cure)
            );
        if (p.Certificate is { } c)
        {
            Line();
            Rich($"{Bold("The certificate as it would be")}, named {p.CertificateName}");
            Pairs(
                ("subject", (c.Subject.Length > 0 ? c.Subject : "(empty)")),
                ("names", string.Join(", ", c.Names)),
                ("issuer", c.Issuer),
                ("from", p.Outside is null ? (Ink)$"{c.NotBefore.UtcDateTime:d MMM yyyy HH:mm} UTC" : (Ink)$"as {p.Outside} decides"),
                ("until", p.Outside is null ? When(c.NotAfter) : (Ink)$"as {p.Outside} decides"),
                ("renewal", p.PlannedRenewal is null ? null : When(p.PlannedRenewal) + ", by itself, with a new key"),
                ("key", c.Key),
                ("usage", string.Join(", ", c.KeyUsage.Concat(c.ExtendedKeyUsage))),
                ("CRL", string.Join(", ", c.Crl)),
                ("OCSP", string.Join(", ", c.Ocsp))
            );
        }
        Line();
        foreach (var w in p.Warnings)
            Hanging(Yellow("◐") + " ", 2, w);
        Hanging("", 0, $"{Bold(p.Outcome)} Nothing was submitted.");
    }

    private static void Show(RequestInfo q)
    {
        Rich($"Request {Bold($"{q.Number}")}  {Word(q)}");
        Pairs(
            ("certificate", q.Certificate),
            ("for", (q.Host ?? "a CSR")),
            ("profile", q.Profile),
            ("key", q.Key),
            ("subject", q.Subject.Length == 0 ? null : q.Subject),
            ("life", q.Life),
            ("asked for by", $"{q.Requester}, {q.At.UtcDateTime:d MMM yyyy HH:mm} UTC{(q.From is null ? "" : ", from " + q.From)}"),
            (
                "approvals",
                q.Needed == 0
                    ? null
                    : $"{q.Approvals.Count} of {q.Needed}{(q.Approvals.Count > 0 ? (": " + string.Join(", ", q.Approvals.Select(a => $"{a.By} {a.At.UtcDateTime:d MMM HH:mm}"))) : "")}"
            ),
            ("differs in", q.Differences.Count == 0 ? null : string.Join("; ", q.Differences)),
            ("decided by", q.DecidedBy is null ? null : q.DecidedBy),
            ("reason", q.Reason is null ? null : q.Reason),
            ("signed by", q.Outside is null ? null : $"{q.Outside}, outside"),
            ("serial", q.Serial),
            ("bind to", q.BindTo.Count == 0 ? null : string.Join(", ", q.BindTo)),
            ("note", q.Note is null ? null : q.Note)
        );
        Line();
        ShowVerdicts(q.Verdicts);
        foreach (var a in q.Amendments)
            Hanging(
                $"{Yellow("◐")} ",
                2,
                $"{a.By} amended the names on {a.At.UtcDateTime:d MMM yyyy HH:mm} UTC: {string.Join(", ", a.Before)} → {string.Join(", ", a.After)}. {a.Reason}"
            );
        foreach (var f in q.Findings)
            Hanging(Grey("·") + " ", 2, (f.Message + " " + f.Cure));
        if (q.Held is { } held)
            Hanging(
                Yellow("◐") + " ",
                2,
                $"An answer came that is not what was asked (serial {held.Serial}, until {held.NotAfter:yyyy-MM-dd}). {string.Join(" ", held.Differences)} Somebody else may take it as it is: beacon request accept-answer {q.Number}."
            );
        else if (q is { State: RequestState.WaitingOutside, Outside: { } authority })
            Hanging(
                Yellow("◐") + " ",
                2,
                $"Hand in its CSR at {authority}: beacon request csr {q.Number}. Then bring the answer: beacon request answer FILE."
            );
    }
}
