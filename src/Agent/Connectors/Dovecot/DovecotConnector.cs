using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Dovecot;

/// <summary>
/// A real Dovecot 2.3: its login servers with one certificate, and a service of its own for each <c>local_name</c> that has another. Its own reader tests, SIGHUP reloads.
/// </summary>
internal sealed partial class DovecotConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Master = "dovecot",
        Certificate = "ssl_cert",
        Key = "ssl_key",
        Tls = "ssl";

    /// <summary>Listeners that are there without being configured.</summary>
    private static readonly (string Service, string Listener, string Protocol, int Port, bool IsDirect, ProbeProtocol Probe)[] Listeners =
    [
        ("imap-login", "imap", "imap", 143, false, ProbeProtocol.Imap),
        ("imap-login", "imaps", "imap", 993, true, ProbeProtocol.Tls),
        ("pop3-login", "pop3", "pop3", 110, false, ProbeProtocol.Pop3),
        ("pop3-login", "pop3s", "pop3", 995, true, ProbeProtocol.Tls),
        ("submission-login", "submission", "submission", 587, false, ProbeProtocol.Smtp),
        ("submission-login", "submissions", "submission", 465, true, ProbeProtocol.Tls),
    ];

    private static readonly string[] LoginServers = ["imap-login", "pop3-login", "submission-logi"];

    /// <summary>Its words for a pair or a file that it cannot use; single handshakes that fail are the clients' affair.</summary>
    private static readonly string[] Complaints =
    [
        "Failed to initialize SSL",
        "Can't load",
        "Couldn't parse",
        "Error in configuration",
        "Invalid configuration",
    ];

    private readonly LogTail _log = new();
    private HashSet<int> _earlierServers = [];

    public InstanceId Id => id;

    public bool HasSites => false;

    // The master reads the files as root and hands them on.
    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    private DovecotConfiguration Load(IFiles files)
    {
        var c = DovecotConfiguration.Load(settings.Config, files);
        return c.Find("dovecot_config_version") is not { } version
            ? c
            : throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{version.Path}, line {version.Line}: this is a configuration of Dovecot 2.4, whose form is not understood.",
                "Bind it by hand."
            );
    }

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        // A value of a file begins with a sign for it.
        return [.. AnchorFile.OfClients(c.Value("ssl_ca")?.TrimStart('<').Trim(), Path.GetDirectoryName(settings.Config)!, Id)];
    }

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() =>
        {
            var c = Load(files);
            var endpoints = Endpoints(c);
            return [Describe(c, endpoints, null), .. NamedBlocks(c).Select(name => Describe(c, endpoints, name))];
        });

    /// <summary>Names that have a certificate of their own.</summary>
    private static IEnumerable<string> NamedBlocks(DovecotConfiguration c) =>
        c
            .Settings.Where(s => s.Name == Certificate && s.Block is [var b] && NameOf(b) is not null)
            .Select(s => NameOf(s.Block[0])!)
            .Distinct();

    private static string? NameOf(string block) =>
        block.StartsWith("local_name ", StringComparison.Ordinal) ? block["local_name ".Length..].Trim('"') : null;

    private FoundService Describe(DovecotConfiguration c, IReadOnlyList<EndpointInfo> endpoints, string? name)
    {
        var certificate = name is null
            ? c.Find(Certificate)
            : c.Settings.LastOrDefault(s => s.Name == Certificate && s.Block is [var b] && NameOf(b) == name);
        return new(
            Id.Kind,
            name is null ? Id.Name : $"{Id.Name} {name}",
            Names(c, name),
            name is null ? endpoints : [.. endpoints.Where(e => e.Tls)],
            [certificate is null ? c.Main : $"{certificate.Path}:{certificate.Line}"],
            certificate?.Value.TrimStart('<').Trim(),
            null,
            []
        )
        {
            NamesAreAssumed = name is null && settings.Names is null && c.Find("hostname") is null,
        };
    }

    private IReadOnlyList<string> Names(DovecotConfiguration c, string? name)
    {
        if (name is not null)
            return [name];
        if (settings.Names is { } given)
            return given;
        return [c.Value("hostname") ?? settings.Host];
    }

    private static string TlsOf(DovecotConfiguration c) => c.Value(Tls) ?? "yes";

    private static List<EndpointInfo> Endpoints(DovecotConfiguration c)
    {
        var protocols = (c.Value("protocols") ?? "imap pop3 submission").Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var listen = First(c.Value("listen")) ?? "*";
        var found = new List<EndpointInfo>();
        foreach (var l in Listeners.Where(l => protocols.Contains(l.Protocol)))
        {
            string[] block = [$"service {l.Service}", $"inet_listener {l.Listener}"];
            var port = int.TryParse(c.Value("port", block), out var set) ? set : l.Port;
            if (port == 0)
                continue;
            var isDirect = c.Value(Tls, block) is { } own ? own == "yes" : l.IsDirect;
            var address = First(c.Value("address", block)) ?? listen;
            found.Add(
                new EndpointInfo(Listening.Reachable(address), port, TlsOf(c) != "no")
                {
                    Protocol = isDirect ? ProbeProtocol.Tls : l.Probe,
                }.ReadsIf(!isDirect && TlsOf(c) != "required", Exposed.MailAndLogins)
            );
        }
        // Without TLS the direct listeners do not open.
        return [.. found.Where(e => e.Tls || e.Protocol != ProbeProtocol.Tls).OrderByDescending(e => e.Tls)];
    }

    private static string? First(string? addresses) => addresses?.Split([',', ' '], StringSplitOptions.RemoveEmptyEntries).FirstOrDefault();

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        var name = change.Service == Id.Name ? null : change.Service[(Id.Name.Length + 1)..];
        var block = name is null ? [] : BlockOf(c, name);
        ThrowIfUnclear(c, block, change.Service);
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        Set(Certificate, "<" + ByteText.From(change.Files.Certificates));
        Set(Key, "<" + ByteText.From(change.Files.Key));
        if (name is null && TlsOf(c) == "no")
            Set(Tls, "yes");
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Load(would);
        var named = NamedBlocks(c).ToHashSet();
        var asked = name ?? change.CertificateNames.FirstOrDefault(n => !named.Contains(n)) ?? settings.Host;
        return new(
            change.Service,
            Names(c, name),
            would.Edits,
            [.. Endpoints(after).Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            name is null ? Warnings(after, named) : []
        )
        {
            NamesAreAssumed = name is null && settings.Names is null && c.Find("hostname") is null,
        };

        void Set(string setting, string value)
        {
            if (c.Find(setting, block) is { } there)
            {
                if (there.Value == value)
                    return;
                edits.Add(new(there.Path, there.ValueStart, there.ValueEnd, value));
                steps.Add($"{setting} ({there.Path}:{there.Line}) {(setting == Tls ? "is switched on" : "points to the store")}.");
                return;
            }
            // A block that names a certificate has a key beside it; what is missing is missing at the top.
            var text = c.Find(setting, [])?.Path ?? c.Find(Tls, [])?.Path ?? c.Main;
            var content = files.Read(text);
            var newLine = ByteText.NewLineOf(content);
            var lead = content.Length == 0 || content[^1] == '\n' ? "" : newLine;
            edits.Add(
                new(
                    text,
                    content.Length,
                    content.Length,
                    $"{(edits.Any(e => e.Start == content.Length) ? "" : lead)}{setting} = {value}{newLine}"
                )
            );
            steps.Add($"{setting} is added to {text}.");
        }
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        if (service != Id.Name)
            throw Unsupported("Dovecot requires TLS for all of its names or for none.", $"Require it of {Id.Name}, the whole server.");
        if (
            c.Settings.FirstOrDefault(s => s is { Name: Tls, Block: [var b, ..] } && b.StartsWith("protocol ", StringComparison.Ordinal)) is
            { } own
        )
            throw Unsupported(
                $"{own.Block[0]} has a setting of its own for TLS ({own.Path}:{own.Line}).",
                "Take it out, so that the one of the whole server counts; then order it again."
            );
        var there = c.Find(Tls, []);
        var edit = there is null
            ? TextEdits.Append(files, c.Main, [$"{Tls} = required"])
            : new(there.Path, there.ValueStart, there.ValueEnd, "required");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"{Tls} = required ({there?.Path ?? c.Main}): nobody logs in without TLS."],
            "Clients that have no TLS switched on cannot log in any more."
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "ssl_min_protocol";
        var c = Load(files);
        if (service != Id.Name)
            throw Unsupported("Dovecot has one lowest version for all of its names.", $"Order it for {Id.Name}, the whole server.");
        if (c.Settings.FirstOrDefault(s => s.Name == Setting && s.Block.Count > 0) is { } own)
            throw Unsupported(
                $"{own.Block[0]} has a lowest version of its own ({own.Path}:{own.Line}).",
                "Take it out, so that the one of the whole server counts; then order it again."
            );
        var there = c.Find(Setting, []);
        var edit = there is null
            ? TextEdits.Append(files, c.Main, [$"{Setting} = {VersionWords.Of(lowest)}"])
            : new(there.Path, there.ValueStart, there.ValueEnd, VersionWords.Of(lowest));
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"{Setting} = {VersionWords.Of(lowest)} ({there?.Path ?? c.Main})."]
        );
    }

    private static List<string> Warnings(DovecotConfiguration after, HashSet<string> named)
    {
        var warnings = new List<string>();
        if (TlsOf(after) != "required")
            warnings.Add("Clients may go on without TLS; ssl = required ends that when they are ready.");
        if (named.Count > 0)
            warnings.Add($"{string.Join(", ", named)} keep the certificates in their local_name blocks.");
        return warnings;
    }

    private static IReadOnlyList<string> BlockOf(DovecotConfiguration c, string name) =>
        c.Settings.LastOrDefault(s => s.Name == Certificate && s.Block is [var b] && NameOf(b) == name)?.Block
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No local_name {name} with a certificate is in Dovecot's configuration.",
            "See beacon service list; it may have been removed."
        );

    private static void ThrowIfUnclear(DovecotConfiguration c, IReadOnlyList<string> block, string service)
    {
        foreach (var setting in new[] { Certificate, Key })
        {
            if (c.Find(setting, block) is not { } named)
            {
                if (block.Count > 0)
                    throw Unsupported(
                        $"The block \"{block[0]}\" has no {setting} of its own.",
                        "Write both ssl_cert and ssl_key into it, then bind again."
                    );
                continue;
            }
            var sharers = c
                .Settings.Where(s => s.Path == named.Path && s.Line == named.Line && s.Reading != named.Reading)
                .Select(s => s.Block.Count == 0 ? "the whole server" : s.Block[0])
                .Distinct()
                .ToList();
            if (sharers.Count > 0)
                throw Unsupported(
                    $"{setting} in {named.Path}:{named.Line} is shared: {string.Join(", ", sharers)} would get the certificate of {service} too.",
                    "Take the lines out of the included file and write them into each block; then bind again."
                );
            if (!named.Value.StartsWith('<'))
                throw Unsupported(
                    $"{setting} in {named.Path}:{named.Line} does not name a file.",
                    $"Write it as {setting} = </path/to/file, then bind again."
                );
        }
        if (block.Count > 0)
            return;
        var other = c.Settings.FirstOrDefault(s => s.Name == Certificate && s.Block is [var b, ..] && NameOf(b) is null);
        if (other is not null)
            throw Unsupported(
                $"The block \"{other.Block[0]}\" ({other.Path}:{other.Line}) has a certificate of its own, in a form that is not understood.",
                "Use local_name blocks for names with certificates of their own; then bind again."
            );
    }

    private static BeaconProblem Unsupported(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var (text, origins) = Load(files).Flat;
        if (instead is { } i)
            text = i.In(text);
        using var staged = StagedCopy.Beside(settings.Config, text);
        var (code, _, error) = ServerProcess.Run(ProgramOf("doveconf"), "-c", staged.Path, "-n");
        var complaint = error
            .Split('\n')
            .FirstOrDefault(l => l.Contains("Fatal:", StringComparison.Ordinal) || l.Contains("Error:", StringComparison.Ordinal));
        if (code == 0 && complaint is null)
            return;
        var words = Place()
            .Replace(
                complaint ?? error.Trim(),
                m =>
                    int.Parse(m.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                        ? $"{origins[n - 1].File} line {origins[n - 1].Line}"
                        : m.Value
            );
        throw TestProblem.Of("Dovecot", words, ReferenceEquals(files, Files), $"doveconf -n -c {settings.Config}");
    }

    private string ProgramOf(string name) =>
        Path.Combine(Path.GetDirectoryName(settings.Binary)!, name) is var beside && File.Exists(beside) ? beside : "/usr/bin/" + name;

    private string? Value(string name)
    {
        try
        {
            return DovecotConfiguration.Load(settings.Config, Files).Value(name);
        }
        catch (BeaconProblem)
        {
            return null;
        }
    }

    private string PidFile() => Path.Combine(Value("base_dir") ?? "/run/dovecot", "master.pid");

    private int? Pid() => ServerProcess.Find(PidFile(), Master);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "Dovecot is not running.", "Start it, then try again.");
        _log.Mark(Value("log_path") is { } path && path.StartsWith('/') ? path : "/var/log/mail.log");
        _earlierServers = ServerProcess.ChildrenOf(pid, LoginServers);
        ServerProcess.Signal(pid, ServerProcess.SigHup, "Dovecot");
    }

    // Login servers from before end when they are idle; one that serves a client takes no other.
    public bool IsSettled() => !_earlierServers.Any(ServerProcess.Listens);

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        var (code, _, error) = ServerProcess.Run(settings.Binary, "-c", settings.Config);
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Dovecot does not start: {error.Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
    }

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines().FirstOrDefault(l => Complaints.Any(c => l.Contains(c, StringComparison.Ordinal)));

    [GeneratedRegex(@"\S*\.beacon-check-\d+\.conf,? line (\d+)")]
    private static partial Regex Place();
}
