using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Mail as one thing: each use of it, what serves it, by which certificate, and what DNS says of that.</summary>
internal static class MailCommand
{
    /// <summary>DNS is asked about more services only one by one: beacon service show.</summary>
    private const int MostAsked = 20;

    public static IEnumerable<Command> All()
    {
        var search = new Argument<string?>("search")
        {
            Description = "Part of a name of a service or its host.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var use = new Option<string?>("--use")
        {
            Description = "One use alone: server-to-server, submission, imap, pop, web-mail, client-setup, mobile-sync.",
        };
        var c = new Command("mail", "Which server does what for mail, by which certificate, and what DNS says of it.") { search, use };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var path = "/api/v1/services" + Api.Query(("mail", r.GetValue(use) ?? "any"), ("search", r.GetValue(search)));
                var services = await api.AllAsync(path, BeaconJson.Default.PageServiceInfo, null, ct);
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(services, BeaconJson.Default.ListServiceInfo));
                    return 0;
                }
                var records = await RecordsAsync(api, services, ct);
                var only = r.GetValue(use) is { } word ? OpenWord<MailUse>.Of(word) : (MailUse?)null;
                var isWhole = only is null && r.GetValue(search) is null;
                Table(
                    ["Use", "Served by", "At", "Certificate", "Expires", "Read without TLS", "DNS"],
                    Enum.GetValues<MailUse>()
                        .Where(u => u != MailUse.Unknown && (only is null || only == u))
                        .SelectMany(u => Rows(u, services, records, isWhole)),
                    "Nothing that serves mail was found."
                );
                Told(services, records);
                return 0;
            }
        );
        return [c];
    }

    private static async Task<Dictionary<ServiceInfo, List<ServiceRecords>>> RecordsAsync(
        Api api,
        List<ServiceInfo> services,
        CancellationToken ct
    )
    {
        var all = new Dictionary<ServiceInfo, List<ServiceRecords>>();
        foreach (var s in services.Take(MostAsked))
            all[s] = await api.GetAsync(
                $"/api/v1/services/{Api.Escape(s.Host)}/{Api.Escape(s.Name)}/records",
                BeaconJson.Default.ListServiceRecords,
                ct
            );
        return all;
    }

    private static IEnumerable<Ink[]> Rows(
        MailUse use,
        List<ServiceInfo> services,
        Dictionary<ServiceInfo, List<ServiceRecords>> records,
        bool isWhole
    )
    {
        var serving = services.SelectMany(s => s.Mail.Where(m => m.Use == use).Select(m => (Service: s, Use: m))).ToList();
        if (serving.Count == 0 && isWhole)
            yield return [Word(use), Grey("nothing found"), "–", "–", "–", "–", "–"];
        foreach (var (s, m) in serving)
            yield return
            [
                Word(use),
                $"{s.Host.Split('.')[0]}/{s.Name}",
                string.Join(", ", m.Endpoints.Select(e => e.Port).Distinct()),
                s.Binding is { } b ? $"{Shape(s.Severity)} {b.Certificate}" : $"{Shape(s.Severity)} {s.State}",
                When(s.Look?.Served?.NotAfter),
                m.Endpoints.Any(e => e.ClearText == true) ? Yellow("◐") + " " + Read(m) : "nothing",
                Dns(records.GetValueOrDefault(s), m),
            ];
    }

    private static string Read(MailUseInfo m) =>
        string.Join(
            ", ",
            m.Endpoints.Where(e => e.ClearText == true)
                .SelectMany(e => e.Readable ?? [])
                .Distinct()
                .Select(x => x.ToString().ToLowerInvariant())
        )
            is { Length: > 0 } what
            ? what
            : "clear text";

    /// <summary>The worst of what DNS says at these ports.</summary>
    private static Ink Dns(List<ServiceRecords>? records, MailUseInfo m)
    {
        var here = (records ?? []).Where(r => m.Endpoints.Any(e => r.Owner.StartsWith($"_{e.Port}.", StringComparison.Ordinal))).ToList();
        if (here.Any(r => r.Standing == RecordStanding.Mismatch))
            return Orange("◆") + " another key";
        if (here.Any(r => r.Standing == RecordStanding.Matches))
            return Green("○") + " matches";
        return here.Any(r => r.Standing == RecordStanding.NotKnown) ? Yellow("◐") + " not known" : "no record";
    }

    private static void Told(List<ServiceInfo> services, Dictionary<ServiceInfo, List<ServiceRecords>> records)
    {
        foreach (var r in records.Values.SelectMany(r => r).Where(r => r.Standing == RecordStanding.Mismatch))
        {
            var refused = r.Problem ?? "No TLSA record means what is served.";
            Hanging(
                Orange("◆") + " ",
                2,
                $"{r.Owner}: {refused} Clients that go by DNS refuse it{(r.Missing is null ? "." : "; what would match:")}"
            );
            if (r.Missing is { } line)
                Line("    " + line);
        }
        var certificates = services.Select(s => s.Binding?.Certificate).OfType<string>().Distinct().ToList();
        var bare = services.Where(s => s.Binding is null).ToList();
        if (certificates.Count == 1 && bare.Count == 0)
            Line($"One certificate for all of it: {certificates[0]}. It is renewed for all of them, or for none.");
        if (bare.FirstOrDefault(s => s.Connector is "postfix" or "dovecot") is { } without)
            Line($"What has no certificate yet: {Composing(without.Host, services)}");
    }

    /// <summary>The command that proposes the names for all that a host does for mail.</summary>
    private static string Composing(string host, List<ServiceInfo> services)
    {
        var domain = host.Contains('.') ? host[(host.IndexOf('.') + 1)..] : host;
        var functions = services
            .Where(s => s.Host == host)
            .SelectMany(s => s.Mail)
            .Select(m => m.Use)
            .Where(u => u is MailUse.ServerToServer or MailUse.Submission or MailUse.Imap or MailUse.Pop)
            .Distinct()
            .Select(u => $" --function {OpenWord<MailUse>.WordOf(u)}");
        return $"beacon request compose --for mail --host {host.Split('.')[0]} --domain {domain}{string.Concat(functions)}";
    }

    public static string Word(MailUse use) =>
        use switch
        {
            MailUse.ServerToServer => "server to server",
            MailUse.Submission => "submission",
            MailUse.Imap => "IMAP",
            MailUse.Pop => "POP",
            MailUse.WebMail => "web mail",
            MailUse.ClientSetup => "client set-up",
            MailUse.MobileSync => "mobile sync",
            _ => "another use",
        };
}
