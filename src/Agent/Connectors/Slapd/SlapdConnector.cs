using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Slapd;

/// <summary>
/// A real slapd that keeps its configuration in itself: read from the file that it writes through to, changed over its socket in one operation, which it takes up at once;
/// sessions go on. While it does not run, its own program changes it.
/// </summary>
internal sealed class SlapdConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions, ISettings
{
    private const string Program = "slapd",
        Entry = "cn=config",
        Certificate = "olcTLSCertificateFile",
        Key = "olcTLSCertificateKeyFile",
        Security = "olcSecurity",
        LocalStrength = "olcLocalSSF";
    private const string LowestVersion = "olcTLSProtocolMin",
        Ciphers = "olcTLSCipherSuite";
    private const int UsualPort = 389,
        UsualTlsPort = 636,
        RequiredStrength = 128;

    private static readonly TimeSpan StopsWithin = TimeSpan.FromSeconds(60);
    private IReadOnlyList<string> _listens = ["ldap:///", "ldapi:///"];

    public InstanceId Id => id;

    public bool HasSites => false;

    private ServerAccount? Account => ServerAccount.OwnerOf(settings.Config);

    public Needs Needs => new(StoreForm.Pair, Account);

    public IFiles Files => new SlapdFiles(new HostFiles(Account), settings.Config);

    public ISettings Settings => this;

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    private SlapdConfiguration Load(IFiles files) => SlapdConfiguration.Load(settings.Config, files);

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private FoundService Describe(SlapdConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names,
            Endpoints(c),
            [$"{c.Main}:{c.Find(Certificate)?.Line ?? 1}"],
            c.Value(Certificate) is { } file ? ByteText.Show(file) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    /// <summary>What it was started with; its own file says that, and nothing of it is run.</summary>
    private IReadOnlyList<string> Listens(SlapdConfiguration c)
    {
        var said = new HostFiles(Account).Find(c.Value("olcArgsFile") ?? "/run/slapd/slapd.args") ?? "";
        var urls = said.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries).Where(IsUrl).ToList();
        return _listens = urls.Count > 0 ? urls : _listens;
    }

    private static bool IsUrl(string word) =>
        word.Split("://", 2) is ["ldap" or "ldaps" or "ldapi", var rest]
        && rest.All(ch => char.IsAsciiLetterOrDigit(ch) || "%.:[]/_-*".Contains(ch, StringComparison.Ordinal));

    private static bool HasTls(SlapdConfiguration c) => c.Value(Certificate) is { Length: > 0 } && c.Value(Key) is { Length: > 0 };

    private List<EndpointInfo> Endpoints(SlapdConfiguration c)
    {
        var tls = HasTls(c);
        var found = new List<EndpointInfo>();
        foreach (var (isDirect, address, port) in Listens(c).Select(PlaceOf).OfType<(bool, string, int)>())
            // Without a certificate nobody gets through a direct listener.
            if (tls || !isDirect)
                found.Add(
                    new EndpointInfo(address, port, tls) { Protocol = isDirect ? ProbeProtocol.Tls : ProbeProtocol.Ldap }.Reads(
                        isDirect ? Exposed.Nothing : ReadableOf(c)
                    )
                );
        return found;
    }

    private static (bool IsDirect, string Address, int Port)? PlaceOf(string url)
    {
        var (scheme, rest) = (url[..url.IndexOf(':')], url[(url.IndexOf(':') + 3)..].Split('/')[0]);
        if (scheme == "ldapi")
            return null;
        var colon = rest.LastIndexOf(':') > rest.LastIndexOf(']') ? rest.LastIndexOf(':') : -1;
        var usual = scheme == "ldaps" ? UsualTlsPort : UsualPort;
        var port = colon >= 0 && int.TryParse(rest[(colon + 1)..], out var set) ? set : usual;
        return (scheme == "ldaps", Listening.Reachable(colon >= 0 ? rest[..colon] : rest), port);
    }

