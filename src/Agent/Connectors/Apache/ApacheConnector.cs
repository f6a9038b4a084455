using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Apache;

/// <summary>
/// A real Apache (httpd 2.4): each ServerName is a service. Its own test sees files that are missing, and no pair that does not belong together, on which a graceful reload ends
/// the whole server: so ours comes first. SIGUSR1 reloads; requests under way end by themselves.
/// </summary>
internal sealed partial class ApacheConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "apache2";
    private const int SigUsr1 = 10;
    private readonly LogTail _log = new();
    private HashSet<int> _earlier = [];

    public InstanceId Id => id;

    public bool HasSites => true;

    // The first process reads them as root and keeps them over a reload.
    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    private ApacheConfiguration Load(IFiles files) => ApacheConfiguration.Load(settings.Config, files);

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        IEnumerable<ApacheDirective> Named(string directive) => c.Hosts.SelectMany(h => c.All(directive, h)).Concat(c.All(directive, null));
        return
        [
            .. Named("sslcacertificatefile").SelectMany(d => AnchorFile.OfClients(c.Filled(d.Value), c.ServerRoot, Id)),
            .. Named("sslproxycacertificatefile")
                .SelectMany(d => AnchorFile.OfServers(c.Filled(d.Value), c.ServerRoot, Id, "of servers behind it")),
        ];
    }

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() => ApacheSite.Of(Load(files)).Where(s => s.Endpoints.Count > 0).Select(Describe));

    private FoundService Describe(ApacheSite site) =>
        new(Id.Kind, site.Name, site.Names, site.Endpoints, [.. site.Hosts.Select(h => h.Opening.Place)], site.CertificateFile, null, []);

    public ChangeSet PlanBinding(BindChange change, IFiles files) => new ApachePlan(Load(files), files, settings.Config).Bind(change);

    public ChangeSet PlanRequireTls(string service, IFiles files) =>
        new ApachePlan(Load(files), files, settings.Config).RequireTls(service);

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files) =>
        new ApachePlan(Load(files), files, settings.Config).Lowest(service, lowest);

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var (text, origins) = Load(files).Flat;
        if (instead is { } i)
            text = i.In(text);
        using var staged = StagedCopy.Beside(settings.Config, text);
        var (code, output, error) = Run("-t", "-f", staged.Path);
        if (code == 0)
            return;
        var said = (output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        var from = Math.Max(0, Array.FindIndex(said, l => Place().IsMatch(l)));
        var complaint = Place()
            .Replace(
                string.Join(' ', said.Skip(from).Take(2)),
                m =>
                    int.Parse(m.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                        ? $"{origins[n - 1].File} line {origins[n - 1].Line}:"
                        : m.Value
            );
        throw TestProblem.Of("Apache", complaint, ReferenceEquals(files, Files), "apache2ctl -t");
    }

    /// <summary>With what its own start script would export.</summary>
    private (int Code, string Output, string Error) Run(params string[] arguments) =>
        ServerProcess.Run([
            "sh",
            "-c",
            "d=$1; shift; [ ! -r \"$d/envvars\" ] || { APACHE_CONFDIR=$d; export APACHE_CONFDIR; . \"$d/envvars\"; }; exec \"$0\" \"$@\"",
            settings.Binary,
            Path.GetDirectoryName(Path.GetFullPath(settings.Config))!,
            .. arguments,
        ]);

    private ApacheConfiguration? Current()
    {
        try
        {
            return Load(Files);
        }
        catch (BeaconProblem)
        {
            return null;
        }
    }

    private string PidFile() => Current() is { } c && c.Find("pidfile", null) is { } d ? c.Full(d.Value) : "/var/run/apache2/apache2.pid";

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "Apache is not running.", "Start it, then try again.");
        _log.Mark(Current() is { } c && c.Find("errorlog", null) is { } log ? c.Full(log.Value) : null);
        _earlier = ServerProcess.ChildrenOf(pid, Program);
        ServerProcess.Signal(pid, SigUsr1, "Apache");
    }

    // A process from before that still serves a client takes no other.
    public bool IsSettled() => !_earlier.Any(ServerProcess.Listens);

    public void Start()
    {
        EndOrphans();
        ServerProcess.ForgetEnded(PidFile());
        var (code, output, error) = Run("-k", "start", "-f", settings.Config);
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Apache does not start: {(output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? LastComplaint(default) ?? $"it ended with {code}"}.",
                "Look into its error log and start it by hand."
            );
    }

    /// <summary>What a first process that died has left behind goes on serving, holds the ports and takes no other signal: it is of the session that the first process began.</summary>
    private void EndOrphans()
    {
        if (ServerProcess.InFile(PidFile()) is not { } first || ServerProcess.Living(first) is not null)
            return;
        List<int> Orphans() => [.. ServerProcess.All().Where(p => ServerProcess.Living(p) is { Program: Program } f && f.Session == first)];
        foreach (var orphan in Orphans())
            ServerProcess.TrySignal(orphan, ServerProcess.SigKill);
        ServerProcess.WaitUntil(() => Orphans().Count == 0);
    }

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines()
            .Where(l => l.Contains(":emerg]", StringComparison.Ordinal) && l.Contains("AH", StringComparison.Ordinal))
            .Select(l => l[l.LastIndexOf("AH", StringComparison.Ordinal)..])
            .LastOrDefault();

    [GeneratedRegex(@"(?:AH\d+: )?Syntax error on line (\d+) of \S+:")]
    private static partial Regex Place();
}
