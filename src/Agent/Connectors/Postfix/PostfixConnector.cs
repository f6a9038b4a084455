using System.Net.Sockets;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Postfix;

/// <summary>A real Postfix: its SMTP servers with one certificate for all, read by postconf for a test, reloaded by SIGHUP to its master.</summary>
internal sealed class PostfixConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string ChainFiles = "smtpd_tls_chain_files",
        Level = "smtpd_tls_security_level",
        LoginsByTls = "smtpd_tls_auth_only",
        NameTables = "tls_server_sni_maps",
        Master = "master",
        Smtpd = "smtpd";

    /// <summary>What names a certificate in another way than <see cref="ChainFiles"/>, which outweighs them.</summary>
    private static readonly string[] OtherFiles =
    [
        "smtpd_tls_cert_file",
        "smtpd_tls_key_file",
        "smtpd_tls_eccert_file",
        "smtpd_tls_eckey_file",
        "smtpd_tls_dcert_file",
        "smtpd_tls_dkey_file",
    ];

    // services(5): names that master.cf uses for ports.
    private static readonly Dictionary<string, int> Ports = new()
    {
        ["smtp"] = 25,
        ["smtps"] = 465,
        ["submissions"] = 465,
        ["submission"] = 587,
    };

    /// <summary>Its words for a pair that it cannot use. What goes wrong in single handshakes is the clients' affair, and on a public server there is always some.</summary>
    private static readonly string[] Complaints =
    [
        "disabling TLS",
        "TLS won't be enabled",
        "error loading",
        "cannot load",
        "cannot get",
        "key values mismatch",
        "fatal: open",
        "fatal: bad",
    ];
    private static readonly string[] Versions = ["smtpd_tls_protocols", "smtpd_tls_mandatory_protocols"];
    private const int ServersPort = 25;

    private static readonly TimeSpan OldServersGo = TimeSpan.FromSeconds(3),
        KnockPatience = TimeSpan.FromMilliseconds(300);

    private readonly LogTail _log = new();
    private string _queue = "/var/spool/postfix";
    private HashSet<int> _earlierServers = [];
    private DateTime _tookUp = DateTime.MinValue;

    public InstanceId Id => id;

    public bool HasSites => false;

    // Postfix opens the file before it gives up root (postconf(5), smtpd_tls_chain_files).
    public Needs Needs { get; } = new(StoreForm.KeyFirstBundle);

    public IFiles Files { get; } = new HostFiles();

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() =>
        {
            var c = PostfixConfiguration.Load(settings.Config, files);
            var endpoints = Servers(c).Select(s => EndpointOf(c, s)).OfType<EndpointInfo>().Distinct().ToList();
            return [Describe(c, endpoints), .. Named(c, files).Select(n => Describe(n, endpoints))];
        });

    /// <summary>Names that have a certificate of their own; of one that stands twice, the first counts.</summary>
    private static IEnumerable<NamedCertificate> Named(PostfixConfiguration c, IFiles files) =>
        NameTable.Of(c.Value(NameTables)).SelectMany(t => t.Read(files.Find(t.Source) ?? "")).DistinctBy(n => n.Name);

    private string LabelOf(NamedCertificate n) => $"{Id.Name} {n.Name}";

    private FoundService Describe(NamedCertificate n, List<EndpointInfo> endpoints) =>
        new(
            Id.Kind,
            LabelOf(n),
            [n.Name],
            [.. endpoints.Where(e => e.Tls)],
            [n.Place],
            n.Files.Count > 0 ? ByteText.Show(n.Files[0]) : null,
            null,
            []
        );

    private FoundService Describe(PostfixConfiguration c, List<EndpointInfo> endpoints)
    {
        var named = c.Value("myhostname") is { Length: > 0 } own ? own.ToLowerInvariant() : null;
        return new(
            Id.Kind,
            Id.Name,
            settings.Names ?? [named ?? settings.Host],
            [.. endpoints.OrderByDescending(e => e.Tls)],
            [.. (c.Find(ChainFiles) is { } s ? new[] { $"{c.MainPath}:{s.Line}" } : [c.MainPath])],
            CertificateIn(c),
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null && named is null,
        };
    }

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = PostfixConfiguration.Load(settings.Config, files);
        return
        [
            .. AnchorFile.OfServers(c.Value("smtp_tls_CAfile"), settings.Config, Id, "sending mail to others"),
            .. AnchorFile.OfClients(c.Value("smtpd_tls_CAfile"), settings.Config, Id),
        ];
    }

    private static string? CertificateIn(PostfixConfiguration c)
    {
        if (c.Value(ChainFiles) is { Length: > 0 } chain)
            return chain.Split([',', ' '], StringSplitOptions.RemoveEmptyEntries).FirstOrDefault();
        if (c.Value("smtpd_tls_cert_file") is { Length: > 0 } file and not "none")
            return file;
        return null;
    }

    private static IEnumerable<MasterService> Servers(PostfixConfiguration c) =>
        c.Services.Where(s => s.Type == "inet" && Path.GetFileName(s.Command) == Smtpd);

    private static bool IsWrapped(PostfixConfiguration c, MasterService s) => c.Value("smtpd_tls_wrappermode", s) == "yes";

    private static string LevelOf(PostfixConfiguration c, MasterService s)
    {
        if (c.Value(Level, s) is { Length: > 0 } level)
            return level;
        if (c.Value("smtpd_enforce_tls", s) == "yes")
            return "encrypt";
        if (c.Value("smtpd_use_tls", s) == "yes")
            return "may";
        return "none";
    }

    private static EndpointInfo? EndpointOf(PostfixConfiguration c, MasterService s)
    {
        var colon = s.Place.LastIndexOf(':');
        var (host, port) = colon < 0 ? ("", s.Place) : (s.Place[..colon].Trim('[', ']'), s.Place[(colon + 1)..]);
        if (!int.TryParse(port, out var number) && !Ports.TryGetValue(port, out number))
            return null;
        var isWrapped = IsWrapped(c, s);
        var address = host.Length > 0 ? host : AddressOf(c.Value("inet_interfaces") ?? "all");
        return new EndpointInfo(address, number, isWrapped || LevelOf(c, s) != "none")
        {
            Protocol = isWrapped ? ProbeProtocol.Tls : ProbeProtocol.Smtp,
        }.ReadsIf(!isWrapped && !IsRequired(c, s), TakesLogins(c, s) ? Exposed.MailAndLogins : Exposed.Mail);
    }

    private static bool IsRequired(PostfixConfiguration c, MasterService s) => LevelOf(c, s) is "encrypt" or "fingerprint";

    private static bool TakesLogins(PostfixConfiguration c, MasterService s) =>
        c.Value("smtpd_sasl_auth_enable", s) == "yes" && c.Value(LoginsByTls, s) != "yes";

    private static string AddressOf(string interfaces) =>
        interfaces.Split([',', ' '], StringSplitOptions.RemoveEmptyEntries).FirstOrDefault()
            is { } first
                and not ("all" or "loopback-only" or "localhost")
            ? first
            : "127.0.0.1";

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = PostfixConfiguration.Load(settings.Config, files);
        if (change.Service != Id.Name)
            return PlanNamed(change, c, files);
        ThrowIfUnclear(c);
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        var warnings = new List<string>();
        SetChainFiles(c, change.Files.Certificates, edits, steps);
        if (Servers(c).All(s => !IsWrapped(c, s) && LevelOf(c, s) == "none"))
        {
            Set(c, Level, "may", edits);
            steps.Add($"{Level} = may: clients that can use TLS get it.");
            warnings.Add(
                $"Clients may go on without TLS; {Level} = encrypt, for the ports that people send from, ends that when they are ready."
            );
        }
        if (c.Value(NameTables) is { Length: > 0 })
            warnings.Add($"Names in {NameTables} keep the certificates that are written there.");
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, _ => c.MainText));
        var after = PostfixConfiguration.Load(settings.Config, would);
        var name = c.Value("myhostname")?.ToLowerInvariant() ?? change.CertificateNames.FirstOrDefault() ?? settings.Host;
        return new(
            change.Service,
            Describe(after, []).Names,
            would.Edits,
            [
                .. Servers(after)
                    .Select(s => EndpointOf(after, s))
                    .OfType<EndpointInfo>()
                    .Where(e => e.Tls)
                    .Select(e => new Probe(e.Address, e.Port, name, e.Protocol))
                    .Distinct(),
            ],
            [],
            steps.Count > 0 ? steps : ["main.cf names the certificate already; nothing in it changes."],
            warnings
        )
        {
            NamesAreAssumed = settings.Names is null && c.Value("myhostname") is not { Length: > 0 },
        };
    }

    /// <summary>A name with a certificate of its own: its line in the table names the store's file, and the table is built of it when the server takes it up.</summary>
    private ChangeSet PlanNamed(BindChange change, PostfixConfiguration c, IFiles files)
    {
        var named =
            Named(c, files).FirstOrDefault(n => LabelOf(n) == change.Service)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{change.Service[(Id.Name.Length + 1)..]} is in no table of {NameTables} that is known here.",
                "See beacon service list; it may have been removed."
            );
        if (named.Files.Count != 1)
            throw Unsupported(
                $"{named.Name} has several files ({named.Place}); it is not clear which to replace.",
                "Leave one of them, then bind again."
            );
        var path = ByteText.From(change.Files.Certificates);
        if (path.AsSpan().ContainsAny(" \t,"))
            throw Unsupported(
                "The store's folder has a blank or a comma in its path, which parts files in a table.",
                "Keep the agent's state elsewhere."
            );
        var edits = named.Files[0] == path ? [] : new[] { new TextEdit(named.Table.Source, named.ValueStart, named.ValueEnd, path) };
        var probes = Servers(c).Select(s => EndpointOf(c, s)).OfType<EndpointInfo>().Where(e => e.Tls);
        return new(
            change.Service,
            [named.Name],
            TextEdits.Apply(edits, files.Read),
            [.. probes.Select(e => new Probe(e.Address, e.Port, named.Asked, e.Protocol)).Distinct()],
            [],
            [
                edits.Length > 0
                    ? $"{named.Name} ({named.Place}) points to the store; the table is built again."
                    : "The table names the certificate already; it is built again.",
            ],
            []
        );
    }

    private void ThrowIfNamed(string service)
    {
        if (service != Id.Name)
            throw Unsupported(
                "Postfix demands the same of all names that it has certificates for.",
                $"Order it for {Id.Name}, the whole server."
            );
    }

    /// <summary>
    /// Ports that people send from demand TLS. Port 25 is for other mail servers, which a server must not turn away (RFC 3207, section 4): nobody logs in there without TLS.
    /// </summary>
    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        ThrowIfNamed(service);
        var c = PostfixConfiguration.Load(settings.Config, files);
        var readable = Servers(c).Where(s => EndpointOf(c, s)?.ClearText == true).ToList();
        var forPeople = readable.Where(s => EndpointOf(c, s)!.Port != ServersPort).ToList();
        var forServers = readable.Except(forPeople).Where(s => TakesLogins(c, s)).ToList();
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        // Where all ports are people's, one setting says it for all.
        var atOnce = Servers(c).All(s => EndpointOf(c, s)?.Port != ServersPort) && forPeople.All(s => !s.Overrides.ContainsKey(Level));
        if (atOnce && forPeople.Count > 0)
        {
            Set(c, Level, "encrypt", edits);
            steps.Add($"{Level} = encrypt: every port demands TLS.");
        }
        else
            foreach (var s in forPeople)
                Override(c, s, Level, "encrypt", edits, steps);
        foreach (var s in forServers)
            Override(c, s, LoginsByTls, "yes", edits, steps);
        if (edits.Count == 0)
            throw Unsupported(
                "What goes without TLS here is mail from other servers at port 25, which must not be turned away (RFC 3207, section 4).",
                "Nothing to do: no passwords go over it."
            );
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(edits, files.Read),
            steps,
            [
                "Clients that have no TLS switched on cannot send any more.",
                .. readable.Count > forPeople.Count
                    ? new[] { "Other mail servers may deliver to port 25 without TLS still: turning them away would lose mail." }
                    : [],
            ]
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        ThrowIfNamed(service);
        var c = PostfixConfiguration.Load(settings.Config, files);
        // All of its versions read a list of those that go; a lower bound only newer ones (postconf(5)).
        var value = string.Join(", ", VersionWords.Below(lowest).Select(v => "!" + v));
        var (edits, steps) = (new List<TextEdit>(), new List<string>());
        foreach (var name in Versions)
        {
            Set(c, name, value, edits);
            steps.Add($"{name} = {value}");
            foreach (var s in Servers(c).Where(s => s.Overrides.ContainsKey(name)))
                Override(c, s, name, value.Replace(" ", "", StringComparison.Ordinal), edits, steps);
        }
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(edits, files.Read),
            steps,
            "Mail servers that have no newer version deliver without TLS then, where they may."
        );
    }

    private static void Override(
        PostfixConfiguration c,
        MasterService s,
        string name,
        string value,
        List<TextEdit> edits,
        List<string> steps
    )
    {
        var end = s.End;
        while (end > 0 && c.MasterText[end - 1] == '\r')
            end--;
        // The last option of a name counts.
        edits.Add(new(c.MasterPath, end, end, $"{ByteText.NewLineOf(c.MasterText)}  -o {name}={value}"));
        steps.Add($"The service {s.Place} ({c.MasterPath}:{s.Line}) gets {name}={value}.");
    }

    private static void ThrowIfUnclear(PostfixConfiguration c)
    {
        if (Servers(c).FirstOrDefault(s => s.Overrides.Keys.Any(k => k == ChainFiles || OtherFiles.Contains(k))) is { } own)
            throw Unsupported(
                $"The service {own.Place} ({c.MasterPath}:{own.Line}) has a certificate of its own, by an option in master.cf.",
                $"Take that option out, so that all ports have the certificate of main.cf; then bind again."
            );
        var chain = c.Value(ChainFiles) ?? "";
        if (chain.Split([',', ' '], StringSplitOptions.RemoveEmptyEntries).Length > 1)
            throw Unsupported(
                $"{ChainFiles} ({c.MainPath}:{c.Find(ChainFiles)!.Line}) names several files; it is not clear which to replace.",
                "Leave one of them, then bind again."
            );
        // What refers to ours would change along with it.
        var borrower = c.Settings.FirstOrDefault(s => s.Name != ChainFiles && s.Value.Contains("$" + ChainFiles, StringComparison.Ordinal));
        if (borrower is not null)
            throw Unsupported(
                $"{borrower.Name} ({c.MainPath}:{borrower.Line}) is set to ${ChainFiles}, and would change along with it.",
                $"Give {borrower.Name} files of its own, then bind again."
            );
    }

    private static BeaconProblem Unsupported(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);

    private static void SetChainFiles(PostfixConfiguration c, string path, List<TextEdit> edits, List<string> steps)
    {
        if (c.Find(ChainFiles)?.Value == ByteText.From(path))
            return;
        Set(c, ChainFiles, ByteText.From(path), edits);
        var others = OtherFiles.Where(o => c.Find(o) is not null).ToList();
        steps.Add(
            others.Count == 0
                ? $"{ChainFiles} points to the store: key and certificates in one file."
                : $"{ChainFiles} points to the store, and outweighs {string.Join(", ", others)}."
        );
    }

    /// <summary>The last setting of a name counts, so it is the one that is changed; a new one goes behind its relatives.</summary>
    private static void Set(PostfixConfiguration c, string name, string value, List<TextEdit> edits)
    {
        if (c.Find(name) is { } there)
        {
            edits.Add(new(c.MainPath, there.ValueStart, there.ValueEnd, there.ValueStart == there.ValueEnd ? " " + value : value));
            return;
        }
        var newLine = ByteText.NewLineOf(c.MainText);
        if (c.Settings.LastOrDefault(s => s.Name.StartsWith("smtpd_tls_", StringComparison.Ordinal)) is { } relative)
        {
            var end = relative.ValueEnd;
            while (end < c.MainText.Length && c.MainText[end] is not ('\n' or '\r'))
                end++;
            edits.Add(new(c.MainPath, end, end, $"{newLine}{name} = {value}"));
            return;
        }
        var isFirst = !edits.Any(e => e.Start == c.MainText.Length);
        var lead = c.MainText.Length == 0 || c.MainText[^1] == '\n' || !isFirst ? "" : newLine;
        edits.Add(new(c.MainPath, c.MainText.Length, c.MainText.Length, $"{lead}{name} = {value}{newLine}"));
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = PostfixConfiguration.Load(settings.Config, files);
        TestTables(c, files, instead);
        var staged = Directory.CreateTempSubdirectory("beacon-check-").FullName;
        try
        {
            File.WriteAllBytes(Path.Combine(staged, "main.cf"), ByteText.Bytes(c.MainText));
            File.WriteAllBytes(Path.Combine(staged, "master.cf"), ByteText.Bytes(c.MasterText));
            // Postfix waits over a second where a file looks as if it were being written.
            foreach (var file in new[] { "main.cf", "master.cf" })
                File.SetLastWriteTimeUtc(Path.Combine(staged, file), DateTime.UtcNow.AddHours(-1));
            foreach (var what in new[] { "-n", "-M" })
            {
                var (code, _, error) = ServerProcess.Run(ProgramOf("postconf"), "-c", staged, what);
                var complaint = error.Split('\n').FirstOrDefault(l => l.Contains("fatal:", StringComparison.Ordinal));
                if (code != 0 || complaint is not null)
                    throw TestProblem.Of(
                        "Postfix",
                        (complaint ?? error).Replace(staged, settings.Config, StringComparison.Ordinal).Trim(),
                        ReferenceEquals(files, Files),
                        $"postconf -c {settings.Config} {what}"
                    );
            }
        }
        finally
        {
            Directory.Delete(staged, recursive: true);
        }
    }

    private void TestTables(PostfixConfiguration c, IFiles files, ReadInstead? instead)
    {
        foreach (var table in NameTable.Of(c.Value(NameTables)))
        {
            var text = files.Find(table.Source) ?? "";
            // A table of others is left as it is, whatever it is like.
            if (!NamesOurs(table, text) && text == (Files.Find(table.Source) ?? ""))
                continue;
            if (TableBuilding.Complaint(table, ByteText.Bytes(instead?.In(text) ?? text), ProgramOf("postmap")) is { } complaint)
                throw TestProblem.Of("Postfix", complaint, ReferenceEquals(files, Files), $"postmap -F {table.Type}:{table.Source}");
        }
    }

    private string ProgramOf(string name) => Path.Combine(Path.GetDirectoryName(settings.Binary) ?? "/usr/sbin", name);

    /// <summary>What was read last counts while the file cannot be read: the server runs on.</summary>
    private int? Pid()
    {
        try
        {
            _queue = PostfixConfiguration.Load(settings.Config, Files).Value("queue_directory") ?? _queue;
        }
        catch (BeaconProblem) { }
        return ServerProcess.Find(Path.Combine(_queue, "pid", "master.pid"), Master);
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "Postfix is not running.", "Start it, then try again.");
        var c = PostfixConfiguration.Load(settings.Config, Files);
        foreach (var table in NameTable.Of(c.Value(NameTables)))
            TakeUp(table);
        _log.Mark(c.Value("maillog_file") ?? "/var/log/mail.log");
        (_earlierServers, _tookUp) = (ServerProcess.ChildrenOf(pid, Smtpd), DateTime.UtcNow);
        ServerProcess.Signal(pid, ServerProcess.SigHup, "Postfix");
    }

    /// <summary>A table with ours in it is built each time: their content changes without its text. One that was changed may have had ours in it until now.</summary>
    private void TakeUp(NameTable table)
    {
        var isOurs = NamesOurs(table, Files.Find(table.Source) ?? "");
        if (!isOurs && (table.Built is not { } built || File.GetLastWriteTimeUtc(table.Source) < File.GetLastWriteTimeUtc(built)))
            return;
        // What others have begun to write there does not hold up the server's other certificates; what is served is looked at afterwards.
        if (TableBuilding.Build(table, ProgramOf("postmap")) is { } complaint && isOurs)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"The table {table.Type}:{table.Source} cannot be built: {complaint}.",
                $"Correct it: postmap -F {table.Type}:{table.Source} shows the same."
            );
    }

    private static bool NamesOurs(NameTable table, string text) =>
        table.Read(text).SelectMany(n => n.Files).Any(f => IsOurs(ByteText.Show(f)));

    private static bool IsOurs(string path)
    {
        for (var at = path; Path.GetDirectoryName(at) is { Length: > 1 } folder; at = folder)
            if (Path.GetFileName(folder) == CertificateStore.InUseFolder && new FileInfo(at).LinkTarget is not null)
                return true;
        return false;
    }

    // A server from before that waits takes one more client as it was, and ends: that client is us. One that is in a conversation ends after it.
    public bool IsSettled()
    {
        if (DateTime.UtcNow > _tookUp + OldServersGo || !_earlierServers.Any(p => ServerProcess.Living(p) is { Program: Smtpd }))
            return true;
        foreach (var e in Discover(Files).Services.SelectMany(s => s.Endpoints))
            Knock(e);
        return false;
    }

    private static void Knock(EndpointInfo e)
    {
        try
        {
            using var client = new TcpClient();
            if (client.ConnectAsync(e.Address, e.Port).Wait(KnockPatience))
                client.GetStream().Write("QUIT\r\n"u8);
        }
        catch (Exception x) when (x is SocketException or IOException or AggregateException) { }
    }

    public void Start()
    {
        var (code, _, error) = ServerProcess.Run(settings.Binary, "-c", settings.Config, "start");
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Postfix does not start: {error.Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
    }

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines()
            .Where(l => l.Contains("smtpd[", StringComparison.Ordinal) || l.Contains("master[", StringComparison.Ordinal))
            .FirstOrDefault(l => Complaints.Any(c => l.Contains(c, StringComparison.Ordinal)));
}