    /// <summary>Of an operation, a bind or all (slapd-config(5), olcSecurity): a demand on less than all leaves queries in the clear.</summary>
    private static IReadOnlyList<Readable> ReadableOf(SlapdConfiguration c)
    {
        var demands = c
            .Values.Where(v => v.Name.Equals(Security, StringComparison.OrdinalIgnoreCase))
            .SelectMany(v => v.Value.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            .Select(d => d.Split('=', 2))
            .Where(d => d.Length == 2 && int.TryParse(d[1], out var strength) && strength > 1)
            .Select(d => d[0].ToLowerInvariant())
            .ToList();
        if (demands.Exists(d => d is "ssf" or "tls" or "transport"))
            return Exposed.Nothing;
        if (demands.Contains("simple_bind"))
            return Exposed.Queries;
        return Exposed.QueriesAndLogins;
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        if (c.Values.FirstOrDefault(v => v.Name.StartsWith("olcTLSCertificate;", StringComparison.OrdinalIgnoreCase)) is { } inside)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"Its certificate stands in its configuration itself ({inside.Name}), a form that is not changed.",
                "Take that attribute out, then bind again."
            );
        var would = new Overlay(files);
        var steps = new List<string>();
        foreach (var (name, path) in new[] { (Certificate, change.Files.Certificates), (Key, change.Files.Key) })
        {
            var now = Load(would);
            if (now.Value(name) == ByteText.From(path))
                continue;
            steps.Add($"{name} of {Entry} {(now.Find(name) is null ? "is added" : "points to the store")}.");
            would.Add(TextEdits.Apply([now.Set(name, ByteText.From(path))], would.Read));
        }
        var after = Endpoints(Load(would));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            after.Exists(e => e.ClearText == true)
                ? [$"Clients may go on without TLS; {Security}: ssf={RequiredStrength} ends that when they are ready."]
                : []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var would = new Overlay(files);
        var c = Load(files);
        var demand = $"ssf={RequiredStrength}";
        Set(Security, c.Value(Security) is { Length: > 0 } other ? $"{other} {demand}" : demand);
        // Its own socket would be shut otherwise, and with it the way to change anything.
        if (!int.TryParse(c.Value(LocalStrength), out var local) || local < RequiredStrength)
            Set(LocalStrength, "256");
        return ChangeSet.RequiringTls(
            service,
            would.Edits,
            [
                $"{Security} of {Entry} demands {demand}: of every operation, also of those without a name.",
                $"{LocalStrength} lets its own socket go on.",
            ],
            "Clients that ask for no TLS are refused everything, also searches without a name."
        );

        void Set(string name, string value) => would.Add(TextEdits.Apply([Load(would).Set(name, value)], would.Read));
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        var c = Load(files);
        // By the numbers of the protocol: 3.3 is TLS 1.2 (RFC 5246, section 6.2.1). A slapd that was built with GnuTLS takes the setting and does not keep to it.
        var (name, value) = HasGnuTls()
            ? (Ciphers, VersionWords.Priorities(c.Value(Ciphers), lowest))
            : (LowestVersion, lowest == LowestTls.Tls13 ? "3.4" : "3.3");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([c.Set(name, value)], files.Read),
            [$"{name} of {Entry} becomes {value}: {VersionWords.From(lowest, " and ")}."],
            "Taken back, slapd gives it up by a restart alone: it is away for a moment then."
        );
    }

    /// <summary>By the libraries that the running server has loaded.</summary>
    private bool HasGnuTls()
    {
        var pid =
            ServerProcess.Find(PidFile(), Program)
            ?? throw new BeaconProblem(ProblemCode.ServerDied, "slapd is not running.", "Start it first.");
        return File.ReadLines($"/proc/{pid}/maps").Any(l => l.Contains("/libgnutls.so", StringComparison.Ordinal));
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = Load(files);
        var text = instead?.In(c.Text) ?? c.Text;
        var folder = Directory.CreateTempSubdirectory("beacon-check-").FullName;
        try
        {
            SafeFolder.LetThrough(folder);
            var staged = Path.Combine(folder, "slapd.d");
            ServerProcess.Run("cp", "-a", Path.GetFullPath(settings.Config), staged);
            var main = SlapdConfiguration.MainOf(staged);
            var raw = new HostFiles(Account).Read(c.Main);
            AtomicFiles.Replace(main, ByteText.Bytes(SlapdConfiguration.WithSettings(c.Main, raw, text)), Account?.User);
            var (code, output, error) = RunAsAccount(ProgramOf("slaptest"), "-u", "-F", staged);
            if (code == 0)
                return;
            var said = (output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
            throw TestProblem.Of(
                "slapd",
                $"{c.Main}: {said.FirstOrDefault() ?? $"it ended with {code}"}".Replace(staged, settings.Config, StringComparison.Ordinal),
                files is SlapdFiles,
                $"slaptest -u -F {settings.Config}"
            );
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private string ProgramOf(string name) => Path.Combine(Path.GetDirectoryName(settings.Binary) ?? "/usr/sbin", name);

    private (int Code, string Output, string Error) RunAsAccount(params string[] command) =>
        ServerProcess.Run(Account?.Command(command) ?? command);

    public bool Keeps(string path) => path == SlapdConfiguration.MainOf(settings.Config);

    /// <summary>
    /// Over its socket where that is possible. It gives up a certificate by a restart alone, and a demand that is taken away goes on until it was set to nothing.
    /// </summary>
    public void Write(string path, string text)
    {
        var now = Files.Read(path);
        var changes = SlapdConfiguration.Changes(now, text);
        if (changes.Count == 0)
            return;
        var running = ServerProcess.Find(PidFile(), Program);
        if (running is null || TakesRestart(changes))
        {
            var raw = new HostFiles(Account).Read(path);
            AtomicFiles.Replace(path, ByteText.Bytes(SlapdConfiguration.WithSettings(path, raw, text)), Account?.User);
            if (running is { } pid)
            {
                ServiceUnit.Restart(pid, Program, StopsWithin, Start);
                WaitUntilItListens();
            }
            return;
        }
        if (Lowered(now, text) is { } first)
            Modify([(Security, [first])]);
        Modify(changes);
    }

    private static bool TakesRestart(IReadOnlyList<(string Name, IReadOnlyList<string> Values)> changes) =>
        changes.Any(ch => ch.Values.Count == 0 && ch.Name.StartsWith("olcTLS", StringComparison.OrdinalIgnoreCase));

    /// <summary>The demands that shall be, and nothing for each that shall not; null when none goes.</summary>
    private static string? Lowered(string before, string after)
    {
        var (old, wanted) = (DemandsIn(before), DemandsIn(after));
        var gone = old.Select(NameOf).Except(wanted.Select(NameOf)).ToList();
        return gone.Count == 0 ? null : string.Join(' ', wanted.Concat(gone.Select(g => g + "=0")));

        static string NameOf(string demand) => demand.Split('=')[0];
    }

    private static List<string> DemandsIn(string text) =>
        [
            .. text.Split('\n')
                .Where(l => l.StartsWith(Security + ": ", StringComparison.OrdinalIgnoreCase))
                .SelectMany(l => l[(Security.Length + 2)..].Split(' ', StringSplitOptions.RemoveEmptyEntries)),
        ];

    public string? UnbindingWarning(ChangeSet removal) =>
        removal.Edits.Any(e => TakesRestart(SlapdConfiguration.Changes(e.Before ?? "", e.After ?? "")))
            ? "slapd gives up its certificate by a restart alone: it is away for a moment, and its sessions are cut off. Renewals need none."
            : null;

    private string SocketPath()
    {
        var socket = Listens(Load(Files)).FirstOrDefault(u => u.StartsWith("ldapi://", StringComparison.Ordinal));
        var path = Uri.UnescapeDataString(socket?["ldapi://".Length..].Split('/')[0] ?? "");
        return path.Length > 0 ? path : "/var/run/slapd/ldapi";
    }

    private void Modify(IReadOnlyList<(string Name, IReadOnlyList<string> Values)> changes)
    {
        try
        {
            using var line = new LdapSocket(SocketPath());
            if (line.Modify(Entry, changes) is { } refused)
                throw new BeaconProblem(
                    ProblemCode.SwapUndone,
                    $"slapd refuses to change {string.Join(", ", changes.Select(ch => ch.Name))}: {refused}.",
                    "See its log, and that it can read the files that are named."
                );
        }
        catch (IOException e)
        {
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The agent cannot change slapd's configuration over its socket: {e.Message}.",
                "Let slapd listen at ldapi:///, and let the agent's account manage cn=config: olcAccess to * by dn.exact=gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth manage.",
                e
            );
        }
    }

    private SlapdConfiguration? Current()
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

    private string PidFile() => Current()?.Value("olcPidFile") is { } file ? _pidFile = file : _pidFile;

    private string _pidFile = "/run/slapd/slapd.pid";

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    /// <summary>It writes down its process and lets its starter go before it takes clients; its own socket is where the next change is asked for.</summary>
    private void WaitUntilItListens()
    {
        ServerProcess.WaitUntilItListens(Pid);
        ServerProcess.WaitUntil(() => !IsRunning() || LdapSocket.IsOpen(SocketPath()));
    }

    /// <summary>It reads the files when they are named, also when they were named already.</summary>
    public void TakeUp()
    {
        if (!IsRunning())
            throw new BeaconProblem(ProblemCode.ServerDied, "slapd is not running.", "Start it, then try again.");
        var c = Load(Files);
        if (HasTls(c))
            Modify([(Certificate, [c.Value(Certificate)!]), (Key, [c.Value(Key)!])]);
    }

    public bool IsSettled() => true;

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        var listens = string.Join(' ', Current() is { } c ? Listens(c) : _listens);
        string[] command = [settings.Binary, "-F", settings.Config, "-h", listens];
        string[] account = Account is { } a ? ["-u", a.User.ToString(), "-g", a.Group.ToString()] : [];
        var (code, output, error) = ServerProcess.Run([.. command, .. account]);
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"slapd does not start: {(output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
        WaitUntilItListens();
    }

    public string? LastComplaint(DateTimeOffset since) => null;
}
