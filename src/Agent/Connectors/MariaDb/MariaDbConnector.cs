using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.MariaDb;

/// <summary>
/// A real MariaDB: it reads its files as its own account and takes a renewal up by FLUSH SSL over its socket; other paths, and TLS where there was none, take a restart, which
/// the preview says.
/// </summary>
internal sealed partial class MariaDbConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "mariadbd",
        Certificate = "ssl_cert",
        Key = "ssl_key",
        Off = "skip_ssl",
        Tls = "ssl",
        Required = "require_secure_transport",
        Versions = "tls_version";
    private static readonly TimeSpan StopsWithin = TimeSpan.FromSeconds(60);

    private readonly LogTail _log = new();
    private string? _complaint;

    public InstanceId Id => id;

    public bool HasSites => false;

    /// <summary>Whose configuration it is; where that is the agent's own account, whose data it is.</summary>
    private ServerAccount? Account => ServerAccount.OwnerOf(settings.Config) ?? ServerAccount.OwnerOf(DataFolder());

    public Needs Needs => new(StoreForm.Pair, Account);

    public IFiles Files => new HostFiles(Account);

    private string DataFolder()
    {
        try
        {
            return MariaDbConfiguration.Load(settings.Config, new HostFiles()).DataFolder;
        }
        catch (BeaconProblem)
        {
            return Path.GetDirectoryName(settings.Config)!;
        }
    }

    private MariaDbConfiguration Load(IFiles files) => MariaDbConfiguration.Load(settings.Config, files);

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        return [.. AnchorFile.OfClients(c.Value("ssl_ca"), c.DataFolder, Id)];
    }

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private FoundService Describe(MariaDbConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names,
            Endpoints(c),
            [c.Find(Certificate)?.Place ?? c.Main],
            HasTls(c) ? ByteText.Show(Path.GetFullPath(c.Value(Certificate)!, c.DataFolder)) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    private static bool IsOff(MariaDbConfiguration c) => c.IsOn(Off) || c.Find(Tls) is not null && !c.IsOn(Tls);

    private static bool HasTls(MariaDbConfiguration c) =>
        c.Value(Certificate) is { Length: > 0 } && c.Value(Key) is { Length: > 0 } && !IsOff(c);

    private static IReadOnlyList<EndpointInfo> Endpoints(MariaDbConfiguration c)
    {
        if (c.IsOn("skip_networking"))
            return [];
        var port = int.TryParse(c.Value("port"), out var set) ? set : 3306;
        return
        [
            .. (c.Value("bind_address") ?? "*")
                .Split([',', ' '], StringSplitOptions.RemoveEmptyEntries)
                .Select(Listening.Reachable)
                .Distinct()
                .Select(a =>
                    new EndpointInfo(a, port, HasTls(c)) { Protocol = ProbeProtocol.Mysql }.ReadsIf(
                        !HasTls(c) || !c.IsOn(Required),
                        Exposed.Queries
                    )
                ),
        ];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        if (IsOff(c))
        {
            var off = (c.IsOn(Off) ? c.Find(Off) : c.Find(Tls))!;
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"TLS is switched off in {off.Place} ({off.Name}).",
                "Take the line out, then bind again."
            );
        }
        var edits = new List<TextEdit>();
        var added = new List<string>();
        var steps = new List<string>();
        Set(Certificate, change.Files.Certificates);
        Set(Key, change.Files.Key);
        if (added.Count > 0)
            edits.Add(Added(c, files, added));
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Load(would);
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. Endpoints(after).Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            [.. Warnings(after, edits.Count > 0)]
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

        void Set(string setting, string path)
        {
            if (c.Find(setting) is not { } there)
            {
                added.Add($"{setting} = {ByteText.From(path)}");
                steps.Add($"{setting} is added to {c.GroupEnd?.Path ?? c.Main}.");
            }
            else if (there.Value != ByteText.From(path))
            {
                edits.Add(new(there.Path, there.ValueStart, there.ValueEnd, (there.Value is null ? " = " : "") + ByteText.From(path)));
                steps.Add($"{setting} ({there.Place}) points to the store.");
            }
        }
    }

    /// <summary>Lines at the end of its group.</summary>
    private static TextEdit Added(MariaDbConfiguration c, IFiles files, IEnumerable<string> lines)
    {
        var (path, at) = c.GroupEnd ?? (c.Main, files.Read(c.Main).Length);
        var text = files.Read(path);
        var newLine = ByteText.NewLineOf(text);
        var lead = at == 0 || text[at - 1] == '\n' ? "" : newLine;
        var group = c.GroupEnd is null ? "[mariadbd]" + newLine : "";
        return new(path, at, at, lead + group + string.Concat(lines.Select(l => l + newLine)));
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        var there = c.Find(Required);
        var edit = there is null
            ? Added(c, files, [$"{Required} = ON"])
            : new(there.Path, there.ValueStart, there.ValueEnd, there.Value is null ? " = ON" : "ON");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"{Required} = ON ({there?.Place ?? c.GroupEnd?.Path ?? c.Main}), without a restart."],
            "Clients that ask for no TLS are refused; the socket counts as safe. Sessions that are open go on as they are."
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        var c = Load(files);
        var (there, value) = (c.Find(Versions), VersionWords.From(lowest, ","));
        var edit = there is null
            ? Added(c, files, [$"{Versions} = {value}"])
            : new(there.Path, there.ValueStart, there.ValueEnd, (there.Value is null ? " = " : "") + value);
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"{Versions} = {value} ({edit.Path})."],
            "MariaDB takes other versions up by a restart alone: it is away for a moment, and its sessions are cut off."
        );
    }

    // It turns clients without TLS away after their password was correct.
    public string? StillInTheClear() =>
        Ask(Load(Files), $"select @@{Required}") is (0, "1\n", _) ? null : $"queries go (its {Required} is off)";

    public string? UnbindingWarning(ChangeSet removal) => Restarts;

    private const string Restarts =
        "MariaDB takes other paths up by a restart alone: it is away for a moment, and its sessions are cut off. Renewals need none.";

    private static IEnumerable<string> Warnings(MariaDbConfiguration after, bool restarts)
    {
        if (restarts)
            yield return Restarts;
        if (!after.IsOn(Required))
            yield return "Clients may go on without TLS; require_secure_transport = ON ends that when they are ready.";
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = Load(files);
        var (text, origins) = c.Flat;
        if (instead is { } i)
            text = i.In(text);
        var account = Account;
        using var staged = StagedCopy.For(account, "my.cnf", text);
        var (code, _, error) = Run(account, settings.Binary, $"--defaults-file={staged.Path}", "--verbose", "--help");
        if (code == 0)
            return;
        var complaint =
            error
                .Split('\n')
                .FirstOrDefault(l => l.Contains("[ERROR]", StringComparison.Ordinal) || l.Contains("error:", StringComparison.Ordinal))
            ?? error.Split('\n')[0];
        throw TestProblem.Of(
            "MariaDB",
            WhereOf(c, complaint, staged.Path, origins),
            files is HostFiles,
            $"mariadbd --defaults-file={settings.Config} --verbose --help"
        );
    }

    /// <summary>It names what it does not know, and not where that stands.</summary>
    private static string WhereOf(MariaDbConfiguration c, string complaint, string staged, IReadOnlyList<(string File, int Line)> origins)
    {
        var words = Severity().Replace(complaint, "");
        if (Unknown().Match(words) is { Success: true } m && c.Find(MariaDbConfiguration.Normal(m.Groups[1].Value)) is { } there)
            return $"{there.Path} line {there.Line}: {words}";
        return Regex.Replace(
            words,
            Regex.Escape(staged) + @"\D*(\d+)",
            p =>
                int.Parse(p.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                    ? $"{origins[n - 1].File} line {origins[n - 1].Line}"
                    : p.Value
        );
    }

    private static (int Code, string Output, string Error) Run(ServerAccount? account, params string[] command) =>
        ServerProcess.Run(account?.Command(command) ?? command);

    private MariaDbConfiguration? Current()
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

    private string PidFile()
    {
        var named = Current()?.Value("pid_file") ?? $"{Environment.MachineName}.pid";
        return Path.GetFullPath(named, DataFolder());
    }

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "MariaDB is not running.", "Start it, then try again.");
        var c = Load(Files);
        _log.Mark(c.Value("log_error"));
        _complaint = null;
        var (code, output, error) = Ask(c, $"select ifnull(@@ssl_cert, ''), ifnull(@@ssl_key, ''), ifnull(@@{Versions}, '')");
        if (code != 0)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The agent may not ask MariaDB over its socket: {Severity().Replace(error.Trim(), "").TrimEnd('.')}.",
                "Let the agent's account in by unix_socket: CREATE USER root@localhost IDENTIFIED VIA unix_socket; GRANT RELOAD ON *.* TO root@localhost."
            );
        var has = output.TrimEnd('\n').Split('\t');
        if (
            has is [var certificate, var key, var versions]
            && TakesVersions(versions, c)
            && certificate == (c.Value(Certificate) ?? "")
            && key == (c.Value(Key) ?? "")
            && certificate.Length > 0
        )
        {
            var flushed = Ask(c, $"set global {Required} = {(c.IsOn(Required) ? 1 : 0)}; flush ssl");
            _complaint = flushed.Code == 0 ? null : flushed.Error.Trim();
            return;
        }
        ServiceUnit.Restart(pid, "MariaDB", StopsWithin, Start);
    }

    /// <summary>Whether the running server takes the versions that it would after a restart; what that is where nothing is set, its program says.</summary>
    private bool TakesVersions(string now, MariaDbConfiguration c)
    {
        const string Oldest = "TLSv1.1";
        if (c.Value(Versions) is { } set)
            return Same(now, set);
        // Nobody has limited it, as far as a limit from here goes.
        if (now.Contains(Oldest, StringComparison.Ordinal))
            return true;
        var (code, output, _) = Run(Account, settings.Binary, $"--defaults-file={settings.Config}", "--verbose", "--help");
        var line = output.Split('\n').FirstOrDefault(l => l.StartsWith(Versions.Replace('_', '-') + " ", StringComparison.Ordinal));
        return code != 0 || line is null || Same(now, line.Split(' ')[^1]);

        static bool Same(string one, string other) => Set(one).SetEquals(Set(other));

        static HashSet<string> Set(string versions) =>
            [.. versions.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)];
    }

    private (int Code, string Output, string Error) Ask(MariaDbConfiguration c, string question) =>
        ServerProcess.Run(
            ClientProgram,
            "--no-defaults",
            // Whoever answers at the socket must not ask for files of the agent's.
            "--local-infile=0",
            "-S",
            c.Value("socket") ?? "/run/mysqld/mysqld.sock",
            "-N",
            "-B",
            "-r",
            "-e",
            question
        );

    private string ClientProgram =>
        Path.Combine(Path.GetDirectoryName(settings.Binary)!, "mariadb") is var beside && File.Exists(beside) ? beside : "/usr/bin/mariadb";

    public bool IsSettled() => true;

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        var log = Path.Combine(DataFolder(), "start.log");
        // It does not go into the background by itself.
        string[] command =
        [
            "sh",
            "-c",
            "exec setsid \"$0\" \"--defaults-file=$1\" >\"$2\" 2>&1 </dev/null &",
            settings.Binary,
            settings.Config,
            log,
        ];
        Run(Account, command);
        ServerProcess.WaitUntil(() => IsRunning() && Current() is { } c && Ask(c, "select 1").Code == 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"MariaDB does not start: {ReasonIn(log)}.",
                "Look into its error log and start it by hand."
            );
    }

    private string ReasonIn(string log) =>
        new[] { Current()?.Value("log_error"), log }
            .OfType<string>()
            .Select(path => Files.Find(path)?.Split('\n').LastOrDefault(l => l.Contains("[ERROR]", StringComparison.Ordinal)))
            .OfType<string>()
            .Select(l => Severity().Replace(l, "").TrimEnd('.'))
            .FirstOrDefault()
        ?? "it says nothing";

    public string? LastComplaint(DateTimeOffset since) =>
        _complaint
        ?? _log.Lines()
            .FirstOrDefault(l =>
                l.Contains("SSL error", StringComparison.Ordinal) || l.Contains("Failed to setup SSL", StringComparison.Ordinal)
            );

    [GeneratedRegex(@"^.*?(\[ERROR\]|ERROR:?)\s*")]
    private static partial Regex Severity();

    [GeneratedRegex(@"unknown (?:variable|option) '-*([^'=]+)")]
    private static partial Regex Unknown();
}
