using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Tomcat;

/// <summary>
/// A real Tomcat. It wants a keystore, in which it finds its entry by its label, and a passphrase, which it reads from a file of the store. Without its manager it takes up a
/// certificate by a restart alone.
/// </summary>
internal sealed class TomcatConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "java",
        Bootstrap = "org.apache.catalina.startup.Bootstrap",
        UsualAccount = "tomcat";
    private const int UsualTlsPort = 8443;
    private static readonly TimeSpan StopsWithin = TimeSpan.FromSeconds(30),
        ComesWithin = TimeSpan.FromSeconds(60);
    private static readonly string[] GivenUp =
    [
        "certificateFile",
        "certificateKeyFile",
        "certificateChainFile",
        "certificateKeystorePassword",
        "certificateKeystoreProvider",
        "certificateKeyPassword",
        "certificateKeyPasswordFile",
        "type",
    ];

    public InstanceId Id => id;

    public bool HasSites => false;

    public Needs Needs => new(StoreForm.Keystore, Account());

    public IFiles Files { get; } = new HostFiles();

    public string CutsOff =>
        "Tomcat takes a certificate up by a restart alone: requests under way end, and its applications are away for as long as they take to start.";

    public string? UnbindingWarning(ChangeSet removal) => CutsOff;

    private TomcatConfiguration Load(IFiles files) => TomcatConfiguration.Load(settings.Config, files);

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    private string NameOf(TomcatService s) => $"{Id.Name} {s.Name}";

    /// <summary>
    /// The account that reads its keys: by its configuration, else the usual one. A process does not say it: anybody can start one that looks like a Tomcat.
    /// </summary>
    private ServerAccount? Account() =>
        settings.Account is { } named ? ServerAccount.Of(named) : ServerAccount.OwnerOf(settings.Config) ?? ServerAccount.Of(UsualAccount);

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() =>
        {
            var c = Load(files);
            return c.Services.Where(s => s.Ways.Count > 0).Select(s => Describe(s, c, files));
        });

    private FoundService Describe(TomcatService s, TomcatConfiguration c, IFiles files)
    {
        var used = s.Ways.Select(w => CertificateOf(w)).OfType<XmlElement>().FirstOrDefault();
        var file = used?.Value("certificateKeystoreFile") ?? used?.Value("certificateFile");
        return new(
            Id.Kind,
            NameOf(s),
            Names,
            Endpoints(s, c, files),
            [.. s.Ways.Select(w => c.PlaceOf(w.Element))],
            file is null ? null : ByteText.Show(c.Full(file)),
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    private static XmlElement? CertificateOf(TomcatWay way) =>
        way.IsTls && way.Default?.All("Certificate").ToList() is [var only] ? only : null;

    private static List<EndpointInfo> Endpoints(TomcatService s, TomcatConfiguration c, IFiles files)
    {
        var isSentOn = s.Rewriting is not null && files.Find(c.RulesOf(s))?.Contains(SendOn, StringComparison.Ordinal) == true;
        return
        [
            .. s.Ways.Select(w =>
                new EndpointInfo(Listening.Reachable(w.Address), w.Port, w.IsTls).ReadsIf(!w.IsTls && !isSentOn, Exposed.Pages)
            ),
        ];
    }

    private TomcatService One(string service, TomcatConfiguration c) =>
        c.Services.FirstOrDefault(s => NameOf(s) == service)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no service {service} in {c.Main}.", "See beacon service list.");

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        var service = One(change.Service, c);
        var (edits, steps, newPorts) = (new List<TextEdit>(), new List<string>(), new List<(string, int)>());
        var wanted = Wanted(change.Files);
        var secured = service.Ways.Where(w => w.IsTls).ToList();
        foreach (var way in secured)
            Change(way, wanted, c, edits, steps);
        if (secured.Count == 0)
        {
            var (line, address, port) = NewWay(service, wanted, change.Port ?? UsualTlsPort, c);
            edits.Add(line);
            newPorts.Add((Listening.Reachable(address), port));
            steps.Add($"A connector with TLS at port {port} is added to the service {service.Name}.");
        }
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var (then, asked) = (Load(would), change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host);
        var after = Endpoints(One(change.Service, then), then, would);
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, asked))],
            newPorts,
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            [.. after.Where(e => e.ClearText == true).Select(e => $"Clients may go on without TLS at {e.Address}:{e.Port}.")]
        )
        {
            NamesAreAssumed = settings.Names is null,
        };
    }

    private static (string Name, string Value)[] Wanted(UsedFiles used) =>
        [
            ("certificateKeystoreFile", ByteText.From(used.Certificates)),
            ("certificateKeystorePasswordFile", ByteText.From(StoreFiles.PassphraseBeside(used.Certificates))),
            ("certificateKeystoreType", "PKCS12"),
            ("certificateKeyAlias", StoreFiles.KeystoreLabel),
        ];

    private static void Change(
        TomcatWay way,
        (string Name, string Value)[] wanted,
        TomcatConfiguration c,
        List<TextEdit> edits,
        List<string> steps
    )
    {
        if (CertificateOf(way) is not { } certificate)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{c.PlaceOf(way.Element)}: the connector at port {way.Port} has {(way.Default is null ? "no SSLHostConfig for clients that name none" : "none, or several, certificates in its SSLHostConfig")}: which is meant is not clear.",
                "Give it one SSLHostConfig with one Certificate; then bind again."
            );
        var (before, last) = (
            edits.Count,
            certificate.Attributes.Count > 0 ? certificate.Attributes[^1].End : certificate.Start + "<Certificate".Length
        );
        foreach (var (name, value) in wanted)
            if (certificate.Find(name) is not { } there)
                edits.Add(new(c.Main, last, last, $" {name}=\"{XmlText.Quoted(value)}\""));
            else if (there.Value != value)
                edits.Add(new(c.Main, there.ValueStart, there.ValueEnd, XmlText.Quoted(value)));
        foreach (var name in GivenUp)
            if (certificate.Find(name) is { } old)
                edits.Add(new(c.Main, old.Start, old.End, ""));
        if (edits.Count > before)
            steps.Add($"The certificate of the connector at port {way.Port} ({c.PlaceOf(certificate)}) points to the store.");
    }

    private static (TextEdit Edit, string Address, int Port) NewWay(
        TomcatService service,
        (string Name, string Value)[] wanted,
        int port,
        TomcatConfiguration c
    )
    {
        var beside = service.Ways[0];
        var lineStart = c.Text.LastIndexOf('\n', beside.Element.Start) + 1;
        var indent = c.Text[lineStart..beside.Element.Start];
        if (!indent.All(char.IsWhiteSpace))
            indent = "";
        var newLine = ByteText.NewLineOf(c.Text);
        var address = beside.Element.Find("address") is { } a ? $" address=\"{c.Text[a.ValueStart..a.ValueEnd]}\"" : "";
        var attributes = string.Concat(wanted.Select(w => $" {w.Name}=\"{XmlText.Quoted(w.Value)}\""));
        var lines =
            $"{newLine}{indent}<Connector port=\"{port}\"{address} protocol=\"HTTP/1.1\" SSLEnabled=\"true\" scheme=\"https\" secure=\"true\">"
            + $"{newLine}{indent}    <SSLHostConfig>{newLine}{indent}        <Certificate{attributes} />"
            + $"{newLine}{indent}    </SSLHostConfig>{newLine}{indent}</Connector>";
        return (new(c.Main, beside.Element.End, beside.Element.End, lines), beside.Address, port);
    }

    private const string SendOn = "RewriteCond %{HTTPS} =off";

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        var s = One(service, c);
        if (s.Rewriting is { } theirs)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{c.PlaceOf(theirs)}: the engine has rules of its own for where requests go.",
                "Add to them by hand what sends clients without TLS to the other port."
            );
        var engine =
            s.Engine
            ?? throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{c.Main}: the service {s.Name} has no Engine.",
                "Correct it first."
            );
        var rules = c.RulesOf(s);
        if (files.Find(rules) is not null)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{rules} is there already, though no rule is read.",
                "Move it away; then order it again."
            );
        var folder = Path.GetDirectoryName(rules)!;
        if (!files.FoldersIn(Path.GetDirectoryName(folder)!).Contains(folder))
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{folder}, where its rules belong, is not there: Tomcat makes it when it starts.",
                "Start Tomcat once with this configuration; then order it again."
            );
        var port = s.Ways.First(w => w.IsTls).Port;
        var to = port == 443 ? "" : $":{port}";
        var newLine = ByteText.NewLineOf(c.Text);
        var lineStart = c.Text.LastIndexOf('\n', engine.Start) + 1;
        var valve = $"{newLine}{c.Text[lineStart..engine.Start]}  <Valve className=\"{TomcatConfiguration.RewriteValve}\" />";
        var text = $"# Clients without TLS are sent to it.\n{SendOn}\nRewriteRule ^(.*)$ https://%{{SERVER_NAME}}{to}$1 [R=301,L]\n";
        List<FileEdit> edits = [.. TextEdits.Apply([new(c.Main, engine.TagEnd, engine.TagEnd, valve)], files.Read), new(rules, null, text)];
        return ChangeSet.RequiringTls(service, edits, [$"Clients without TLS are sent to port {port}."], CutsOff);
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "protocols";
        var c = Load(files);
        var (edits, steps) = (new List<TextEdit>(), new List<string>());
        foreach (var way in One(service, c).Ways.Where(w => w.IsTls))
        foreach (var site in way.Element.All("SSLHostConfig"))
        {
            var (value, end) = (VersionWords.From(lowest, ","), site.Start + "<SSLHostConfig".Length);
            edits.Add(
                site.Find(Setting) is { } there
                    ? new(c.Main, there.ValueStart, there.ValueEnd, value)
                    : new(c.Main, end, end, $" {Setting}=\"{value}\"")
            );
            steps.Add($"The connector at port {way.Port} ({c.PlaceOf(site)}) gets {Setting}=\"{value}\".");
        }
        return ChangeSet.RequiringTls(service, TextEdits.Apply(edits, files.Read), steps, CutsOff);
    }

    // It has no test of its own that does not open its ports.
    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var c = Load(files);
        foreach (var way in c.Services.SelectMany(s => s.Ways).Where(w => w.IsTls && !w.Element.All("SSLHostConfig").Any()))
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{c.PlaceOf(way.Element)}: the connector at port {way.Port} has SSLEnabled and no SSLHostConfig: Tomcat does not open it.",
                "Correct it first; nothing was changed."
            );
    }

    /// <summary>The Java that runs this Tomcat: it is told its folder at its start.</summary>
    internal int? Pid()
    {
        var wanted = $"-Dcatalina.base={Path.GetDirectoryName(Path.GetDirectoryName(Path.GetFullPath(settings.Config))!)}";
        return ServerProcess
            .All()
            .Where(p => ServerProcess.Living(p) is { Program: Program } && Words(p) is { } w && w.Contains(Bootstrap) && w.Contains(wanted))
            .Where(IsTrusted)
            .Cast<int?>()
            .FirstOrDefault();
    }

    /// <summary>Root's, the agent's own, or that of the account that reads its keys: what another account calls so is not asked.</summary>
    private bool IsTrusted(int pid)
    {
        if (SafeFolder.OwnerOf($"/proc/{pid}") is not { } owner)
            return false;
        return owner.User == 0 || owner.User == SafeFolder.OwnerOf("/proc/self")?.User || owner.User == Account()?.User;
    }

    private static string[]? Words(int pid)
    {
        try
        {
            return File.ReadAllText($"/proc/{pid}/cmdline").Split('\0');
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "Tomcat is not running.", "Start it, then try again.");
        ServiceUnit.Restart(pid, "Tomcat", StopsWithin, Start);
        WaitUntilItListens();
    }

    public bool IsSettled() => true;

    public void Start()
    {
        var at = Path.GetDirectoryName(Path.GetDirectoryName(Path.GetFullPath(settings.Config))!)!;
        string[] command =
        [
            "env",
            $"CATALINA_BASE={at}",
            $"CATALINA_HOME={Path.GetDirectoryName(Path.GetDirectoryName(settings.Binary))}",
            "sh",
            settings.Binary,
            "start",
        ];
        var (code, output, error) = ServerProcess.Run(Account() is { } account ? account.Command(command) : command);
        if (code == 0)
            ServerProcess.WaitUntil(IsRunning);
        WaitUntilItListens();
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Tomcat does not start{(code == 0 ? "" : ": " + (error + output).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault())}.",
                $"Look into {at}/logs and start it by hand."
            );
    }

    /// <summary>A connector that cannot be opened does not keep the others from it: those that come are waited for, and looked at afterwards.</summary>
    private void WaitUntilItListens()
    {
        var until = DateTime.UtcNow + ComesWithin;
        while (DateTime.UtcNow < until && Pid() is { } pid && !ServerProcess.Listens(pid))
            Thread.Sleep(100);
        // It opens one after the other.
        Thread.Sleep(300);
        WaitUntilItGreets(until);
    }

    /// <summary>The first handshake loads half of what it needs for all of them: whoever comes later, a look of ours among them, does not wait for that.</summary>
    private void WaitUntilItGreets(DateTime until)
    {
        var doors = Instances.Discover(this).Services.SelectMany(s => s.Endpoints).Where(e => e.Tls).Distinct();
        foreach (var e in doors)
        {
            var probe = new Probe(e.Address, e.Port, settings.Host, e.Protocol);
            while (DateTime.UtcNow < until && IsRunning())
                if (!TlsProbe.RanOutOfTime(TlsProbe.LookAsync(probe, TimeProvider.System, CancellationToken.None).GetAwaiter().GetResult()))
                    break;
        }
    }

    // What it has to say stands in several logs, in words of its own.
    public string? LastComplaint(DateTimeOffset since) => null;
}
