using System.Net;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Samba;

/// <summary>
/// A real Samba as domain controller: its directory by LDAP. It reads its certificate at its start alone, and wants its key for root and nobody else.
/// </summary>
internal sealed class SambaConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "samba",
        Tester = "/usr/bin/testparm",
        Enabled = "tls enabled",
        Certificate = "tls certfile",
        Key = "tls keyfile",
        Authorities = "tls cafile",
        StrongBinds = "ldap server require strong auth";
    private static readonly (int Port, ProbeProtocol Protocol)[] Ways =
    [
        (389, ProbeProtocol.Ldap),
        (636, ProbeProtocol.Tls),
        (3268, ProbeProtocol.Ldap),
        (3269, ProbeProtocol.Tls),
    ];
    private static readonly TimeSpan StopsWithin = TimeSpan.FromSeconds(30);

    public InstanceId Id => id;

    public bool HasSites => false;

    // It refuses a key that any other account could read.
    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    public string CutsOff =>
        "Samba takes a certificate up by a restart alone: for about a second the domain has no directory and no tickets from this controller.";

    public string? UnbindingWarning(ChangeSet removal) => CutsOff;

    private SambaConfiguration Load(IFiles files) => SambaConfiguration.Load(settings.Config, files);

    /// <summary>What clients of the domain call the controller.</summary>
    private static string? NameIn(SambaConfiguration c) =>
        c.Value("netbios name") is { } name && c.Value("realm") is { } realm ? $"{name}.{realm}".ToLowerInvariant() : null;

    private IReadOnlyList<string> Names(SambaConfiguration c) => settings.Names ?? [NameIn(c) ?? settings.Host];

    private bool AreAssumed(SambaConfiguration c) => settings.Names is null && NameIn(c) is null;

    public Discovery Discover(IFiles files) =>
        Discovery.Of(() =>
        {
            var c = Load(files);
            return IsController(c) ? [Describe(c)] : [];
        });

    // A file server has no directory of its own.
    private static bool IsController(SambaConfiguration c) =>
        c.Value("server role")?.Contains("domain controller", StringComparison.OrdinalIgnoreCase) == true
        || c.Value("server role")?.Trim().Equals("dc", StringComparison.OrdinalIgnoreCase) == true;

    private static bool HasTls(SambaConfiguration c) => c.IsOn(Enabled, true);

    private FoundService Describe(SambaConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names(c),
            Endpoints(c),
            [c.Find(Certificate) is { } line ? c.PlaceOf(line) : c.Main],
            HasTls(c) ? ByteText.Show(c.Private(c.Value(Certificate) ?? "tls/cert.pem")) : null,
            null,
            []
        )
        {
            NamesAreAssumed = AreAssumed(c),
        };

    private static List<EndpointInfo> Endpoints(SambaConfiguration c)
    {
        var tls = HasTls(c);
        // Where a bind has to be signed, sealed or by TLS, everybody is told the root entry and nothing else ([MS-ADTS], section 3.1.1.3.2).
        var isClear = c.Value(StrongBinds)?.ToLowerInvariant() is "no" or "false" or "0" or "off";
        return
        [
            .. AddressesOf(c)
                .SelectMany(a =>
                    Ways.Where(w => tls || w.Protocol == ProbeProtocol.Ldap)
                        .Select(w =>
                            new EndpointInfo(a, w.Port, tls) { Protocol = w.Protocol }.ReadsIf(
                                w.Protocol == ProbeProtocol.Ldap && isClear,
                                Exposed.QueriesAndLogins
                            )
                        )
                ),
        ];
    }

    /// <summary>Interfaces that are named by their addresses; a name of one says nothing here.</summary>
    private static IReadOnlyList<string> AddressesOf(SambaConfiguration c)
    {
        var named = (c.Value("interfaces") ?? "")
            .Split([' ', '\t', ','], StringSplitOptions.RemoveEmptyEntries)
            .Select(t => t.Split('/')[0])
            .Where(t => IPAddress.TryParse(t, out _))
            .ToList();
        return c.IsOn("bind interfaces only", false) && named.Count > 0 ? named : ["127.0.0.1"];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var plan = new Plan(c);
        if (!HasTls(c))
            plan.Set(Enabled, "yes", "is switched on");
        plan.Set(Certificate, ByteText.From(change.Files.Certificates), "points to the store");
        plan.Set(Key, ByteText.From(change.Files.Key), "points to the store");
        // The chain goes along with the certificate; authorities that are named and not there would keep TLS off.
        if (c.Find(Authorities) is null)
            plan.Set(Authorities, "", "names none: the chain goes along with the certificate");
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(plan.Edits, files.Read));
        var then = Load(would);
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : Names(c)[0];
        return new(
            change.Service,
            Names(c),
            would.Edits,
            [.. Endpoints(then).Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            plan.Steps.Count > 0 ? plan.Steps : ["The configuration names the certificate already; nothing in it changes."],
            Endpoints(then).Any(e => e.ClearText == true) ? ["Clients may go on without TLS."] : []
        )
        {
            NamesAreAssumed = AreAssumed(c),
        };
    }

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var plan = new Plan(c);
        plan.Set(StrongBinds, "allow_sasl_over_tls", "refuses logins that are neither by TLS nor signed");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(plan.Edits, files.Read),
            plan.Steps,
            "Clients that have no TLS switched on, and do not sign, cannot log in any more.",
            CutsOff
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "tls priority";
        var c = Load(files);
        ThrowIfUnclear(c);
        var plan = new Plan(c);
        plan.Set(Setting, VersionWords.Priorities(c.Value(Setting), lowest), $"leaves {VersionWords.From(lowest, " and ")}");
        return ChangeSet.RequiringTls(service, TextEdits.Apply(plan.Edits, files.Read), plan.Steps, CutsOff);
    }

    /// <summary>Settings that become something else: in their own line, else in a new one below [global].</summary>
    private sealed class Plan(SambaConfiguration c)
    {
        public List<TextEdit> Edits { get; } = [];
        public List<string> Steps { get; } = [];

        public void Set(string name, string value, string how)
        {
            if (c.Find(name) is not { } there)
            {
                var below = c.GlobalEnd!.Value;
                Edits.Add(new(c.Main, below, below, $"{ByteText.NewLineOf(c.Text)}\t{name} = {value}".TrimEnd()));
                Steps.Add($"{name} is added to {c.Main}: it {how}.");
            }
            else if (there.Value != value)
            {
                Edits.Add(new(c.Main, there.ValueStart, there.End, there.Value.Length == 0 ? " " + value : value));
                Steps.Add($"{name} ({c.PlaceOf(there)}) {how}.");
            }
        }
    }

    private static void ThrowIfUnclear(SambaConfiguration c)
    {
        foreach (var elsewhere in new[] { "include", "config file", "copy" })
            if (c.Find(elsewhere) is { } line)
                throw Unclear(
                    $"{c.PlaceOf(line)}: settings come from elsewhere too ({elsewhere}).",
                    "Write those of TLS into this file, then take the line out."
                );
        if (c.Value("config backend")?.Equals("registry", StringComparison.OrdinalIgnoreCase) == true)
            throw Unclear($"{c.Main}: its settings are in Samba's registry.", "Bind it by hand: net conf setparm global …");
        if (c.GlobalEnd is null)
            throw Unclear($"{c.Main} has no section [global].", "Write one at its beginning.");
    }

    private static BeaconProblem Unclear(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var text = Load(files).Text;
        using var staged = StagedCopy.Beside(settings.Config, instead is { } i ? i.In(text) : text);
        var (code, _, error) = ServerProcess.Run(Tester, "-s", staged.Path);
        if (code == 0)
            return;
        var complaint =
            error
                .Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                .FirstOrDefault(l => !l.StartsWith("Load smb config", StringComparison.Ordinal))
            ?? $"it ended with {code}";
        throw TestProblem.Of(
            "Samba",
            complaint.Replace(staged.Path, Path.GetFullPath(settings.Config), StringComparison.Ordinal),
            ReferenceEquals(files, Files),
            $"testparm -s {settings.Config}"
        );
    }

    private string PidFile()
    {
        try
        {
            return Path.Combine(Load(Files).Value("pid directory") ?? "/run/samba", "samba.pid");
        }
        catch (BeaconProblem)
        {
            return _pidFile;
        }
    }

    // Where it was last said to be: a configuration that somebody broke meanwhile does not end the server.
    private string _pidFile = "/run/samba/samba.pid";

    internal int? Pid()
    {
        _pidFile = PidFile();
        return ServerProcess.Find(_pidFile, Program);
    }

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "Samba is not running.", "Start it, then try again.");
        ServiceUnit.Restart(pid, "Samba", StopsWithin, Start);
        WaitUntilItListens();
    }

    public bool IsSettled() => true;

    public void Start()
    {
        // Its parts end a moment after it; as long as they hold its ports, it cannot start beside them.
        if (ServerProcess.InFile(PidFile()) is { } before)
            ServerProcess.WaitUntil(() => !PartsOf(before).Any());
        ServerProcess.ForgetEnded(PidFile());
        var (code, output, error) = ServerProcess.Run(settings.Binary, "-D", "-s", Path.GetFullPath(settings.Config));
        if (code == 0)
        {
            ServerProcess.WaitUntil(IsRunning);
            WaitUntilItListens();
        }
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"Samba does not start: {(output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}"}.",
                "Look into its log and start it by hand."
            );
    }

    // Its parts are in its process group, and listen in its place.
    private static IEnumerable<int> PartsOf(int master) => ServerProcess.All().Where(p => ServerProcess.Living(p)?.Group == master);

    private void WaitUntilItListens() => ServerProcess.WaitUntil(() => Pid() is not { } pid || PartsOf(pid).Any(ServerProcess.Listens));

    public string? LastComplaint(DateTimeOffset since) => null;
}
