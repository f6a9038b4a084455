using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.PostgreSql;

/// <summary>
/// A real PostgreSQL cluster: it reads its files as its own account, has its configuration tested by <c>postgres -C</c>, and takes up over its socket, else by SIGHUP.
/// </summary>
internal sealed partial class PostgreSqlConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "postgres",
        Certificate = "ssl_cert_file",
        Key = "ssl_key_file",
        Tls = "ssl";
    private const int MostTries = 5;

    private readonly LogTail _log = new();

    public InstanceId Id => id;

    public bool HasSites => false;

    /// <summary>Whose configuration it is; where that is the agent's own account, whose data it is. What belongs to another account is never read with the agent's rights.</summary>
    private ServerAccount? Account => ServerAccount.OwnerOf(settings.Config) ?? ServerAccount.OwnerOf(DataFolder(new HostFiles()));

    public Needs Needs => new(StoreForm.Pair, Account);

    public IFiles Files => new HostFiles(Account);

    private string DataFolder(IFiles files)
    {
        try
        {
            return PostgreSqlConfiguration.Load(settings.Config, files).DataFolder;
        }
        catch (BeaconProblem)
        {
            return Path.GetDirectoryName(settings.Config)!;
        }
    }

    private PostgreSqlConfiguration Load(IFiles files) => PostgreSqlConfiguration.Load(settings.Config, files);

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files), files)]);

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        return [.. AnchorFile.OfClients(c.Value("ssl_ca_file"), c.DataFolder, Id)];
    }

    private FoundService Describe(PostgreSqlConfiguration c, IFiles files) =>
        new(
            Id.Kind,
            Id.Name,
            settings.Names ?? [settings.Host],
            [.. Endpoints(c).Select(e => e.ReadsIf(!c.IsOn(Tls) || LetsClearTextIn(c, files), Exposed.Queries))],
            [c.Find(Certificate) is { } s ? $"{s.Path}:{s.Line}" : c.Main],
            c.IsOn(Tls) ? ByteText.Show(Path.Combine(c.DataFolder, c.Value(Certificate) ?? "server.crt")) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    private static IReadOnlyList<EndpointInfo> Endpoints(PostgreSqlConfiguration c)
    {
        var port = int.TryParse(c.Value("port"), out var set) ? set : 5432;
        return
        [
            .. (c.Value("listen_addresses") ?? "localhost")
                .Split([',', ' '], StringSplitOptions.RemoveEmptyEntries)
                .Select(Listening.Reachable)
                .Distinct()
                .Select(a => new EndpointInfo(a, port, c.IsOn(Tls)) { Protocol = ProbeProtocol.Postgresql }),
        ];
    }

    private static string RulesOf(PostgreSqlConfiguration c) => Path.Combine(c.DataFolder, c.Value("hba_file") ?? "pg_hba.conf");

    private static bool LetsClearTextIn(PostgreSqlConfiguration c, IFiles files) => ClearTextRules(c, files).Any();

    private static readonly WordRules RuleWords = new("PostgreSQL", CommentsAnywhere: true, Escapes: false);

    // pg_hba.conf: host lets both in, hostssl TLS alone.
    private static IEnumerable<WordLine> ClearTextRules(PostgreSqlConfiguration c, IFiles files) =>
        ConfigurationWords
            .Read(RulesOf(c), files.Find(RulesOf(c)) ?? "", RuleWords)
            .Where(l =>
                l.Name is "host" or "hostnossl" or "hostnogssenc" && l.Words.Count > 3 && l.Words[^1].Value != "reject" || IsInclude(l)
            );

    // Since version 16 rules may stand in other files.
    private static bool IsInclude(WordLine l) => l.Name is "include" or "include_if_exists" or "include_dir";

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        var rules = ClearTextRules(c, files).ToList();
        if (rules.Find(IsInclude) is { } other)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"Rules for clients stand in other files too ({other.Place}), which are not changed.",
                "Write hostssl instead of host there and here by hand."
            );
        if (rules.Find(r => r.Name == "hostnossl") is { } without)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"A rule lets clients in without TLS alone ({without.Place}): who would be let in with it is not clear.",
                "Write it as hostssl, or take it out; then order it again."
            );
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(rules.Select(r => WithTls(r, files.Read(r.Path))), files.Read),
            [.. rules.Select(r => $"{r.Words[0].Value} becomes hostssl ({r.Place}).")],
            "Clients that ask for no TLS are refused, also those of this host that do not use the socket. Sessions that are open go on as they are."
        );
    }

    /// <summary>Columns stay where they are when the blanks behind the word have room.</summary>
    private static TextEdit WithTls(WordLine rule, string text)
    {
        const string Tls = "hostssl";
        var word = rule.Words[0];
        var gap = rule.Words[1].Start - word.End;
        var spare = Math.Clamp(Math.Min(Tls.Length - word.Value.Length, gap - 1), 0, gap);
        return text[word.End..(word.End + spare)].All(ch => ch == ' ')
            ? new(rule.Path, word.Start, word.End + spare, Tls)
            : new(rule.Path, word.Start, word.End, Tls);
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        if (c.Automatic.FirstOrDefault(s => s.Name is Certificate or Key or Tls) is { } set)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{set.Name} was set by ALTER SYSTEM ({set.Path}:{set.Line}), which outweighs the configuration.",
                $"Take that back: ALTER SYSTEM RESET {set.Name}; then bind again."
            );
        var edits = new List<TextEdit>();
        var added = new List<string>();
        var steps = new List<string>();
        Set(Certificate, Quote(change.Files.Certificates), ByteText.From(change.Files.Certificates));
        Set(Key, Quote(change.Files.Key), ByteText.From(change.Files.Key));
        if (!c.IsOn(Tls))
            Set(Tls, "on", "on");
        if (added.Count > 0)
            edits.Add(TextEdits.Append(files, c.Main, added));
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Load(would);
        var name = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            settings.Names ?? [settings.Host],
            would.Edits,
            [.. Endpoints(after).Select(e => new Probe(e.Address, e.Port, name, e.Protocol))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            LetsClearTextIn(after, would)
                ? ["Clients may go on without TLS; hostssl instead of host in pg_hba.conf ends that when they are ready."]
                : []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

        void Set(string setting, string written, string value)
        {
            if (c.Find(setting) is not { } there)
            {
                added.Add($"{setting} = {written}");
                steps.Add($"{setting} is added to {c.Main}.");
            }
            else if (there.Value != value)
            {
                edits.Add(new(there.Path, there.ValueStart, there.ValueEnd, written));
                steps.Add($"{setting} ({there.Path}:{there.Line}) {(setting == Tls ? "is switched on" : "points to the store")}.");
            }
        }
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "ssl_min_protocol_version";
        var c = Load(files);
        if (c.Automatic.FirstOrDefault(s => s.Name == Setting) is { } set)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{Setting} was set by ALTER SYSTEM ({set.Path}:{set.Line}), which outweighs the configuration.",
                $"Take that back: ALTER SYSTEM RESET {Setting}; then order it again."
            );
        var written = $"'{VersionWords.Of(lowest)}'";
        var edit = c.Find(Setting) is { } there
            ? new(there.Path, there.ValueStart, there.ValueEnd, written)
            : TextEdits.Append(files, c.Main, [$"{Setting} = {written}"]);
        return ChangeSet.RequiringTls(service, TextEdits.Apply([edit], files.Read), [$"{Setting} = {written} ({edit.Path})."]);
    }

    private static string Quote(string path) => $"'{ByteText.From(path).Replace("'", "''", StringComparison.Ordinal)}'";

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = Load(files);
        var (text, origins) = c.Flat;
        if (instead is { } i)
            text = i.In(text);
        var account = Account;
        using var staged = StagedCopy.For(account, "postgresql.conf", text);
        var (code, _, error) = RunAsAccount(
            account,
            ProgramOf(Program),
            "-D",
            c.DataFolder,
            "-c",
            $"config_file={staged.Path}",
            "-C",
            Certificate
        );
        if (code == 0)
            return;
        var complaint = error.Split('\n', StringSplitOptions.RemoveEmptyEntries).FirstOrDefault() ?? $"it ended with {code}";
        complaint = Regex.Replace(
            Severity().Replace(complaint, ""),
            Regex.Escape($"\"{staged.Path}\"") + @" line (\d+)",
            m =>
                int.Parse(m.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                    ? $"{origins[n - 1].File} line {origins[n - 1].Line}"
                    : m.Value
        );
        throw TestProblem.Of("PostgreSQL", complaint, files is HostFiles, $"postgres -C {Certificate} -D {c.DataFolder}");
    }

    private string ProgramOf(string name) => Path.Combine(settings.Binary, name);

    private static (int Code, string Output, string Error) RunAsAccount(ServerAccount? account, params string[] command) =>
        ServerProcess.Run(account?.Command(command) ?? command);

    private string PidFile() => Path.Combine(DataFolder(Files), "postmaster.pid");

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "PostgreSQL is not running.", "Start it, then try again.");
        _log.Mark(LogOf(pid));
        if (!TakesUpOverSocket())
            ServerProcess.Signal(pid, ServerProcess.SigHup, "PostgreSQL");
    }

    private bool TakesUpOverSocket()
    {
        var c = Load(Files);
        var folder = (c.Value("unix_socket_directories") ?? "/var/run/postgresql").Split(',')[0].Trim();
        if (!folder.StartsWith('/'))
            return false;
        var user = Account?.Name ?? Environment.UserName;
        try
        {
            var (code, output, _) = RunAsAccount(
                Account,
                ProgramOf("psql"),
                "-X",
                "-w",
                "-h",
                folder,
                "-p",
                c.Value("port") ?? "5432",
                "-U",
                user,
                "-d",
                "postgres",
                "-Atqc",
                "select pg_reload_conf()"
            );
            return code == 0 && output.Trim() == "t";
        }
        // Without psql there is the signal.
        catch (BeaconProblem)
        {
            return false;
        }
    }

    // Whether the files were read shows in a handshake alone: the server takes new connections with the old ones until then.
    public bool IsSettled() => true;

    /// <summary>Where the server's messages go, when that is a file.</summary>
    private static string? LogOf(int pid)
    {
        try
        {
            return File.ResolveLinkTarget($"/proc/{pid}/fd/2", returnFinalTarget: false)?.FullName is { } path && File.Exists(path)
                ? path
                : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    public void Start()
    {
        var c = Load(Files);
        var log = Path.Combine(c.DataFolder, "start.log");
        ServerProcess.ForgetEnded(PidFile());
        // Sessions of a server that died end by themselves within a moment; until then no other may touch their memory.
        for (var tries = 1; !IsRunning(); tries++)
        {
            var (code, _, error) = RunAsAccount(
                Account,
                ProgramOf("pg_ctl"),
                "-D",
                c.DataFolder,
                "-w",
                "-l",
                log,
                "-o",
                $"-c config_file={settings.Config}",
                "start"
            );
            if (code != 0 && tries == MostTries)
                throw new BeaconProblem(
                    ProblemCode.ServerDied,
                    $"PostgreSQL does not start: {ReasonIn(log) ?? error.Trim()}.",
                    $"Look into {log} and start it by hand."
                );
            if (code != 0)
                Thread.Sleep(TimeSpan.FromSeconds(1));
        }
    }

    private string? ReasonIn(string log) =>
        Files
            .Find(log)
            ?.Split('\n')
            .LastOrDefault(l => l.Contains("FATAL:", StringComparison.Ordinal) || l.Contains("ERROR:", StringComparison.Ordinal));

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines()
            .Where(l => l.Contains("LOG:", StringComparison.Ordinal) || l.Contains("FATAL:", StringComparison.Ordinal))
            .Where(l =>
                l.Contains("could not load", StringComparison.Ordinal)
                || l.Contains("private key file", StringComparison.Ordinal)
                || l.Contains("was not reloaded", StringComparison.Ordinal)
                || l.Contains("contains errors", StringComparison.Ordinal)
            )
            .Select(l => Severity().Replace(l, ""))
            .LastOrDefault();

    [GeneratedRegex(@"^.*?(LOG|FATAL|ERROR):\s+")]
    private static partial Regex Severity();
}
