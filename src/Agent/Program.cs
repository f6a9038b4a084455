using System.CommandLine;
using System.Runtime.InteropServices;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Agent.Orders;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent;

/// <summary>beacon-agent: one per server. <c>join</c> once, then <c>run</c> for good.</summary>
internal static class Program
{
    public const string Version = BuildFacts.Version;

    public static async Task<int> Main(string[] args)
    {
        OwnTrust.Only();
        var state = new Option<string>("--state")
        {
            Description = "Folder of everything the agent keeps.",
            DefaultValueFactory = _ => "/var/lib/beacon-agent",
            Recursive = true,
        };
        return await new RootCommand("The agent of Orderly Beacon.") { state, Join(state), AddServer(state), AddTrust(state), Run(state) }
            .Parse(args)
            .InvokeAsync();
    }

    private static Command Join(Option<string> state)
    {
        var service = new Option<string>("--service")
        {
            Description = "Address of the service, as https://beacon.example:7443.",
            Required = true,
        };
        var host = new Option<string>("--host")
        {
            Description = "This host's full name, as it was invited or as the directory has it; the machine's own when left out.",
            DefaultValueFactory = _ => System.Net.Dns.GetHostEntry("").HostName.ToLowerInvariant(),
        };
        var codeFile = new Option<string?>("--code-file") { Description = "File with the join code; - reads it from standard input." };
        var keytab = new Option<string?>("--keytab")
        {
            Description = "Join by the computer's account in the domain instead of a code: its keytab, usually /etc/krb5.keytab.",
        };
        var fingerprint = new Option<string?>("--fingerprint")
        {
            Description =
                "With --keytab: SHA-256 of the service's root (beacon authority show), so that the ticket is shown to nobody else.",
        };
        var servers = new ServerOptions();
        var every = new Option<int>("--report-seconds")
        {
            Description = "How often all services are looked at.",
            DefaultValueFactory = _ => 60,
        };

        var join = new Command("join", "Join the service with a one-time code, or by the computer's account.")
        {
            service,
            host,
            codeFile,
            keytab,
            fingerprint,
            every,
        };
        servers.AddTo(join);
        join.SetAction(
            (r, ct) =>
                GuardAsync(async () =>
                {
                    var folder = Path.GetFullPath(r.GetValue(state)!);
                    Directory.CreateDirectory(folder, AtomicFiles.PrivateFolder);
                    if (!Uri.TryCreate(r.GetValue(service), UriKind.Absolute, out var address) || address.Scheme != "https")
                        throw new BeaconProblem(
                            ProblemCode.InputInvalid,
                            $"\"{r.GetValue(service)}\" is no address of a service.",
                            "Write it as https://HOST:PORT."
                        );
                    await JoinAsync(
                        new(folder),
                        address,
                        r.GetValue(host)!,
                        r.GetValue(codeFile),
                        r.GetValue(keytab),
                        r.GetValue(fingerprint),
                        ct
                    );
                    new AgentSettings(address.ToString(), r.GetValue(host)!, servers.Read(r), r.GetValue(every))
                    {
                        Trust = servers.ReadTrust(r),
                    }.Save(folder);
                    Console.WriteLine($"{r.GetValue(host)} has joined. Start the agent: beacon-agent run --state {folder}");
                })
        );
        return join;
    }

