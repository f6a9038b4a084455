using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Vsftpd;

/// <summary>
/// A real vsftpd that runs by itself. It reads its certificate at its start alone: taking one up is a restart, which ends the transfers under way, and that is said before.
/// </summary>
internal sealed class VsftpdConnector(InstanceId id, ConnectorSettings settings) : IConnector
{
    private const string Program = "vsftpd",
        Certificate = "rsa_cert_file",
        Key = "rsa_private_key_file",
        Engine = "ssl_enable",
        Ciphers = "ssl_ciphers";
    private const int UsualPort = 21;
    private static readonly TimeSpan StopsWithin = TimeSpan.FromSeconds(10);

    public InstanceId Id => id;

    public bool HasSites => false;

    // The first process reads them as root.
    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    public string CutsOff =>
        "vsftpd takes a certificate up by a restart alone: transfers under way end, and their clients have to come again.";

    public string? UnbindingWarning(ChangeSet removal) => CutsOff;

    private VsftpdConfiguration Load(IFiles files) => VsftpdConfiguration.Load(settings.Config, files);

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private static bool HasTls(VsftpdConfiguration c) => c.IsOn(Engine) && c.Value(Certificate) is not null;

    private FoundService Describe(VsftpdConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names,
            Endpoints(c),
            [c.Find(Certificate) is { } line ? c.PlaceOf(line) : c.Main],
            HasTls(c) ? ByteText.Show(c.Value(Certificate)!) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    private static IReadOnlyList<EndpointInfo> Endpoints(VsftpdConfiguration c)
    {
        var address = c.IsOn("listen") ? c.Value("listen_address") ?? "127.0.0.1" : null;
        if (c.IsOn("listen_ipv6"))
            address = c.Value("listen_address6") ?? "::1";
        if (address is null)
            return [];
        var port = int.TryParse(c.Value("listen_port"), out var set) ? set : UsualPort;
        var (tls, isImplicit) = (HasTls(c), c.IsOn("implicit_ssl"));
        return
        [
            new EndpointInfo(Listening.Reachable(address), port, tls)
            {
                Protocol = isImplicit && tls ? ProbeProtocol.Tls : ProbeProtocol.Ftp,
            }.ReadsIf(!tls || !isImplicit && !IsRequired(c), Exposed.FilesAndLogins),
        ];
    }

    // Whether somebody without a name may come in counts too, and is so unless it is switched off.
    private static bool IsRequired(VsftpdConfiguration c) =>
        c.IsOn("force_local_logins_ssl", true)
        && c.IsOn("force_local_data_ssl", true)
        && (!c.IsOn("anonymous_enable", true) || c.IsOn("force_anon_logins_ssl") && c.IsOn("force_anon_data_ssl"));

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var plan = new Plan(c);
        plan.Set(Certificate, ByteText.From(change.Files.Certificates), "points to the store");
        plan.Set(Key, ByteText.From(change.Files.Key), "points to the store");
        if (!c.IsOn(Engine))
            plan.Set(Engine, "YES", "is switched on");
        // What it offers when nothing is said wants an RSA key.
        if (change.Key == KeyAlgorithm.Ec && c.Value(Ciphers) is null)
            plan.Set(Ciphers, "HIGH", "lets this kind of key be used");
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(plan.Edits(files), files.Read));
        var after = Endpoints(Load(would));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        var steps = plan.Steps.Count > 0 ? plan.Steps : ["The configuration names the certificate already; nothing in it changes."];
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            steps,
            after.Any(e => e.ClearText == true) ? ["Clients may go on without TLS."] : []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var plan = new Plan(c);
        string[] wanted = ["force_local_logins_ssl", "force_local_data_ssl"];
        string[] unnamed = ["allow_anon_ssl", "force_anon_logins_ssl", "force_anon_data_ssl"];
        foreach (var name in wanted.Where(n => !c.IsOn(n, true)))
            plan.Set(name, "YES", "is switched on");
        if (c.IsOn("anonymous_enable", true))
            foreach (var name in unnamed.Where(n => !c.IsOn(n)))
                plan.Set(name, "YES", "is switched on");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(plan.Edits(files), files.Read),
            plan.Steps,
            "Clients that have no TLS switched on cannot log in any more.",
            CutsOff
        );
    }

    /// <summary>Settings that become something else: in their own line, else in a new one at the end.</summary>
    private sealed class Plan(VsftpdConfiguration c)
    {
        private readonly List<TextEdit> _edits = [];
        private readonly List<string> _added = [];

        public List<string> Steps { get; } = [];

        public void Set(string name, string value, string how)
        {
            if (c.Find(name) is not { } there)
            {
                _added.Add($"{name}={value}");
                Steps.Add($"{name} is added to {c.Main}: it {how}.");
            }
            else if (there.Value != value)
            {
                _edits.Add(new(c.Main, there.ValueStart, there.ValueEnd, value));
                Steps.Add($"{name} ({c.PlaceOf(there)}) {how}.");
            }
        }

        public IEnumerable<TextEdit> Edits(IFiles files) =>
            _added.Count == 0 ? _edits : [.. _edits, TextEdits.Append(files, c.Main, _added)];
    }

    private void ThrowIfUnclear(VsftpdConfiguration c)
    {
        if (!c.IsOn("listen") && !c.IsOn("listen_ipv6"))
            throw Unclear(
                "It is started by another program for each connection (neither listen nor listen_ipv6).",
                "Let it run by itself (listen=YES), then bind again."
            );
        if (c.Find("dsa_cert_file") is { } dsa)
            throw Unclear(
                $"It has a certificate for another kind of key ({c.PlaceOf(dsa)}): clients could go on meeting it.",
                "Take it out, then bind again."
            );
    }

    private static BeaconProblem Unclear(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);

    /// <summary>It has no test of its own; told to listen nowhere it reads its configuration, and ends.</summary>
    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = Load(files);
        var text = instead is { } i ? i.In(c.Text) : c.Text;
        using var staged = StagedCopy.Beside(settings.Config, text);
        var said = Complaint(staged.Path, "-olisten=NO", "-olisten_ipv6=NO");
        if (said is null || said.Contains("not configured for standalone", StringComparison.Ordinal))
            return;
        var where = c.LineOf(said) is { } line ? $" ({c.Main}:{line})" : "";
        throw TestProblem.Of("vsftpd", said + where, ReferenceEquals(files, Files), $"vsftpd {settings.Config}");
    }

    /// <summary>Runs it until it ends or has gone to the background, and gives what it complains of.</summary>
    private string? Complaint(string config, params string[] options)
    {
        // It complains to the client that it takes its standard input for.
        var (code, output, error) = ServerProcess.Run(["sh", "-c", "exec \"$0\" \"$@\" 0>&1", settings.Binary, config, .. options]);
        if (code == 0)
            return null;
        var line = (output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault();
        return line is null
            ? $"it ended with {code}"
            : line.Replace("500 OOPS: ", "", StringComparison.Ordinal).Replace("vsftpd: ", "", StringComparison.Ordinal);
    }

    /// <summary>
    /// The process that listens: it writes no pid file. Those of its sessions are its children. Any account can call a process so; one that is neither root's nor the agent's is
    /// not asked.
    /// </summary>
    public int? Pid() =>
        ServerProcess
            .All()
            .Where(p => ServerProcess.Living(p) is { Program: Program } f && ServerProcess.Living(f.Parent)?.Program != Program)
            .Cast<int?>()
            .FirstOrDefault(p => IsTrusted(p!.Value) && ConfigOf(p.Value) == Path.GetFullPath(settings.Config));

    private static bool IsTrusted(int pid) =>
        SafeFolder.OwnerOf($"/proc/{pid}") is { } owner && (owner.User == 0 || owner.User == SafeFolder.OwnerOf("/proc/self")?.User);

    private static string? ConfigOf(int pid)
    {
        const string usual = "/etc/vsftpd.conf";
        try
        {
            var words = File.ReadAllText($"/proc/{pid}/cmdline").Split('\0', StringSplitOptions.RemoveEmptyEntries);
            return words.Skip(1).FirstOrDefault(w => !w.StartsWith('-')) ?? usual;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "vsftpd is not running.", "Start it, then try again.");
        ServiceUnit.Restart(pid, Program, StopsWithin, Start);
        ServerProcess.WaitUntilItListens(Pid);
    }

    public bool IsSettled() => true;

    public void Start()
    {
        var said = Complaint(Path.GetFullPath(settings.Config), "-obackground=YES");
        ServerProcess.WaitUntil(() => IsRunning() || said is not null);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"vsftpd does not start: {said ?? "it says nothing"}.",
                "Look into its log and start it by hand."
            );
        ServerProcess.WaitUntilItListens(Pid);
    }

    // What it has to say it says at its start.
    public string? LastComplaint(DateTimeOffset since) => null;
}
