using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Redis;

/// <summary>
/// A real Redis: it reads its files as its own account and takes up by one CONFIG SET of all its TLS settings, as they stand in its file; sessions go on. Its file is never
/// written by itself.
/// </summary>
internal sealed class RedisConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "redis-server",
        Certificate = "tls-cert-file",
        Key = "tls-key-file",
        Port = "port",
        TlsPort = "tls-port",
        Versions = "tls-protocols",
        ClientCertificates = "tls-auth-clients",
        NoSuchSetting = "beacon-end-of-check";
    private const int UsualPort = 6379,
        UsualTlsPort = 6380;

    private string? _complaint;

    public InstanceId Id => id;

    public bool HasSites => false;

    private ServerAccount? Account => ServerAccount.OwnerOf(settings.Config);

    public Needs Needs => new(StoreForm.Pair, Account);

    public IFiles Files => new HostFiles(Account);

    private RedisConfiguration Load(IFiles files) => RedisConfiguration.Load(settings.Config, files);

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    public IReadOnlyList<AnchorFile> AnchorFiles(IFiles files)
    {
        var c = Load(files);
        return [.. AnchorFile.OfClients(c.Value("tls-ca-cert-file"), c.Value("dir") ?? "/", Id)];
    }

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private FoundService Describe(RedisConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names,
            Endpoints(c),
            [c.Find(Certificate)?.Place ?? c.Main],
            c.Number(TlsPort, 0) > 0 && c.Value(Certificate) is { } file
                ? ByteText.Show(Path.GetFullPath(file, c.Value("dir") ?? "/"))
                : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    private static IReadOnlyList<EndpointInfo> Endpoints(RedisConfiguration c)
    {
        var (plain, tls) = (c.Number(Port, UsualPort), c.Number(TlsPort, 0));
        return
        [
            .. c
                .Addresses.SelectMany<string, EndpointInfo>(a =>
                    [
                        new EndpointInfo(a, tls, true).Reads(Exposed.Nothing),
                        new EndpointInfo(a, plain, false).Reads(
                            c.Value("requirepass") is null ? Exposed.Queries : Exposed.QueriesAndLogins
                        ),
                    ]
                )
                .Where(e => e.Port > 0)
                .OrderByDescending(e => e.Tls),
        ];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        var edits = new List<TextEdit>();
        var added = new List<string>();
        var steps = new List<string>();
        var newPorts = new List<(string, int)>();
        Set(Certificate, change.Files.Certificates);
        Set(Key, change.Files.Key);
        if (c.Number(TlsPort, 0) == 0)
        {
            var port = change.Port ?? UsualTlsPort;
            if (c.Find(TlsPort) is { Words.Count: > 1 } off)
                edits.Add(new(off.Path, off.Words[1].Start, off.Words[1].End, port.ToString()));
            else
                added.Add($"{TlsPort} {port}");
            // Without it clients would have to show a certificate, which those of today have not.
            if (c.Find(ClientCertificates) is null && c.Find("tls-ca-cert-file") is null && c.Find("tls-ca-cert-dir") is null)
                added.Add($"{ClientCertificates} no");
            steps.Add($"A TLS listener at port {port} is added.");
            newPorts.AddRange(c.Addresses.Select(a => (a, port)));
        }
        if (added.Count > 0)
            edits.Add(TextEdits.Append(files, c.Main, added));
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Endpoints(Load(would));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, asked))],
            newPorts,
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            after.Any(e => e.ClearText == true) ? ["Clients may go on without TLS; port 0 ends that when they are ready."] : []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

        void Set(string setting, string path)
        {
            if (c.Find(setting) is not { Words.Count: > 1 } there)
            {
                added.Add($"{setting} {ConfigurationWords.Quoted(path)}");
                steps.Add($"{setting} is added to {c.Main}.");
            }
            else if (there.Words[1].Value != ByteText.From(path))
            {
                edits.Add(new(there.Path, there.Words[1].Start, there.Words[1].End, ConfigurationWords.Quoted(path)));
                steps.Add($"{setting} ({there.Place}) points to the store.");
            }
        }
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        var there = c.Find(Port);
        var edit = there is { Words.Count: > 1 }
            ? new(there.Path, there.Words[1].Start, there.Words[1].End, "0")
            : TextEdits.Append(files, c.Main, [$"{Port} 0"]);
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"{Port} 0 ({there?.Place ?? c.Main}): the port without TLS is closed."],
            $"Programs that use port {c.Number(Port, UsualPort)} lose the server; replicas and sentinels too."
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        var c = Load(files);
        var written = $"\"{VersionWords.From(lowest)}\"";
        var edit = c.Find(Versions) is { Words.Count: > 1 } there
            ? new(there.Path, there.Words[1].Start, there.Words[^1].End, written)
            : TextEdits.Append(files, c.Main, [$"{Versions} {written}"]);
        return ChangeSet.RequiringTls(service, TextEdits.Apply([edit], files.Read), [$"{Versions} {written} ({edit.Path})."]);
    }

    /// <summary>It has no test of its own and reads its lines from above: what it says of a last line that no version knows shows that it took all before.</summary>
    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var (text, origins) = Load(files).Flat;
        if (instead is { } i)
            text = i.In(text);
        var account = Account;
        using var staged = StagedCopy.For(account, "redis.conf", $"{text}{NoSuchSetting} 1\n");
        var (code, output, error) = ServerProcess.Run(account?.Command(settings.Binary, staged.Path) ?? [settings.Binary, staged.Path]);
        var said = (output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (said.Any(l => l.Contains(NoSuchSetting, StringComparison.Ordinal)))
            return;
        var place = said.Select(LineOf).FirstOrDefault(n => n > 0);
        var where = place > 0 && place <= origins.Count ? $"{origins[place - 1].File} line {origins[place - 1].Line}: " : "";
        throw TestProblem.Of(
            "Redis",
            where + (said.LastOrDefault() ?? $"it ended with {code}"),
            files is HostFiles,
            $"redis-server {settings.Config}"
        );
    }

    private static int LineOf(string said)
    {
        const string Mark = "at line ";
        var at = said.IndexOf(Mark, StringComparison.Ordinal);
        return at >= 0 && int.TryParse(said[(at + Mark.Length)..], out var n) ? n : 0;
    }

    private string PidFile()
    {
        try
        {
            return Load(Files).Value("pidfile") ?? "/var/run/redis.pid";
        }
        catch (BeaconProblem)
        {
            return "/var/run/redis.pid";
        }
    }

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        if (!IsRunning())
            throw new BeaconProblem(ProblemCode.ServerDied, "Redis is not running.", "Start it, then try again.");
        var c = Load(Files);
        // All in one: it checks the pair as a whole, and keeps what it had when it does not like it.
        string[] command =
        [
            "CONFIG",
            "SET",
            Certificate,
            c.Value(Certificate) ?? "",
            Key,
            c.Value(Key) ?? "",
            ClientCertificates,
            c.Value(ClientCertificates) ?? "yes",
            Versions,
            c.Value(Versions) ?? "",
            TlsPort,
            c.Number(TlsPort, 0).ToString(),
        ];
        try
        {
            using var line = Open(c);
            var (isError, text) = line.Ask(command);
            _complaint = isError ? text : TakeUpPort(line, c.Number(Port, UsualPort).ToString());
        }
        catch (IOException e)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"Redis does not answer: {e.Message}.",
                "See that it runs, and that its socket or port is the one in its configuration.",
                e
            );
        }
    }

    /// <summary>Only where it is another one: versions before 7 cannot change it while they run.</summary>
    private static string? TakeUpPort(RedisLine line, string port) =>
        line.Setting(Port) != port && line.Ask("CONFIG", "SET", Port, port) is (true, var refused) ? refused : null;

    private static RedisLine Open(RedisConfiguration c)
    {
        var line = Connected(c);
        // Read from its own file each time, and kept nowhere.
        if (c.Value("requirepass") is { Length: > 0 } password && line.Ask("AUTH", password) is (true, var refused))
        {
            line.Dispose();
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"Redis refuses the password of its own configuration: {refused}.",
                "Start it with that configuration, or write the password that it has now into requirepass."
            );
        }
        return line;
    }

    /// <summary>By the first that it answers at: what stands in the file may not be taken up yet.</summary>
    private static RedisLine Connected(RedisConfiguration c)
    {
        var (plain, tls) = (c.Number(Port, UsualPort), c.Number(TlsPort, 0));
        if (c.Value("unixsocket") is { } socket)
            return RedisLine.Open(Socket(socket), tls: false);
        if (plain == 0)
            return RedisLine.Open(End(tls), tls: true);
        try
        {
            return RedisLine.Open(End(plain), tls: false);
        }
        catch (IOException) when (tls > 0)
        {
            return RedisLine.Open(End(tls), tls: true);
        }

        IPEndPoint End(int port) =>
            IPAddress.TryParse(c.Addresses[0], out var address) && port is > 0 and <= IPEndPoint.MaxPort
                ? new(address, port)
                : throw new IOException($"{c.Addresses[0]}:{port} is no address to connect to");
    }

    private static UnixDomainSocketEndPoint Socket(string path)
    {
        try
        {
            return new(ByteText.Show(path));
        }
        catch (ArgumentException e)
        {
            throw new IOException($"the path of its socket is not usable: {e.Message}", e);
        }
    }

    public bool IsSettled() => true;

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        string[] command = [settings.Binary, settings.Config, "--daemonize", "yes"];
        var (code, output, error) = ServerProcess.Run(Account?.Command(command) ?? command);
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Redis does not start: {(output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
    }

    public string? LastComplaint(DateTimeOffset since) => _complaint;
}
