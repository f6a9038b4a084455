using System.Diagnostics;
using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>A real nginx: found by its configuration, tested by its own -t, reloaded by SIGHUP, which lets running transfers end.</summary>
internal sealed partial class NginxConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "nginx";
    private static readonly TimeSpan StartPatience = TimeSpan.FromSeconds(30);

    private HashSet<int> _earlierWorkers = [];

    private string Prefix => settings.Prefix ?? Path.GetDirectoryName(settings.Config)!;

    public InstanceId Id => id;

    public bool HasSites => true;

    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    private NginxConfiguration Load(IFiles? files = null) => NginxConfiguration.Load(settings.Config, files ?? Files);

    public Discovery Discover(IFiles files)
    {
        try
        {
            return new([.. NginxSites.Find(Load(files)).Where(s => s.Names.Count > 0).Select(Describe)], null);
        }
        catch (BeaconProblem p)
        {
            return new([], p);
        }
    }

    private FoundService Describe(Site s) =>
        new(
            Id.Kind,
            s.Name,
            s.Names,
            s.Endpoints,
            [.. s.Blocks.Select(b => $"{b.Place.File.Path}:{b.Place.Directive.Line}")],
            s.CertificateFile is { } file ? ByteText.Show(file) : null,
            null,
            []
        );

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        var folder = Path.GetDirectoryName(settings.Config)!;
        IEnumerable<string> Named(string directive) =>
            c.Everywhere(directive)
                .Where(d => d.Args.Count == 1 && !d.Args[0].Contains('$', StringComparison.Ordinal))
                .Select(d => d.Args[0]);
        return
        [
            .. Named("proxy_ssl_trusted_certificate").SelectMany(f => AnchorFile.OfServers(f, folder, Id, "of servers behind it")),
            .. Named("ssl_client_certificate").SelectMany(f => AnchorFile.OfClients(f, folder, Id)),
        ];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files) => NginxPlan.Bind(Load(files), change);

    public ChangeSet PlanRequireTls(string service, IFiles files) => NginxPlan.RequireTls(Load(files), service);

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files) => NginxPlan.Lowest(Load(files), service, lowest);

    public ChangeSet? PlanEarlierRemoval(EarlierBound bound, string service, UsedFiles used, IFiles files) =>
        NginxPlan.Unbind(Load(files), bound, service, used);

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var (text, origins) = Load(files).Flatten();
        if (instead is { } i)
            text = i.In(text);
        var staged = Path.Combine(Path.GetDirectoryName(Path.GetFullPath(settings.Config))!, $".beacon-check-{Environment.ProcessId}.conf");
        AtomicFiles.Write(staged, ByteText.Bytes(text), isPrivate: true);
        try
        {
            var (code, _, output) = ServerProcess.Run(settings.Binary, "-t", "-q", "-e", "stderr", "-p", Prefix, "-c", staged);
            if (code != 0)
                throw NotAccepted(code, output, staged, origins, isNow: ReferenceEquals(files, Files));
        }
        finally
        {
            File.Delete(staged);
        }
    }

    private static BeaconProblem NotAccepted(
        int code,
        string output,
        string staged,
        IReadOnlyList<(string File, int Line)> origins,
        bool isNow
    )
    {
        var lines = output.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        var complaint =
            lines.FirstOrDefault(l => l.Contains("[emerg]", StringComparison.Ordinal))
            ?? lines.FirstOrDefault()
            ?? $"nginx -t ended with {code}";
        complaint = Complaint().Replace(complaint, "");
        complaint = Regex.Replace(
            complaint,
            Regex.Escape(staged) + @":(\d+)",
            m =>
                int.Parse(m.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                    ? $"{origins[n - 1].File}:{origins[n - 1].Line}"
                    : m.Value
        );
        return TestProblem.Of("nginx", complaint, isNow, "nginx -t");
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "nginx is not running.", "Start it, then try again.");
        // What it was told before a kill it may be doing still: the workers of that are earlier ones too.
        ServerProcess.WaitUntil(() => !ServerProcess.IsAtWork(pid, ServerProcess.SigHup));
        _earlierWorkers = ServerProcess.ChildrenOf(pid, Program);
        ServerProcess.Signal(pid, ServerProcess.SigHup, "nginx");
    }

    // A reload starts the new workers first and tells the old ones a tenth of a second later: both accept meanwhile.
    public bool IsSettled() =>
        Pid() is not { } master
        || !ServerProcess.IsAtWork(master, ServerProcess.SigHup) && !_earlierWorkers.Any(w => IsChildOf(w, master) && !IsShuttingDown(w));

    public void Start()
    {
        var daemon = Load().Top.FirstOrDefault(p => p.Directive.Name == "daemon")?.Directive.Args.FirstOrDefault() != "off";
        EndOrphans();
        var start = new ProcessStartInfo(settings.Binary, ["-p", Prefix, "-c", settings.Config]);
        using var p =
            Process.Start(start) ?? throw new BeaconProblem(ProblemCode.ServerDied, "nginx cannot be started.", "Start it by hand.");
        if (daemon && p.WaitForExit(StartPatience) && p.ExitCode != 0)
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"nginx does not start (it ended with {p.ExitCode}).",
                "Look into its error log and start it by hand."
            );
        ServerProcess.WaitUntil(IsRunning);
    }

    /// <summary>Workers whose master was killed live on and hold its ports: a new master could not start beside them.</summary>
    private void EndOrphans()
    {
        if (ServerProcess.InFile(PidFile()) is not { } master)
            return;
        foreach (var signal in new[] { ServerProcess.SigTerm, ServerProcess.SigKill })
        {
            var orphans = ServerProcess.All().Where(pid => IsOrphanOf(pid, master)).ToList();
            if (orphans.Count == 0)
                return;
            foreach (var pid in orphans)
                ServerProcess.TrySignal(pid, signal);
            Thread.Sleep(500);
        }
    }

    private static bool IsChildOf(int pid, int master) => ServerProcess.Living(pid) is { Program: Program } p && p.Parent == master;

    private static bool IsOrphanOf(int pid, int master) =>
        pid != master
        && ServerProcess.Living(pid) is { Program: Program } p
        && p.Parent != master
        && (p.Group == master || p.Session == master);

    private static bool IsShuttingDown(int worker)
    {
        try
        {
            return File.ReadAllText($"/proc/{worker}/cmdline").Contains("is shutting down", StringComparison.Ordinal);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return true;
        }
    }

    public string? LastComplaint(DateTimeOffset since)
    {
        try
        {
            var path = Load()
                .Top.Where(p => p.Directive.Name == "error_log")
                .Select(p => p.Directive.Args.FirstOrDefault())
                .FirstOrDefault(a => a is not null && a != "stderr");
            if (path is null)
                return null;
            path = Path.Combine(Prefix, path);
            using var f = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
            f.Seek(-Math.Min(f.Length, 32 * 1024), SeekOrigin.End);
            using var reader = new StreamReader(f);
            // nginx writes local time without a zone.
            return reader
                .ReadToEnd()
                .Split('\n')
                .Reverse()
                .Where(l => l.Contains("[emerg]", StringComparison.Ordinal))
                .Where(l =>
                    l.Length > 19
                    && DateTime.TryParseExact(
                        l[..19],
                        "yyyy/MM/dd HH:mm:ss",
                        null,
                        System.Globalization.DateTimeStyles.AssumeLocal,
                        out var at
                    )
                    && at >= since.LocalDateTime.AddSeconds(-1)
                )
                .Select(l => Complaint().Replace(l[19..].Trim(), ""))
                .FirstOrDefault();
        }
        catch (Exception e) when (e is IOException or BeaconProblem)
        {
            return null;
        }
    }

    private string PidFile()
    {
        try
        {
            var path = Load().Top.FirstOrDefault(p => p.Directive.Name == "pid")?.Directive.Args.FirstOrDefault() ?? "/run/nginx.pid";
            return Path.Combine(Prefix, path);
        }
        catch (BeaconProblem)
        {
            return "/run/nginx.pid";
        }
    }

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    [GeneratedRegex(@"^(nginx: )?(\[emerg\] )?(\d+#\d+: )?")]
    private static partial Regex Complaint();
}
