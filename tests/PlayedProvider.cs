namespace OrderlyBeacon.Testing;

/// <summary>A real identity provider behind a real web server, as a private instance; its partners are whoever is named.</summary>
internal sealed class PlayedProvider : IDisposable
{
    private static int _next = Environment.ProcessId % 200;
    private static readonly string Script = Path.Combine(Programs.Root, ".ci/provider.sh");
    private readonly string _folder = Directory.CreateTempSubdirectory("beacon-provider-").FullName;

    /// <param name="life">Seconds for which what it signs is good.</param>
    public PlayedProvider(int life = 300, params (string Entity, string Acs)[] partners)
    {
        Address = $"127.81.{Interlocked.Increment(ref _next) % 250}.1";
        File.SetUnixFileMode(
            _folder,
            File.GetUnixFileMode(_folder) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute | UnixFileMode.GroupRead
        );
        var (code, output, error) = Programs.Run(
            Script,
            ["start", Folder, Address, Port.ToString(), Name, .. partners.Select(p => $"{p.Entity}={p.Acs}")],
            environment: new Dictionary<string, string> { ["LIFE"] = life.ToString() }
        );
        Assert.True(code == 0, output + error);
        Assert.True(SpinWait.SpinUntil(() => Metadata() is not null, TimeSpan.FromSeconds(20)), "the provider does not answer");
    }

    public static string Name => "login.thistledown.example";
    public static string Entity => $"https://{Name}/provider";
    public string Folder => Path.Combine(_folder, "provider");
    public string Config => Path.Combine(Folder, "config");
    public string Hosted => Path.Combine(Folder, "metadata/saml20-idp-hosted.php");
    public string Log => Path.Combine(Folder, "log/access.log");
    public string Address { get; }
    public int Port { get; } = Ports.Free();
    public string MetadataUrl => $"https://{Name}:{Port}/saml/saml2/idp/metadata.php";

    /// <summary>As curl gets it; null when it does not.</summary>
    /// <param name="from">The address that it comes from.</param>
    public string? Metadata(string? from = null)
    {
        string[] source = from is null ? [] : ["--interface", from];
        var (code, output, _) = Programs.Run(
            "curl",
            ["-skf", "--max-time", "10", "--resolve", $"{Name}:{Port}:{Address}", .. source, MetadataUrl]
        );
        return code == 0 ? output : null;
    }

    public void Dispose()
    {
        Programs.Run(Script, ["stop", Folder]);
        for (var i = 0; i < 50 && File.Exists(Path.Combine(Folder, "php.pid")); i++)
            Thread.Sleep(100);
        Directory.Delete(_folder, recursive: true);
    }
}
