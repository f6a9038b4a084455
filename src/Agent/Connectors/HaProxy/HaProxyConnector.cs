using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.HaProxy;

/// <summary>
/// A real HAProxy with its master: each frontend is a service. It wants one file with the key behind the certificates, its own test really loads them, and SIGUSR2 to the
/// master starts a new worker beside the old, which ends with its last client.
/// </summary>
internal sealed class HaProxyConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "haproxy",
        DefaultPidFile = "/run/haproxy.pid";
    private const int UsualTlsPort = 443,
        SigUsr2 = 12;
    private HashSet<int> _earlierWorkers = [];
    private int? _told;

    public InstanceId Id => id;

    public bool HasSites => false;

    // The master reads them before it gives up root.
    public Needs Needs { get; } = new(StoreForm.KeyLastBundle);

    public IFiles Files { get; } = new HostFiles();

    private HaProxyConfiguration Load(IFiles files) => HaProxyConfiguration.Load(settings.Config, files);

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        var folder = c.Global("ca-base") ?? Path.GetDirectoryName(settings.Config)!;
        return
        [
            .. c
                .Frontends.SelectMany(f => f.Binds)
                .SelectMany(b => b.Line.Words.Zip(b.Line.Words.Skip(1)))
                .Where(p => p.First.Value == "ca-file")
                .SelectMany(p => AnchorFile.OfClients(p.Second.Value, folder, Id)),
        ];
    }

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() =>
        {
            var c = Load(files);
            return ToConnectTo(c).Select(f => Describe(c, f));
        });

    private string NameOf(HaProxyFrontend f) => $"{Id.Name} {f.Name}";

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    private FoundService Describe(HaProxyConfiguration c, HaProxyFrontend f)
    {
        var tls = f.Binds.FirstOrDefault(b => b.IsTls);
        return new(
            Id.Kind,
            NameOf(f),
            Names,
            Endpoints(f),
            [(tls ?? f.Binds[0]).Line.Place],
            tls?.Certificates is [var first, ..] ? c.Full(first.Value) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    /// <summary>Those that clients reach over the network, one of a name.</summary>
    private static IEnumerable<HaProxyFrontend> ToConnectTo(HaProxyConfiguration c) =>
        c.Frontends.Where(f => Endpoints(f).Count > 0).DistinctBy(f => f.Name);

    private static IReadOnlyList<EndpointInfo> Endpoints(HaProxyFrontend f) =>
        [
            .. f
                .Binds.SelectMany(b =>
                    b.Addresses.Select(a => new EndpointInfo(a.Address, a.Port, b.IsTls).ReadsIf(!b.IsTls && !f.SendsToTls, Exposed.Pages))
                )
                .OrderByDescending(e => e.Tls),
        ];

    private HaProxyFrontend Frontend(HaProxyConfiguration c, string service) =>
        ToConnectTo(c).FirstOrDefault(f => NameOf(f) == service)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No frontend of HAProxy is called {service[(Id.Name.Length + 1)..]}.",
            "See beacon service list; it may have been removed."
        );

    /// <summary>A frontend that understands HTTP sends its clients on.</summary>
    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        var frontend = Frontend(c, service);
        if (!frontend.IsHttp)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"The frontend {frontend.Name} passes bytes on as they are (mode tcp): it cannot send clients to TLS.",
                "Take its bind line without ssl out by hand, when nobody needs it."
            );
        var ports = frontend.Binds.Where(b => b.IsTls).SelectMany(b => b.Addresses).Select(a => a.Port).ToList();
        var port = ports.Contains(UsualTlsPort) ? UsualTlsPort : ports[0];
        var to = port == UsualTlsPort ? "scheme https" : $"location https://%[req.hdr(host),field(1,:)]:{port}%[capture.req.uri]";
        var last = frontend.Binds[^1].Line;
        var indent = c.Text[last.Start..last.Words[0].Start];
        var line = $"{ByteText.NewLineOf(c.Text)}{indent}http-request redirect {to} code 301 unless {{ ssl_fc }}";
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([new(c.Main, last.End, last.End, line)], files.Read),
            [$"The frontend {frontend.Name} ({last.Place}) sends clients without TLS on to https, port {port}."],
            "Programs that use it without TLS and do not follow a redirect lose it."
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "ssl-min-ver";
        var c = Load(files);
        var frontend = Frontend(c, service);
        var (edits, steps) = (new List<TextEdit>(), new List<string>());
        foreach (var bind in frontend.Binds.Where(b => b.IsTls))
        {
            var words = bind.Line.Words;
            var at = words.ToList().FindIndex(w => w.Value == Setting);
            edits.Add(
                at >= 0 && at + 1 < words.Count
                    ? new(c.Main, words[at + 1].Start, words[at + 1].End, VersionWords.Of(lowest))
                    : new(c.Main, bind.Line.End, bind.Line.End, $" {Setting} {VersionWords.Of(lowest)}")
            );
            steps.Add($"The bind line ({bind.Line.Place}) gets {Setting} {VersionWords.Of(lowest)}.");
        }
        return ChangeSet.RequiringTls(service, TextEdits.Apply(edits, files.Read), steps);
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        var frontend = Frontend(c, change.Service);
        var written = ConfigurationWords.Quoted(change.Files.Certificates);
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        var newPorts = new List<(string, int)>();
        foreach (var bind in frontend.Binds.Where(b => b.IsTls))
        {
            var named = CertificateOf(bind);
            if (named.Value == ByteText.From(change.Files.Certificates))
                continue;
            edits.Add(new(c.Main, named.Start, named.End, written));
            steps.Add($"The bind line ({bind.Line.Place}) points to the store.");
        }
        if (!frontend.Binds.Any(b => b.IsTls))
        {
            var beside = frontend.Binds.First(b => b.Addresses.Count > 0);
            var (address, port) = (beside.Addresses[0].Address, change.Port ?? UsualTlsPort);
            var indent = c.Text[beside.Line.Start..beside.Line.Words[0].Start];
            var host = address.Contains(':') ? $"[{address}]" : address;
            var line = $"{ByteText.NewLineOf(c.Text)}{indent}bind {WildcardOr(beside, host)}:{port} ssl crt {written}";
            edits.Add(new(c.Main, beside.Line.End, beside.Line.End, line));
            steps.Add($"A TLS listener at port {port} is added to the frontend {frontend.Name}.");
            newPorts.Add((address, port));
        }
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Endpoints(ToConnectTo(Load(would)).First(f => f.Name == frontend.Name));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, asked))],
            newPorts,
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            [.. after.Where(e => e.ClearText == true).Select(e => $"Clients may go on without TLS at {e.Address}:{e.Port}.")]
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    // Where the plain listener takes every address, the new one does.
    private static string WildcardOr(HaProxyBind bind, string host)
    {
        var first = bind.Line.Words[1].Value.Split(',').First(t => t.Contains(':'));
        var written = first[..first.LastIndexOf(':')];
        return written is "" or "*" or "0.0.0.0" or "::" or "[::]" ? written : host;
    }

    private static Word CertificateOf(HaProxyBind bind)
    {
        if (
            bind is { HasList: false, Certificates: [var only] }
            && !only.Value.Contains('$')
            && !Directory.Exists(ByteText.Show(only.Value))
        )
            return only;
        throw new BeaconProblem(
            ProblemCode.ConfigurationUnsupported,
            $"The bind line in {bind.Line.Place} takes its certificates from a folder, a list, a variable or several files: which of them is meant is not clear.",
            "Give the line one crt with the path of a file; then bind again."
        );
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var text = files.Read(settings.Config);
        if (instead is { } i)
            text = i.In(text);
        using var staged = StagedCopy.Beside(settings.Config, text);
        var (code, _, error) = ServerProcess.Run(settings.Binary, "-c", "-f", staged.Path);
        if (code == 0)
            return;
        var complaint =
            error.Split('\n').FirstOrDefault(l => l.Contains("[ALERT]", StringComparison.Ordinal))?.Split(" : ", 2)[^1]
            ?? $"it ended with {code}";
        throw TestProblem.Of(
            "HAProxy",
            complaint.Replace(staged.Path, Path.GetFullPath(settings.Config), StringComparison.Ordinal),
            ReferenceEquals(files, Files),
            $"haproxy -c -f {settings.Config}"
        );
    }

    private string PidFile()
    {
        try
        {
            return Load(Files).Global("pidfile") ?? DefaultPidFile;
        }
        catch (BeaconProblem)
        {
            return DefaultPidFile;
        }
    }

    // A master that takes up becomes its own successor, as the same process; while it writes its pid file anew, that is empty.
    private int? Pid() =>
        ServerProcess.Find(PidFile(), Program) ?? (_told is { } pid && ServerProcess.Living(pid) is { Program: Program } ? pid : null);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "HAProxy is not running.", "Start it, then try again.");
        // What it was told before a kill it may be doing still: the workers of that are earlier ones too.
        ServerProcess.WaitUntil(() => !ServerProcess.IsAtWork(pid, SigUsr2));
        _earlierWorkers = ServerProcess.ChildrenOf(pid, Program);
        if (_earlierWorkers.Count == 0)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                "HAProxy runs without a master process: it takes a certificate up by a restart alone, which cuts its clients off.",
                "Start it with -W (or -Ws), then try again."
            );
        _told = pid;
        ServerProcess.Signal(pid, SigUsr2, "HAProxy");
    }

    // The new worker takes the listeners over before the old one leaves them: for that moment either may take a client.
    public bool IsSettled() =>
        Pid() is not { } master
        || !ServerProcess.IsAtWork(master, SigUsr2)
            && ServerProcess.ChildrenOf(master, Program).Except(_earlierWorkers).Any()
            && !_earlierWorkers.Any(ServerProcess.Listens);

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        var (code, _, error) = ServerProcess.Run(settings.Binary, "-W", "-D", "-f", settings.Config, "-p", PidFile());
        if (code == 0)
            ServerProcess.WaitUntil(IsRunning);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"HAProxy does not start: {error.Split('\n', StringSplitOptions.RemoveEmptyEntries).FirstOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
    }

    // It tells its terminal and its system's log; what it would say, its own test has said before.
    public string? LastComplaint(DateTimeOffset since) => null;
}
