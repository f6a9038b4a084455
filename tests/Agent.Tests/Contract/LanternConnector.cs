using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>A connector for the made-up server in <c>tests/Lantern</c>: the recipe of docs/connectors.md, followed to the letter.</summary>
internal sealed class LanternConnector(InstanceId id, ConnectorSettings settings) : IConnector
{
    private const string Program = "lantern";

    public InstanceId Id => id;

    public bool HasSites => false;

    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    // 1 · read
    private sealed record Setting(string Name, string Value, int Start, int End, int Line);

    private List<Setting> Read(IFiles files)
    {
        var (found, at, number) = (new List<Setting>(), 0, 0);
        foreach (var line in files.Read(settings.Config).Split('\n'))
        {
            number++;
            if (line.Length > 0 && line[0] != '#')
            {
                var blank = line.IndexOf(' ');
                if (blank < 0)
                    throw new BeaconProblem(
                        ProblemCode.ConfigurationBroken,
                        $"{settings.Config}, line {number}: a line has no value.",
                        "Correct the file."
                    );
                found.Add(new(line[..blank], line[(blank + 1)..], at + blank + 1, at + line.Length, number));
            }
            at += line.Length + 1;
        }
        return found;
    }

    private static string? Value(List<Setting> all, string name) => all.LastOrDefault(s => s.Name == name)?.Value;

    private FoundService Describe(List<Setting> all) =>
        new(
            Id.Kind,
            Id.Name,
            [Value(all, "name") ?? settings.Host],
            [EndpointOf(all)],
            [settings.Config],
            Value(all, "certificate"),
            null,
            []
        );

    private static EndpointInfo EndpointOf(List<Setting> all)
    {
        var listen = Value(all, "listen")!.Split(':');
        var tls = Value(all, "certificate") is not null;
        return new(listen[0], int.Parse(listen[1]), tls) { ClearText = !tls };
    }

    public Discovery Discover(IFiles files)
    {
        try
        {
            return new([Describe(Read(files))], null);
        }
        catch (BeaconProblem p)
        {
            return new([], p);
        }
    }

    // 2 · plan
    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var (all, text) = (Read(files), files.Read(settings.Config));
        var edits = new List<TextEdit>();
        foreach (var (name, value) in new[] { ("certificate", change.Files.Certificates), ("key", change.Files.Key) })
            if (all.LastOrDefault(s => s.Name == name) is not { } there)
                edits.Add(new(settings.Config, text.Length, text.Length, $"{name} {ByteText.From(value)}\n"));
            else if (there.Value != ByteText.From(value))
                edits.Add(new(settings.Config, there.Start, there.End, ByteText.From(value)));
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var endpoint = EndpointOf(Read(would));
        var found = Describe(all);
        return new(
            change.Service,
            found.Names,
            would.Edits,
            [new Probe(endpoint.Address, endpoint.Port, found.Names[0])],
            [],
            [$"{settings.Config} names the store's files."],
            []
        );
    }

    // 3 · control
    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var staged = settings.Config + ".check";
        var text = files.Read(settings.Config);
        AtomicFiles.Write(staged, ByteText.Bytes(instead?.In(text) ?? text), isPrivate: true);
        try
        {
            var (code, _, error) = ServerProcess.Run(settings.Binary, "-t", staged);
            if (code != 0)
                throw TestProblem.Of("lantern", error.Trim().Replace(staged, settings.Config), ReferenceEquals(files, Files), "lantern -t");
        }
        finally
        {
            File.Delete(staged);
        }
    }

    private string PidFile() => Path.Combine(Path.GetDirectoryName(Path.GetDirectoryName(settings.Config))!, "lantern.pid");

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp() =>
        ServerProcess.Signal(
            Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "lantern is not running.", "Start it, then try again."),
            ServerProcess.SigHup,
            Program
        );

    public bool IsSettled() => true;

    public void Start()
    {
        Test(Files);
        ServerProcess.Run("sh", "-c", $"{settings.Binary} {settings.Config} >/dev/null 2>&1 </dev/null &");
        ServerProcess.WaitUntil(IsRunning);
    }

    public string? LastComplaint(DateTimeOffset since) => null;
}

/// <summary>The made-up server as a private instance.</summary>
internal sealed class LanternServer : RealServer
{
    private const int Port = 9443;
    private static readonly string Binary = Path.Combine(Programs.Root, "tests/Lantern/bin", Built, "net10.0/lantern");

    /// <summary>As these tests were.</summary>
    private static string Built => new DirectoryInfo(AppContext.BaseDirectory.TrimEnd('/')).Parent!.Name;

    public LanternServer()
    {
        Directory.CreateDirectory(ConfigFolder);
        Connector = new LanternConnector(new("lantern", "lantern", MainFile), new("lantern", Binary, MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "lantern";
    public override string Name => "lamp.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "lantern.conf");
    public override string BrokenLine => "shine brightly";
    public override int Pid => int.Parse(File.ReadAllText(Path.Combine(Folder, "lantern.pid")));

    public override void Configure((string Certificate, string Key)? foreign) =>
        File.WriteAllText(
            MainFile,
            $"listen {Address}:{Port}\nprocess {Folder}/lantern.pid\nname {Name}\n"
                + (foreign is { } f ? $"certificate {f.Certificate}\nkey {f.Key}\n" : "")
        );

    public override void Start() => Connector.Start();

    public override void Stop()
    {
        if (Connector.IsRunning())
            ServerProcess.TrySignal(Pid, ServerProcess.SigKill);
    }

    public override Task<IConversation> TalkAsync() => LineConversation.OpenAsync(Address, Port, true, [], "light", "lit");
}

public sealed class LanternContractTests() : ContractTests(() => new LanternServer());
