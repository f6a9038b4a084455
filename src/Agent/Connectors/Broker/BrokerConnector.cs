using System.Net;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Broker;

/// <summary>
/// A desktop broker, of which there is a stand-in: it takes the entry of a keystore that carries its label, wants a key that may leave, and keeps what it has until its gateway
/// starts again.
/// </summary>
internal sealed class BrokerConnector(InstanceId id, ConnectorSettings settings) : IConnector
{
    private const string Keystore = "keystore",
        Passphrase = "passphrase-file",
        Label = "label",
        UsualLabel = "broker";
    private readonly LogTail _log = new();
    private HashSet<int> _earlierGateways = [];

    public InstanceId Id => id;

    public bool HasSites => false;

    public Needs Needs => new(StoreForm.Keystore, Account) { Label = OwnLabel(), IsReleased = true };

    private ServerAccount? Account => ServerAccount.OwnerOf(settings.Config);

    public IFiles Files { get; } = new HostFiles();

    public string CutsOff => "The broker takes a certificate up when its gateway starts again: sessions that go through it break off.";

    public string? UnbindingWarning(ChangeSet removal) => CutsOff;

    private BrokerConfiguration Load(IFiles files) => BrokerConfiguration.Load(settings.Config, files);

    private string OwnLabel()
    {
        try
        {
            return Load(Files).Value(Label) ?? UsualLabel;
        }
        catch (BeaconProblem)
        {
            return UsualLabel;
        }
    }

    private IReadOnlyList<string> Names(BrokerConfiguration c) => settings.Names ?? [c.Value("name") ?? settings.Host];

    private bool AreAssumed(BrokerConfiguration c) => settings.Names is null && c.Value("name") is null;

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private FoundService Describe(BrokerConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names(c),
            Endpoints(c),
            [c.Find(Keystore) is { } line ? c.PlaceOf(line) : c.Main],
            c.Value(Keystore) is { } file ? ByteText.Show(file) : null,
            null,
            []
        )
        {
            NamesAreAssumed = AreAssumed(c),
        };

    private static List<EndpointInfo> Endpoints(BrokerConfiguration c)
    {
        if (!IPEndPoint.TryParse(c.Value("listen") ?? "", out var at) || at.Port == 0)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{(c.Find("listen") is { } line ? c.PlaceOf(line) : c.Main)}: listen is no address with a port.",
                "Write it as 192.0.2.7:443."
            );
        var tls = c.Value(Keystore) is not null;
        return [new EndpointInfo(Listening.Reachable(at.Address.ToString()), at.Port, tls).ReadsIf(!tls, Exposed.Pages)];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        var (edits, steps, added) = (new List<TextEdit>(), new List<string>(), new List<string>());
        foreach (
            var (name, value) in new[]
            {
                (Keystore, ByteText.From(change.Files.Certificates)),
                (Passphrase, ByteText.From(StoreFiles.PassphraseBeside(change.Files.Certificates))),
            }
        )
            if (c.Find(name) is not { } there)
                added.Add($"{name} = {value}");
            else if (there.Value != value)
                edits.Add(new(c.Main, there.ValueStart, there.End, there.Value.Length == 0 ? " " + value : value));
        if (added.Count > 0)
            edits.Add(TextEdits.Append(files, c.Main, added));
        if (edits.Count > 0)
            steps.Add($"It takes its entry, \"{c.Value(Label) ?? UsualLabel}\", from the store's keystore.");
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : Names(c)[0];
        return new(
            change.Service,
            Names(c),
            would.Edits,
            [.. Endpoints(Load(would)).Select(e => new Probe(e.Address, e.Port, asked))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            [.. HoldersNow(c, files)]
        )
        {
            NamesAreAssumed = AreAssumed(c),
        };
    }

    /// <summary>What is odd about who carries its label now, in the keystore that it reads.</summary>
    private static IEnumerable<string> HoldersNow(BrokerConfiguration c, IFiles files)
    {
        if (c.Value(Keystore) is not { } path || c.Value(Passphrase) is not { } beside)
            yield break;
        var (label, keystore) = (c.Value(Label) ?? UsualLabel, files.Find(ByteText.Show(path)));
        var passphrase = files.Find(ByteText.Show(beside))?.Trim();
        if (keystore is null || passphrase is null)
            yield break;
        var holders = KeystoreLabels.Holders(ByteText.Bytes(keystore), passphrase, label);
        if (holders is > 1)
            yield return $"{holders} entries of {ByteText.Show(path)} carry the label \"{label}\": the broker takes none of them.";
        else if (holders is 0)
            yield return $"No entry of {ByteText.Show(path)} carries the label \"{label}\".";
        else if (holders is null)
            yield return $"{ByteText.Show(path)} cannot be opened with the passphrase in {ByteText.Show(beside)}.";
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var text = Load(files).Text;
        using var staged = StagedCopy.Beside(settings.Config, instead is { } i ? i.In(text) : text);
        var (code, output, error) = ServerProcess.Run(settings.Binary, "broker", "--config", staged.Path, "--test");
        if (code == 0)
            return;
        var complaint = (error + output).Split('\n', StringSplitOptions.RemoveEmptyEntries).FirstOrDefault() ?? $"it ended with {code}";
        throw TestProblem.Of(
            "The broker",
            complaint.Replace(staged.Path, Path.GetFullPath(settings.Config), StringComparison.Ordinal),
            ReferenceEquals(files, Files),
            $"{settings.Binary} broker --config {settings.Config} --test"
        );
    }

    // A program's name as the kernel keeps it.
    private string Program => Path.GetFileName(settings.Binary) is { Length: > 15 } name ? name[..15] : Path.GetFileName(settings.Binary);

    private string PidFile()
    {
        try
        {
            return _pidFile = Load(Files).Value("pid-file") ?? _pidFile;
        }
        catch (BeaconProblem)
        {
            return _pidFile;
        }
    }

    private string _pidFile = "/run/broker.pid";

    internal int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "The broker is not running.", "Start it, then try again.");
        _log.Mark(Load(Files).Value("log-file"));
        _earlierGateways = ServerProcess.ChildrenOf(pid, Program);
        foreach (var gateway in _earlierGateways)
            ServerProcess.Signal(gateway, ServerProcess.SigTerm, "the broker's gateway");
        ServerProcess.WaitUntil(IsSettled);
    }

    public bool IsSettled() =>
        Pid() is not { } pid
        || !_earlierGateways.Any(g => ServerProcess.Living(g) is not null)
            && ServerProcess.ChildrenOf(pid, Program).Except(_earlierGateways).Any(ServerProcess.Listens);

    public void Start()
    {
        if (ServerProcess.InFile(PidFile()) is { } before)
            ServerProcess.WaitUntil(() => !ServerProcess.All().Any(p => ServerProcess.Living(p)?.Group == before));
        ServerProcess.ForgetEnded(PidFile());
        string[] command =
        [
            "sh",
            "-c",
            "setsid \"$0\" broker --config \"$1\" </dev/null >/dev/null 2>&1 &",
            settings.Binary,
            Path.GetFullPath(settings.Config),
        ];
        ServerProcess.Run(Account is { } account ? account.Command(command) : command);
        ServerProcess.WaitUntil(() => Pid() is { } pid && ServerProcess.ChildrenOf(pid, Program).Any(ServerProcess.Listens));
        if (!IsRunning())
            throw new BeaconProblem(ProblemCode.ServerDied, "The broker does not start.", "Look into its log and start it by hand.");
    }

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines().FirstOrDefault(l => l.StartsWith("gateway:", StringComparison.Ordinal));
}
