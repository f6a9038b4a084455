using System.Diagnostics;
using System.Runtime.InteropServices;
using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>A real nginx: found by its configuration, tested by its own -t, reloaded by SIGHUP, which lets running transfers end.</summary>
internal sealed partial class NginxConnector(ConnectorSettings settings) : IConnector
{
    private const int SigHup = 1;
    private const int SigKill = 9;
    private const int SigTerm = 15;
    private static readonly TimeSpan TestPatience = TimeSpan.FromSeconds(30);

    private HashSet<int> _earlierWorkers = [];

    private string Prefix => settings.Prefix ?? Path.GetDirectoryName(settings.Config)!;

    public string Kind => "nginx";

    private NginxConfiguration Load() => NginxConfiguration.Load(settings.Config);

    public Discovery Discover()
    {
        try
        {
            var configuration = Load();
            return new(
                [
                    .. NginxSites
                        .Find(configuration)
                        .Where(s => s.Names.Count > 0)
                        .Select(s => new FoundService(
                            Kind,
                            s.Name,
                            s.Names,
                            s.Endpoints,
                            [.. s.Blocks.Select(b => $"{b.Place.File.Path}:{b.Place.Directive.Line}")],
                            s.CertificateFile,
                            null,
                            []
                        )),
                ],
                null
            );
        }
        catch (BeaconProblem p)
        {
            return new([], p);
        }
    }

    public ServicePlan PlanBinding(string service, string certificate, UsedFiles files, int? port, BoundRecord? earlier) =>
        NginxPlan.Bind(Load(), service, certificate, files, port, earlier);

    public ServicePlan PlanRemoval(BoundRecord bound, UsedFiles files) => NginxPlan.Unbind(Load(), bound, files);

    public void Test(IReadOnlyList<FileEdit> edits, (string Path, string ReadFrom)? instead = null)
    {
        var (text, origins) = Load().Flatten(edits.ToDictionary(e => e.Path, e => e.After));
        if (instead is { } i)
            text = text.Replace(i.Path, i.ReadFrom, StringComparison.Ordinal);
        var staged = Path.Combine(Path.GetDirectoryName(Path.GetFullPath(settings.Config))!, $".beacon-check-{Environment.ProcessId}.conf");
        Store.AtomicFiles.Write(staged, System.Text.Encoding.UTF8.GetBytes(text), isPrivate: true);
        try
        {
            var (code, output) = Run(settings.Binary, "-t", "-q", "-e", "stderr", "-p", Prefix, "-c", staged);
            if (code == 0)
                return;
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
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"nginx does not accept {(instead is null && edits.Count == 0 ? "its configuration as it is now, before any change" : "the changed configuration")}: {complaint}.",
                instead is null && edits.Count == 0
                    ? "Correct it first (nginx -t shows the same); nothing was changed."
                    : "Nothing was changed. Correct what nginx names, then try again."
            );
        }
        finally
        {
            File.Delete(staged);
        }
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "nginx is not running.", "Start it, then try again.");
        _earlierWorkers = [.. Processes().Where(p => IsChildOf(p, pid))];
        if (Kill(pid, SigHup) != 0)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The agent may not signal nginx (process {pid}).",
                "Run the agent as root, or as nginx's own account."
            );
    }

    // A reload starts the new workers first and tells the old ones a tenth of a second later: both accept meanwhile.
    public bool IsSettled() => Pid() is not { } master || !_earlierWorkers.Any(w => IsChildOf(w, master) && !IsShuttingDown(w));

    public void Start()
    {
        var daemon = Load().Top.FirstOrDefault(p => p.Directive.Name == "daemon")?.Directive.Args.FirstOrDefault() != "off";
        EndOrphans();
        var start = new ProcessStartInfo(settings.Binary, ["-p", Prefix, "-c", settings.Config]);
        using var p =
            Process.Start(start) ?? throw new BeaconProblem(ProblemCode.ServerDied, "nginx cannot be started.", "Start it by hand.");
        if (daemon && p.WaitForExit(TestPatience) && p.ExitCode != 0)
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"nginx does not start (it ended with {p.ExitCode}).",
                "Look into its error log and start it by hand."
            );
        for (var i = 0; i < 50 && Pid() is null; i++)
            Thread.Sleep(100);
    }

    /// <summary>Workers whose master was killed live on and hold its ports: a new master could not start beside them.</summary>
    private void EndOrphans()
    {
        if (PidInFile() is not { } master)
            return;
        foreach (var signal in new[] { SigTerm, SigKill })
        {
            var orphans = Processes().Where(pid => IsOrphanOf(pid, master)).ToList();
            if (orphans.Count == 0)
                return;
            foreach (var pid in orphans)
                _ = Kill(pid, signal);
            Thread.Sleep(500);
        }
    }

    private static IEnumerable<int> Processes() =>
        Directory.EnumerateDirectories("/proc").Select(d => int.TryParse(Path.GetFileName(d), out var pid) ? pid : 0).Where(pid => pid > 0);

    private static bool IsChildOf(int pid, int master) => Living(pid) is { } p && p.Parent == master;

    private static bool IsOrphanOf(int pid, int master) =>
        pid != master && Living(pid) is { } p && p.Parent != master && (p.Group == master || p.Session == master);

    /// <summary>What proc(5) says of an nginx process that lives; null when it is another program, or gone.</summary>
    private static (int Parent, int Group, int Session)? Living(int pid)
    {
        try
        {
            // After the name in parentheses come state, parent, process group, session.
            var stat = File.ReadAllText($"/proc/{pid}/stat");
            var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
            var lives = stat.Contains("(nginx)", StringComparison.Ordinal) && fields[0] != "Z";
            return lives ? (int.Parse(fields[1]), int.Parse(fields[2]), int.Parse(fields[3])) : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or FormatException or IndexOutOfRangeException)
        {
            return null;
        }
    }

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

    private int? PidInFile()
    {
        try
        {
            var path = Load().Top.FirstOrDefault(p => p.Directive.Name == "pid")?.Directive.Args.FirstOrDefault() ?? "/run/nginx.pid";
            return int.TryParse(File.ReadAllText(Path.Combine(Prefix, path)).Trim(), out var pid) ? pid : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return null;
        }
    }

    private int? Pid()
    {
        try
        {
            // A pid file that was left behind may name a stranger by now.
            return
                PidInFile() is { } pid
                && File.Exists($"/proc/{pid}/comm")
                && File.ReadAllText($"/proc/{pid}/comm").Trim() == "nginx"
                && !File.ReadAllText($"/proc/{pid}/stat").Contains(") Z ", StringComparison.Ordinal)
                ? pid
                : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return null;
        }
    }

    private static (int Code, string Output) Run(string binary, params string[] args)
    {
        try
        {
            using var p = Process.Start(
                new ProcessStartInfo(binary, args) { RedirectStandardError = true, RedirectStandardOutput = true }
            )!;
            var output = p.StandardError.ReadToEndAsync();
            if (!p.WaitForExit(TestPatience))
            {
                p.Kill();
                throw new BeaconProblem(
                    ProblemCode.ConfigurationBroken,
                    "nginx's own test did not end.",
                    "Run nginx -t by hand; often a name in the configuration cannot be resolved."
                );
            }
            return (p.ExitCode, output.GetAwaiter().GetResult());
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{binary} cannot be run: {e.Message}.",
                "Correct the connector's \"binary\" in agent.json.",
                e
            );
        }
    }

    [GeneratedRegex(@"^(nginx: )?(\[emerg\] )?(\d+#\d+: )?")]
    private static partial Regex Complaint();

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    private static partial int Kill(int pid, int signal);
}
