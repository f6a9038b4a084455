using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class CertificateCommands
{
    public static IEnumerable<Command> All()
    {
        var name = new Argument<string>("certificate") { Description = "Its name, serial or SHA-256 fingerprint." };
        return
        [
            new("cert", "Certificates and their editions.")
            {
                List(),
                Show(name),
                Renew(name),
                GoOn(name),
                RevocationCommands.Revoke(name),
                RevocationCommands.Release(name),
                RevocationCommands.RevokeAll(),
                Find(),
                AnswerCommands.Compare(),
                Export(name),
                Policy(name),
                Give(name),
            },
            Inspect(),
        ];
    }

    private static Command Give(Argument<string> name)
    {
        var to = new Option<string>("--to") { Description = "A sign-in name, or group:NAME.", Required = true };
        var c = new Command(
            "give",
            "Give a certificate to another owner: who may renew, bind and change it from then on, and by whose zones it is renewed."
        )
        {
            name,
            to,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PutAsync(
                    $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/owner",
                    new NewOwner(r.GetValue(to)!),
                    BeaconJson.Default.NewOwner,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Line($"{r.GetValue(name)} belongs to {r.GetValue(to)} now.");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static Command List()
    {
        var search = new Argument<string?>("search")
        {
            Description = "Part of a name, a serial or a SHA-256 fingerprint.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var host = new Option<string?>("--host") { Description = "Only those of one host." };
        var state = new Option<string?>("--state")
        {
            Description = "Only those in one state, for example needs-a-hand, renewal-failed, expires-soon, serving, by-hand.",
        };
        var profile = new Option<string?>("--profile") { Description = "Only those of one profile." };
        var issuer = new Option<string?>("--issuer")
        {
            Description = "Only those of one issuer: issuing, or issuing-2 for its second key.",
        };
        var before = new Option<string?>("--ends-before")
        {
            Description = "Only those that expire before: a date, or a span from now, for example 30d.",
        };
        var sort = new Option<string?>("--sort") { Description = "By name (usual), ends, renewal, or severity." };
        var most = Mistakes.Most();
        var c = new Command("list", "All certificates.") { search, state, host, profile, issuer, before, sort, most };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("state", r.GetValue(state)),
                    ("host", r.GetValue(host)),
                    ("profile", r.GetValue(profile)),
                    ("issuer", r.GetValue(issuer)),
                    ("endsBefore", Moment.OrNone(r.GetValue(before))?.ToString("O")),
                    ("sort", r.GetValue(sort)),
                    ("take", HostCommands.PageSize)
                );
                var items = await api.AllAsync(
                    "/api/v1/certificates" + query,
                    BeaconJson.Default.PageCertificateInfo,
                    r.GetValue(most),
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(items, BeaconJson.Default.ListCertificateInfo));
                    return 0;
                }
                var narrowed = new[] { state, host, profile, issuer, before }.Select(r.GetValue).FirstOrDefault(v => v is not null);
                Table(
                    ["Certificate", "State", "Life", "Renewal", "Expires"],
                    items.Select(RowOf),
                    Nothing(r.GetValue(search) ?? narrowed, "There is no certificate yet. Request one: beacon request new.")
                );
                return 0;
            }
        );
        return c;
    }

    /// <summary>In a pipe the host has a cell of its own, at the end.</summary>
    private static Ink[] RowOf(CertificateInfo i)
    {
        var name = i.Host is null || IsPiped ? i.Name : Stack(i.Name, Grey(i.Host.Split('.')[0]));
        var life = i.NotAfter is { } end ? LifeBar(i.NotBefore!.Value, end, i.Planned) : "";
        Ink[] row = [name, Shape(i.Severity) + " " + i.State, life, When(i.Planned), When(i.NotAfter)];
        return IsPiped ? [.. row, i.Host ?? "–"] : row;
    }

    private static Command GoOn(Argument<string> name)
    {
        var reason = new Option<string>("--reason") { Description = "Why it cannot wait; the journal keeps it.", Required = true };
        var c = new Command("go-on", "Put its next key in without waiting for DNS: clients that go by TLSA records may refuse it.")
        {
            name,
            reason,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                await api.PostAsync(
                    $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/rollover/skip",
                    new SkipReason(r.GetValue(reason)),
                    BeaconJson.Default.SkipReason,
                    ct
                );
                Line($"{r.GetValue(name)} is put in now, whatever DNS says. See it: beacon cert show {r.GetValue(name)}");
                return 0;
            }
        );
        return c;
    }

    private static Command Show(Argument<string> name)
    {
        var c = new Command("show", "One certificate: content, editions, bindings, last look.") { name };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/certificates/" + Api.Escape(r.GetValue(name)!), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var d = Api.Read(json, BeaconJson.Default.CertificateDetail);
                var i = d.Certificate;
                Rich($"{Bold(i.Name)}  {Shape(i.Severity)} {i.State}");
                if (i.LastError is not null)
                    Hanging(Red("✕") + " ", 2, i.LastError + (i.RetryAt is null ? "" : $" Next try {When(i.RetryAt)}."));
                if (i.Rollover is { } rollover)
                    Rollovers.Show(rollover);
                Pairs(
                    ("names", string.Join(", ", i.Names)),
                    ("owner", i.Owner.Length == 0 ? null : i.Owner),
                    ("host", i.Host ?? (i.Owner == "system" ? "the service itself" : "none: issued for a CSR")),
                    ("profile", i.Profile),
                    ("signed by", i.Outside is null ? null : $"{i.Outside}, outside"),
                    ("key", i.Key),
                    ("life", i.NotAfter is null ? null : LifeBar(i.NotBefore!.Value, i.NotAfter.Value, i.Planned)),
                    ("expires", When(i.NotAfter)),
                    (
                        "renewal",
                        i switch
                        {
                            { Planned: null } => "nothing renews it",
                            { Outside: null } => When(i.Planned) + ", by itself",
                            _ => When(i.Planned) + $": the next CSR is made by itself, and carried to {i.Outside} by somebody",
                        }
                    ),
                    ("issuer", (d.Text?.Issuer)),
                    ("SHA-256 fingerprint", d.Text?.Thumbprint)
                );
                Line();
                Table(
                    ["Edition", "State", "Expires", "Request"],
                    d.Editions.Take(10)
                        .Select(e =>
                            new Ink[]
                            {
                                e.Serial,
                                e.RevokedAt is { } at
                                    ? $"{Orange("◆")} {(e.RevocationReason == "certificate-hold" ? $"on hold since {at.UtcDateTime:d MMM HH:mm}" : $"revoked {at.UtcDateTime:d MMM HH:mm} ({e.RevocationReason})")}"
                                    : e.State.ToString().ToLowerInvariant(),
                                When(e.NotAfter),
                                e.Request?.ToString() ?? (d.Certificate.Profile == "brought" ? "brought" : "EST"),
                            }
                        ),
                    "No edition yet."
                );
                if (d.Editions.Count > 10)
                    Line($"… and {d.Editions.Count - 10} older ones (--json has all).");
                Line();
                Table(
                    ["Bound to", "State", "Seen", "At"],
                    i.Bindings.Select(b =>
                        new Ink[]
                        {
                            $"{b.Host.Split('.')[0]}/{b.Service}",
                            b.State.ToString().ToLowerInvariant() + (b.Message is null ? "" : ": " + b.Message),
                            b.SeenSerial ?? "–",
                            When(b.SeenAt),
                        }
                    ),
                    i switch
                    {
                        { Host: null } => "It is handed out; no host of ours serves it.",
                        { State: "on its device" } => "Its device serves it; it was seen there when it was put in place.",
                        _ => $"No service serves it. Bind it: beacon bind {i.Name} --to {i.Host.Split('.')[0]}/SERVICE",
                    }
                );
                foreach (var s in d.ChainSteps)
                    Hanging($"  {Grey("·")} ", 4, Grey(s));
                return 0;
            }
        );
        return c;
    }

    private static Command Renew(Argument<string> name)
    {
        var noWait = new Option<bool>("--no-wait") { Description = "Do not wait for the host." };
        var c = new Command("renew", "Make its next edition now, with a new key, and put it in place.") { name, noWait };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(
                    () => new(HttpMethod.Post, $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/renew"),
                    ct
                );
                var text = await answer.Content.ReadAsStringAsync(ct);
                if (r.GetValue(noWait))
                {
                    if (r.GetValue(Program.Json))
                        Json(text);
                    else
                        Line("Ordered.");
                    return 0;
                }
                return await Progress.FollowAsync(
                    api,
                    Api.Read(text, BeaconJson.Default.OrderAccepted).Order,
                    $"{r.GetValue(name)} is renewed.",
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return c;
    }

    private static Command Export(Argument<string> name)
    {
        var form = new Option<string>("--form") { Description = "pem, chain, der, pkcs7 or pkcs7-pem.", DefaultValueFactory = _ => "pem" };
        form.AcceptOnlyFromAmong("pem", "chain", "der", "pkcs7", "pkcs7-pem");
        var output = new Option<string?>("--out")
        {
            Description = "File to write; - is standard output; a telling name in this folder when left out.",
        };
        var serial = new Option<string?>("--serial") { Description = "An older edition; the current one when left out." };
        var c = new Command("export", "Write its current edition to a file. Keys stay on their hosts.") { name, form, output, serial };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.SendAsync(
                    new(
                        HttpMethod.Get,
                        $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/export"
                            + Api.Query(("form", r.GetValue(form)), ("serial", r.GetValue(serial)))
                    ),
                    ct
                );
                var bytes = await answer.Content.ReadAsByteArrayAsync(ct);
                var path =
                    r.GetValue(output)
                    ?? Path.GetFileName(
                        answer.Content.Headers.ContentDisposition?.FileNameStar
                            ?? answer.Content.Headers.ContentDisposition?.FileName?.Trim('"')
                            ?? "certificate"
                    );
                if (path == "-")
                {
                    await using var o = Console.OpenStandardOutput();
                    await o.WriteAsync(bytes, ct);
                    return 0;
                }
                await File.WriteAllBytesAsync(path, bytes, ct);
                Line($"Written: {path}");
                return 0;
            }
        );
        return c;
    }

    private static Command Find()
    {
        var name = new Argument<string?>("name")
        {
            Description = "The beginning of a certificate's name.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var serial = new Option<string?>("--serial") { Description = "A serial number." };
        var from = new Option<string?>("--ends-after") { Description = "Ends at or after a date, or a span from now, for example 30d." };
        var to = new Option<string?>("--ends-before") { Description = "Ends before a date, or a span from now." };
        var most = Mistakes.Most(100);
        var c = new Command("find", "Editions among all that were ever issued: by name, by serial, or by when they end.")
        {
            name,
            serial,
            from,
            to,
            most,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var (after, before) = (Moment.OrNone(r.GetValue(from)), Moment.OrNone(r.GetValue(to)));
                if (after is not null || before is not null)
                    (after, before) = (after ?? DateTimeOffset.UnixEpoch, before ?? DateTimeOffset.UnixEpoch.AddYears(200));
                var json = await api.TextAsync(
                    "/api/v1/editions"
                        + Api.Query(
                            ("serial", r.GetValue(serial)),
                            ("name", r.GetValue(name)),
                            ("from", after?.ToString("O")),
                            ("to", before?.ToString("O")),
                            ("take", r.GetValue(most).ToString())
                        ),
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                Table(
                    ["Certificate", "Serial", "Expires", "State"],
                    Api.Read(json, BeaconJson.Default.ListIssuedEdition)
                        .Select(e =>
                            new Ink[]
                            {
                                e.Certificate,
                                e.Serial,
                                When(e.NotAfter),
                                e.RevokedAt is not null
                                    ? $"{Orange("◆")} {(e.RevocationReason == "certificate-hold" ? "on hold" : "revoked")}"
                                    : $"{Green("○")} {e.State.ToString().ToLowerInvariant()}",
                            }
                        ),
                    "Nothing matches."
                );
                return 0;
            }
        );
        return c;
    }

    private static Command Policy(Argument<string> name)
    {
        var after = new Option<double?>("--after") { Description = "Part of its life after which it is renewed, 0.05 to 0.95." };
        var automatic = new Option<bool?>("--automatic") { Description = "Whether it is renewed by itself." };
        var c = new Command("policy", "Say when it is renewed.") { name, after, automatic };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var seen = await api.SendAsync(new(HttpMethod.Get, "/api/v1/certificates/" + Api.Escape(r.GetValue(name)!)), ct);
                var now = Api.Read(await seen.Content.ReadAsStringAsync(ct), BeaconJson.Default.CertificateDetail).Certificate;
                var wish = now.Policy with
                {
                    After = r.GetValue(after) ?? now.Policy.After,
                    Automatic = r.GetValue(automatic) ?? now.Policy.Automatic,
                };
                using var message = new HttpRequestMessage(HttpMethod.Put, $"/api/v1/certificates/{Api.Escape(now.Name)}/policy")
                {
                    Content = JsonBody.Of(wish, BeaconJson.Default.PolicyInfo),
                };
                message.Headers.IfMatch.Add(seen.Headers.ETag!);
                using var answer = await api.SendAsync(message, ct);
                var changed = Api.Read(await answer.Content.ReadAsStringAsync(ct), BeaconJson.Default.CertificateDetail).Certificate;
                Line(
                    $"{changed.Name} is renewed {(changed.Policy.Automatic ? $"by itself after {changed.Policy.After:P0} of its life: {When(changed.Planned)}" : "by hand only")}."
                );
                return 0;
            }
        );
        return c;
    }

    private static Command Inspect()
    {
        var file = new Argument<string>("file") { Description = "Any certificate, request, CRL, key or bundle; - reads standard input." };
        var c = new Command("inspect", "Say what is in a file. Works without the service.") { file };
        c.Does(
            async (r, ct) =>
            {
                byte[] bytes;
                if (r.GetValue(file) == "-")
                {
                    using var buffer = new MemoryStream();
                    await using var input = Console.OpenStandardInput();
                    await input.CopyToAsync(buffer, ct);
                    bytes = buffer.ToArray();
                }
                else
                    bytes = await File.ReadAllBytesAsync(r.GetValue(file)!, ct);
                var items = FileInspection.Inspect(bytes);
                if (r.GetValue(Program.Json))
                    Json(
                        "["
                            + string.Join(
                                ",",
                                items.Select(i =>
                                    $"{{\"kind\":\"{Core.BeaconProblem.SlugOf(i.Kind)}\",\"summary\":{System.Text.Json.JsonSerializer.Serialize(i.Summary, BeaconJson.Default.String)}}}"
                                )
                            )
                            + "]"
                    );
                else
                    foreach (var i in items)
                        Hanging("· ", 2, i.Summary);
                return 0;
            }
        );
        return c;
    }
}
