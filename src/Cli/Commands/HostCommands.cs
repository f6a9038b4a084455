using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class HostCommands
{
    /// <summary>The most that a page has.</summary>
    internal const string PageSize = "500";

    public static IEnumerable<Command> All() => [Hosts(), Services()];

    private static Command Hosts()
    {
        var search = new Argument<string?>("search") { Description = "Part of a name.", Arity = ArgumentArity.ZeroOrOne };
        var state = new Option<string?>("--state") { Description = "Only those that are invited, connected, away, or have a problem." };
        var sort = new Option<string?>("--sort") { Description = "By name (usual), or by when they were seen." };
        var most = Mistakes.Most();
        var list = new Command("list", "All hosts.") { search, state, sort, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("state", r.GetValue(state)),
                    ("sort", r.GetValue(sort)),
                    ("take", PageSize)
                );
                var hosts = await api.AllAsync("/api/v1/hosts" + query, BeaconJson.Default.PageHostInfo, r.GetValue(most), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(hosts, BeaconJson.Default.ListHostInfo));
                    return 0;
                }
                Table(
                    ["Host", "State", "Last seen", "Services", "Agent"],
                    hosts.Select(h =>
                        new Ink[]
                        {
                            h.Name,
                            StateOf(h),
                            When(h.LastSeen),
                            h.Services.ToString(),
                            (h.Via is { } via ? $"via {via.Split('.')[0]}" : h.AgentVersion ?? "–"),
                        }
                    ),
                    Nothing(r.GetValue(search), "There is no host yet. Invite one: beacon host invite NAME.")
                );
                return 0;
            }
        );

        var name = new Argument<string>("host") { Description = "Its full name, or the first part of it." };
        var show = new Command("show", "One host with its services and its store.") { name };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/hosts/" + Api.Escape(r.GetValue(name)!), ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var d = Api.Read(json, BeaconJson.Default.HostDetail);
                Rich($"{Bold(d.Host.Name)}  {StateOf(d.Host)}");
                Pairs(
                    ("last seen", When(d.Host.LastSeen)),
                    ("owner", d.Host.Owner),
                    (
                        "device",
                        d.Host.Device is null ? null : $"{d.Host.Device} at {d.Host.DeviceAddress}, reached by the agent of {d.Host.Via}"
                    ),
                    ("agent", d.Host.AgentVersion),
                    ("its certificate", d.Host.AgentCertificateEnds is null ? null : "until " + When(d.Host.AgentCertificateEnds)),
                    ("addresses", string.Join(", ", d.Host.Addresses))
                );
                if (d.Host.Problem is { } p)
                    Hanging(Orange("◆") + " ", 2, (p.Message + " " + p.Cure));
                Line();
                if (d.Host.Device is not null)
                {
                    Line(
                        Grey(
                            $"Its agent has the key made there, or makes it where the device cannot, and puts the answer in place. See beacon cert list --host {d.Host.Name}."
                        )
                    );
                    return 0;
                }
                ShowServices(d.Services);
                Line();
                Table(
                    ["Store: certificate", "Serial", "Expires", ""],
                    d.Entries.Select(e => new Ink[] { e.Certificate, e.Serial, When(e.NotAfter), e.Live ? "in use" : "" }),
                    "Its store is empty."
                );
                return 0;
            }
        );

        var owner = new Option<string?>("--owner")
        {
            Description = "Who may order work on it: a sign-in name, or group:NAME; the administrators when left out.",
        };
        var invite = new Command("invite", "Make a one-time join code for a host's agent.") { name };
        invite.Add(owner);
        invite.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    "/api/v1/hosts",
                    new NewHost(r.GetValue(name)!, r.GetValue(owner)),
                    BeaconJson.Default.NewHost,
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                var i = Api.Read(json, BeaconJson.Default.HostInvitation);
                Rich($"Join code for {Bold(i.Name)}, good once until {i.Until.UtcDateTime:d MMM yyyy HH:mm} UTC:");
                Console.Out.WriteLine("\n  " + i.Code + "\n");
                Line("On the host, run this and paste the code:");
                Command(2, i.Command);
                return 0;
            }
        );

        var remove = new Command("remove", "Take a host out; its agent's certificates are revoked.") { name };
        remove.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(
                    () => new(HttpMethod.Delete, "/api/v1/hosts/" + Api.Escape(r.GetValue(name)!)),
                    ct
                );
                Line($"{r.GetValue(name)} is removed. What its servers serve stays until somebody changes it.");
                return 0;
            }
        );
        return new("host", "Servers with an agent.") { list, show, invite, Give(name), Meet(name), remove };
    }

    private static Command Give(Argument<string> name)
    {
        var to = new Option<string>("--to") { Description = "A sign-in name, or group:NAME.", Required = true };
        var give = new Command("give", "Give a host to another owner, who may order work on it from then on.") { name, to };
        give.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                await api.PutAsync(
                    $"/api/v1/hosts/{Api.Escape(r.GetValue(name)!)}/owner",
                    new NewOwner(r.GetValue(to)!),
                    BeaconJson.Default.NewOwner,
                    ct
                );
                Line($"{r.GetValue(name)} belongs to {r.GetValue(to)} now.");
                return 0;
            }
        );
        return give;
    }

    private static Command Meet(Argument<string> name)
    {
        var address = new Argument<string>("address") { Description = "An IPv4 or IPv6 address of the host." };
        var meet = new Command(
            "meet",
            "Have the service connect to an address and meet the host's agent there: for a day that is evidence for the address."
        )
        {
            name,
            address,
        };
        meet.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                HealthCommands.Tell(
                    r,
                    await api.PostAsync(
                        $"/api/v1/hosts/{Api.Escape(r.GetValue(name)!)}/meetings",
                        new MeetWish(r.GetValue(address)!),
                        BeaconJson.Default.MeetWish,
                        ct
                    )
                );
                return 0;
            }
        );
        return meet;
    }

    private static Ink StateOf(HostInfo h)
    {
        if (h.State == HostState.Invited)
            return Yellow("◐") + " invited";
        if (h.Problem is not null)
            return Orange("◆") + " problem";
        if (h.Online)
            return Green("○") + " connected";
        return Orange("◆") + " away";
    }

    private static void ShowServices(IEnumerable<ServiceInfo> services, string? search = null) =>
        Table(
            ["Service", "State", "Certificate", "Expires"],
            services.Select(s =>
                new Ink[]
                {
                    $"{s.Host.Split('.')[0]}/{s.Name}",
                    Shape(s.Severity) + " " + s.State,
                    (s.Binding?.Certificate ?? (s.Look?.Served is null ? "–" : "not managed")),
                    When(s.Look?.Served?.NotAfter),
                }
            ),
            Nothing(search, "No service is known. The agent reports what its connectors find.")
        );

    private static Command Services()
    {
        var search = new Argument<string?>("search") { Description = "Part of a name.", Arity = ArgumentArity.ZeroOrOne };
        var state = new Option<string?>("--state")
        {
            Description =
                "Only those in a state: accepted, not-managed, expired, ends-soon, self-signed, plain-only, clear-text, behind … (a wrong one lists all).",
        };
        var host = new Option<string?>("--host") { Description = "Only those of one host." };
        var connector = new Option<string?>("--connector") { Description = "Only those of one kind of server: nginx, postfix …" };
        var before = new Option<string?>("--ends-before")
        {
            Description = "Only those whose certificate expires before: a date, or a span from now, for example 30d.",
        };
        var sort = new Option<string?>("--sort") { Description = "By name (usual), or by when what they serve ends." };
        var most = Mistakes.Most();
        var list = new Command("list", "All services that can serve a certificate.") { search, state, host, connector, before, sort, most };
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var query = Api.Query(
                    ("search", r.GetValue(search)),
                    ("state", r.GetValue(state)),
                    ("host", r.GetValue(host)),
                    ("connector", r.GetValue(connector)),
                    ("endsBefore", Moment.OrNone(r.GetValue(before))?.ToString("O")),
                    ("sort", r.GetValue(sort)),
                    ("take", PageSize)
                );
                var services = await api.AllAsync("/api/v1/services" + query, BeaconJson.Default.PageServiceInfo, r.GetValue(most), ct);
                var narrowed = r.GetValue(search) ?? r.GetValue(state) ?? r.GetValue(host) ?? r.GetValue(connector) ?? r.GetValue(before);
                if (r.GetValue(Program.Json))
                    Json(JsonSerializer.Serialize(services, BeaconJson.Default.ListServiceInfo));
                else
                    ShowServices(services, narrowed);
                return 0;
            }
        );
        var which = new Argument<string>("service") { Description = "HOST/NAME, or NAME where only one host has it." };
        var show = new Command("show", "One service: where it is configured, what it serves, how clients see it.") { which };
        show.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var s = await FindAsync(api, r.GetValue(which)!, ct);
                var json = await api.TextAsync($"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                Rich($"{Bold($"{(s.Host.Split('.')[0])}/{s.Name}")}  {Shape(s.Severity)} {s.State}");
                Pairs(
                    ("names", string.Join(", ", s.Names)),
                    ("endpoints", string.Join(", ", s.Endpoints.Select(WayIn))),
                    (
                        "without TLS",
                        s switch
                        {
                            { RequiresTls: true } => "ended from here (beacon require-tls --undo allows it again)",
                            { ClearText: true } when s.Endpoints.Any(e => e.Tls) => "possible (beacon require-tls ends it)",
                            _ => null,
                        }
                    ),
                    (
                        "lowest version",
                        s.Lowest is { } lowest ? $"{TlsVersions.NameOf(lowest)}, set from here (beacon require-tls --undo)" : null
                    ),
                    ("configured in", string.Join(", ", s.Places)),
                    ("certificate file", s.CertificateFile is null ? null : s.CertificateFile),
                    (
                        "bound to",
                        s.Binding is null
                            ? "nothing"
                            : $"{s.Binding.Certificate}, {s.Binding.State.ToString().ToLowerInvariant()}{(s.Binding.Message is null ? "" : ": " + s.Binding.Message)}"
                    )
                );
                if (s.Problem is { } p)
                    Hanging(Orange("◆") + " ", 2, (p.Message + " " + p.Cure));
                if (s.Look is { } l)
                {
                    Line();
                    TodayCommands.Show(l);
                }
                return 0;
            }
        );
        return new("service", "What can serve a certificate.") { list, show };
    }

    /// <summary>An endpoint with how clients come to TLS there, and whether they can do without.</summary>
    private static string WayIn(EndpointInfo e) =>
        $"{e.Address}:{e.Port} "
        + (
            (e.Tls, e.Protocol) switch
            {
                (false, _) => e.ClearText == false ? "sends on to TLS" : "plain",
                (_, ProbeProtocol.Tls) => "TLS",
                (_, ProbeProtocol.Smtp) => "SMTP with STARTTLS",
                (_, ProbeProtocol.Imap) => "IMAP with STARTTLS",
                (_, ProbeProtocol.Pop3) => "POP3 with STLS",
                (_, ProbeProtocol.Postgresql) => "PostgreSQL with TLS",
                (_, ProbeProtocol.Ftp) => "FTP with AUTH TLS",
                (_, ProbeProtocol.Ldap) => "LDAP with StartTLS",
                (_, ProbeProtocol.Mysql) => "MariaDB with TLS",
                (_, ProbeProtocol.Xmpp) => "XMPP with STARTTLS",
                _ => "TLS in another way",
            }
        )
        + (e.ClearText == true ? $" ({ReadableWords(e)} can be read)" : "");

    /// <summary>What a listener on the wire reads of clients that do without TLS.</summary>
    private static string ReadableWords(EndpointInfo e) =>
        e.Readable is { Count: > 0 } what
            ? string.Join(", ", what.Select(r => r == Readable.Unknown ? "something" : r.ToString().ToLowerInvariant()))
            : "clear text";

    public static async Task<ServiceInfo> FindAsync(Api api, string text, CancellationToken ct)
    {
        var slash = text.IndexOf('/');
        if (slash > 0)
            return await api.GetAsync(
                $"/api/v1/services/{Api.Escape(text[..slash])}/{Api.Escape(text[(slash + 1)..])}",
                BeaconJson.Default.ServiceInfo,
                ct
            );
        // A short name may be a part of very many.
        const int most = 1000;
        var path = "/api/v1/services" + Api.Query(("search", text), ("take", PageSize));
        var found = (await api.AllAsync(path, BeaconJson.Default.PageServiceInfo, most, ct)).Where(s => s.Name == text).ToList();
        return found.Count == 1
            ? found[0]
            : throw new Core.BeaconProblem(
                Core.ProblemCode.NotFound,
                found.Count == 0 ? $"There is no service \"{text}\"." : $"{found.Count} hosts have a service \"{text}\".",
                "Name it HOST/NAME, as beacon service list shows it."
            );
    }
}