    private static async Task JoinAsync(
        AgentIdentity identity,
        Uri service,
        string host,
        string? codeFile,
        string? keytab,
        string? fingerprint,
        CancellationToken ct
    )
    {
        if (codeFile is null == keytab is null)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                codeFile is null ? "Neither a join code nor a keytab is given." : "Both a join code and a keytab are given.",
                "Give --code-file FILE with the code that beacon host invite shows, or --keytab /etc/krb5.keytab on a computer of the domain."
            );
        if (keytab is not null)
        {
            if (fingerprint is null)
                throw new BeaconProblem(
                    ProblemCode.InputInvalid,
                    "The fingerprint of the service's root is missing.",
                    "Give --fingerprint with the SHA-256 fingerprint of its root: beacon authority show root."
                );
            MachineTicket.UseKeytab(keytab);
            await identity.JoinByTicketAsync(service, host, fingerprint, ct);
            return;
        }
        var code = codeFile is "-" ? await Console.In.ReadToEndAsync(ct) : await File.ReadAllTextAsync(codeFile!, ct);
        await identity.JoinAsync(service, host, code, ct);
    }

    /// <summary>The options by which a person names the servers of the host.</summary>
    private sealed class ServerOptions
    {
        private readonly List<(KnownServer Kind, Option<string[]> Option)> _servers = [.. KnownServers.All.Select(k => (k, k.Option()))];
        private readonly Option<string> _nginxBinary = new("--nginx-binary")
        {
            Description = "nginx's program.",
            DefaultValueFactory = _ => KnownServers.Nginx.Binary(""),
        };
        private readonly Option<string?> _prefix = new("--nginx-prefix")
        {
            Description = "The folder that relative paths in its configuration start from.",
        };

        private readonly Option<string[]> _trust = new("--trust")
        {
            Description = "A trust store to look after: system=/, nss=/FOLDER, java=/FILE or file=/FILE; repeat it for more.",
        };

        public void AddTo(Command command)
        {
            command.Add(_trust);
            command.Add(_nginxBinary);
            command.Add(_prefix);
            foreach (var (_, option) in _servers)
                command.Add(option);
        }

        private bool IsAnyNamed(ParseResult r) => _servers.Exists(s => IsNamed(r, s.Option));

        private static bool IsNamed(ParseResult r, Option<string[]> o) => r.GetResult(o) is { Implicit: false };

        /// <summary>Null: those at the usual places. Who names servers, or a store, means those alone.</summary>
        public List<TrustPlace>? ReadTrust(ParseResult r) =>
            IsNamed(r, _trust) || IsAnyNamed(r) ? [.. (r.GetValue(_trust) ?? []).Select(TrustPlace.Parse)] : null;

        /// <summary>Who names one server means that one, and not what else is on the machine.</summary>
        public List<ConnectorSettings> Read(ParseResult r)
        {
            var anyNamed = IsAnyNamed(r);
            return
            [
                .. _servers
                    .Where(s => !anyNamed || IsNamed(r, s.Option))
                    .SelectMany(s => r.GetValue(s.Option)!.Select(c => Settings(s.Kind, c, r))),
            ];
        }

        private ConnectorSettings Settings(KnownServer kind, string configuration, ParseResult r) =>
            kind == KnownServers.Nginx
                ? new(kind.Name, r.GetValue(_nginxBinary)!, Path.GetFullPath(configuration), r.GetValue(_prefix))
                : kind.Settings(configuration);
    }

    private static Command Run(Option<string> state)
    {
        var run = new Command("run", "Do the agent's work until stopped.");
        run.SetAction(
            (r, ct) =>
                GuardAsync(async () =>
                {
                    var folder = Path.GetFullPath(r.GetValue(state)!);
                    var settings = AgentSettings.Load(folder);
                    if (!new AgentIdentity(folder).Exists)
                        throw new BeaconProblem(
                            ProblemCode.NotFound,
                            "The agent has no certificate of its own.",
                            "Run beacon-agent join first."
                        );
                    using var one = OnlyOne(folder);
                    using var stop = CancellationTokenSource.CreateLinkedTokenSource(ct);
                    using var term = PosixSignalRegistration.Create(
                        PosixSignal.SIGTERM,
                        c =>
                        {
                            c.Cancel = true;
                            stop.Cancel();
                        }
                    );
                    Log($"beacon-agent {Version} on {settings.Host} for {settings.Service}");
                    await new AgentLoop(folder, settings, TimeProvider.System, Log).RunAsync(stop.Token);
                })
        );
        return run;
    }

    private static Command AddServer(Option<string> state)
    {
        var kind = new Argument<string>("kind") { Description = $"One of {string.Join(", ", KnownServers.All.Select(k => k.Name))}." };
        var config = new Argument<string>("configuration") { Description = "Its main configuration file; of Postfix, the folder." };
        var names = new Option<string[]>("--name") { Description = "What clients call it, where its configuration does not say." };
        var binary = new Option<string?>("--binary") { Description = "The server's program, when it is not where it usually is." };
        var log = new Option<string?>("--access-log")
        {
            Description = "Of a provider of sign-ins: the web server's log in which requests for its metadata stand.",
        };
        var at = new Option<string?>("--metadata-at") { Description = "Of a provider: the address at which the agent gets its metadata." };
        var account = new Option<string?>("--account")
        {
            Description = "Of a provider: the account that reads its keys, usually www-data.",
        };
        var add = new Command("add", "Look after one more server on this host. Takes effect when the agent is started again.")
        {
            kind,
            config,
            names,
            binary,
            log,
            at,
            account,
        };
        add.SetAction(
            (r, ct) =>
                GuardAsync(() =>
                {
                    var folder = Path.GetFullPath(r.GetValue(state)!);
                    var known = KnownServers.Of(r.GetValue(kind)!);
                    var added = known.Settings(r.GetValue(config)!) with
                    {
                        Names = r.GetValue(names) is { Length: > 0 } n ? n : null,
                        Binary = r.GetValue(binary) is { } program ? Path.GetFullPath(program) : known.Binary(r.GetValue(config)!),
                        AccessLog = r.GetValue(log) is { } path ? Path.GetFullPath(path) : null,
                        MetadataAt = r.GetValue(at),
                        Account = r.GetValue(account),
                    };
                    var settings = AgentSettings.Load(folder);
                    if (settings.Connectors.Any(c => c.Kind == added.Kind && c.Config == added.Config))
                        throw new BeaconProblem(
                            ProblemCode.AlreadyExists,
                            $"{added.Kind} at {added.Config} is looked after already.",
                            "See beacon service list."
                        );
                    (settings with { Connectors = [.. settings.Connectors, added] }).Save(folder);
                    Console.WriteLine($"{added.Kind} at {added.Config} is added. Start the agent again to look after it.");
                    return Task.CompletedTask;
                })
        );
        return add;
    }

    private static Command AddTrust(Option<string> state)
    {
        var store = new Argument<string>("store") { Description = "system=/, nss=/FOLDER, java=/FILE or file=/FILE." };
        var passphrase = new Option<string?>("--passphrase-file")
        {
            Description = "Of a Java keystore: a file with its passphrase, when it is not Java's usual one.",
        };
        var add = new Command("trust", "Look after one more trust store. Takes effect when the agent is started again.")
        {
            store,
            passphrase,
        };
        add.SetAction(
            (r, ct) =>
                GuardAsync(() =>
                {
                    var folder = Path.GetFullPath(r.GetValue(state)!);
                    var added = TrustPlace.Parse(r.GetValue(store)!) with { PassphraseFile = r.GetValue(passphrase) };
                    if (!File.Exists(added.Path) && !Directory.Exists(added.Path))
                        throw new BeaconProblem(ProblemCode.NotFound, $"There is no {added.Path}.", "Give the path of a trust store.");
                    var settings = AgentSettings.Load(folder);
                    (
                        settings with
                        {
                            Trust = [.. (settings.Trust ?? TrustStores.Usual()).Where(t => t.ToString() != added.ToString()), added],
                        }
                    ).Save(folder);
                    Console.WriteLine($"{added} is added. Start the agent again to look after it.");
                    return Task.CompletedTask;
                })
        );
        return add;
    }

    private static void Log(string text) => Console.WriteLine($"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ss.fffZ} {text}");

    /// <summary>Two agents on one store would undo each other's swaps.</summary>
    private static FileStream OnlyOne(string folder)
    {
        try
        {
            return new FileStream(Path.Combine(folder, "agent.lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException)
        {
            throw new BeaconProblem(ProblemCode.AlreadyExists, $"Another agent runs on {folder} already.", "Stop it first.");
        }
    }

    private static async Task<int> GuardAsync(Func<Task> work)
    {
        try
        {
            await work();
            return 0;
        }
        catch (OperationCanceledException)
        {
            return 0;
        }
        catch (BeaconProblem p)
        {
            await Console.Error.WriteLineAsync($"beacon-agent: {p.Message} {p.Cure}");
            return 2;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            await Console.Error.WriteLineAsync($"beacon-agent: {e.Message} Check the folder and its permissions.");
            return 2;
        }
    }
}
