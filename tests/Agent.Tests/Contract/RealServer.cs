using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Where the judge looks.</summary>
/// <param name="StartTls">As openssl names the protocol; null when TLS begins at once.</param>
internal sealed record Door(int Port, string? StartTls);

/// <summary>
/// A real server as a private instance, for the contract suite: it starts without TLS, or with a certificate of somebody else. One small class for each kind proves its connector.
/// </summary>
internal abstract class RealServer : IDisposable
{
    private static int _next = Environment.ProcessId % 200;
    private readonly Scratch _scratch = new();

    protected RealServer()
    {
        Address = $"127.78.{Interlocked.Increment(ref _next) % 250}.1";
        // Servers with an account of their own pass through here.
        File.SetUnixFileMode(Folder, File.GetUnixFileMode(Folder) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        Bench = new(Path.Combine(Folder, "agent"));
        Directory.CreateDirectory(Path.Combine(Folder, "agent"), AtomicFiles.PrivateFolder);
    }

    public string Address { get; }
    public string Folder => _scratch.Path;

    /// <summary>The agent's side; several servers of one host share one.</summary>
    public SwapBench Bench { get; init; }

    /// <summary>The connector under test.</summary>
    public abstract IConnector Connector { get; }

    /// <summary>The name of the service that is bound, within the instance.</summary>
    public abstract string Service { get; }

    /// <summary>What clients call it.</summary>
    public abstract string Name { get; }

    /// <summary>Every way in that must serve the certificate.</summary>
    public abstract IReadOnlyList<Door> Doors { get; }

    /// <summary>Folder of the configuration; its bytes are compared.</summary>
    public abstract string ConfigFolder { get; }

    /// <summary>A file in which a comment may stand on a line of its own.</summary>
    public abstract string MainFile { get; }

    /// <summary>Account and mode that the key has to have in the store, as <c>stat -c %U:%G:%a</c> says.</summary>
    public virtual string KeyOwner => "root:root:600";

    /// <summary>Whether it takes a certificate up by a restart alone: that is said before, and its conversations end.</summary>
    public virtual bool IsCutOffByRenewals => false;

    /// <summary>Writes a configuration.</summary>
    /// <param name="foreign">A certificate and key of somebody else; null for one without TLS.</param>
    public abstract void Configure((string Certificate, string Key)? foreign);

    /// <summary>A line that the server's own test refuses.</summary>
    public abstract string BrokenLine { get; }

    /// <summary>Somebody breaks the configuration by hand, so that the server does not start.</summary>
    public virtual void Break() => File.AppendAllText(MainFile, BrokenLine + "\n");

    public abstract void Start();

    public abstract void Stop();

    /// <summary>The master process.</summary>
    public abstract int Pid { get; }

    /// <summary>A conversation with a client that is open across a swap.</summary>
    public abstract Task<IConversation> TalkAsync();

    public ServiceRef Ref => new(Connector, Service, Service);

    public Task<IReadOnlyList<LookReport>> BindAsync(StoreEntry e) => Bench.BindAsync(e, Doors[0].Port, Ref);

    public string? Served(Door door) => SwapBench.Served(Address, door.Port, Name, door.StartTls);

    /// <summary>Whether an independent client gets through in one version.</summary>
    /// <param name="version">As openssl's option for it.</param>
    public bool Takes(Door door, string version) =>
        Programs
            .Run(
                "timeout",
                [
                    "12",
                    "openssl",
                    "s_client",
                    "-connect",
                    $"{Address}:{door.Port}",
                    "-servername",
                    Name,
                    version,
                    .. door.StartTls is { } way ? new[] { "-starttls", way } : [],
                ],
                []
            )
            .Output.Contains("New, TLSv1.", StringComparison.Ordinal);

    public FoundService Found() => Assert.Single(Connector.Discover(Connector.Files).Services, s => s.Name == Service);

    /// <summary>When its configuration was written last.</summary>
    public virtual DateTime ChangedAt() => File.GetLastWriteTimeUtc(MainFile);

    /// <summary>Somebody else changes something that is not ours.</summary>
    public virtual void ByAnotherHand() => File.WriteAllText(MainFile, "# by another hand\n" + File.ReadAllText(MainFile));

    /// <summary>What a configuration is with that change.</summary>
    /// <param name="snapshot">As <see cref="Snapshot"/> gives it, from before.</param>
    public virtual string WithAnotherHand(string snapshot)
    {
        // What stands in the file but for the change is what stood there.
        var (now, changed) = (Snapshot(), File.ReadAllText(MainFile));
        Assert.StartsWith("# by another hand\n", changed);
        File.WriteAllText(MainFile, changed["# by another hand\n".Length..]);
        var without = Snapshot();
        File.WriteAllText(MainFile, changed);
        Assert.Equal(snapshot, without);
        return now;
    }

    /// <summary>Puts another key where the server reads its own.</summary>
    /// <param name="used">The file that it reads.</param>
    public virtual void Spoil(string used, string otherKey)
    {
        var key = File.ReadAllText(used);
        var end = key.IndexOf("-----END PRIVATE KEY-----", StringComparison.Ordinal) + "-----END PRIVATE KEY-----\n".Length;
        File.WriteAllText(used, File.ReadAllText(otherKey) + key[end..]);
    }

    /// <summary>Whether an independent client gets through without TLS: logs in, sends mail, asks, fetches a page.</summary>
    public virtual bool GoesInTheClear() => false;

    /// <summary>Whether a page is answered with itself.</summary>
    protected bool IsPageRead(int port) =>
        Programs
            .Run("curl", ["-s", "-o", "/dev/null", "-w", "%{http_code}", "-H", $"Host: {Name}", $"http://{Address}:{port}/"])
            .Output.Trim() == "200";

    /// <summary>Content, mode and owner of every file of the configuration.</summary>
    public virtual string Snapshot() =>
        string.Join(
            '\n',
            Directory
                .GetFiles(ConfigFolder, "*", SearchOption.AllDirectories)
                .Where(IsConfiguration)
                .Order(StringComparer.Ordinal)
                .Select(f =>
                    $"{f} {SafeFolder.OwnerOf(f)} {Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(f)))}"
                )
        );

    /// <summary>Servers may keep their own data beside it.</summary>
    protected virtual bool IsConfiguration(string path) => true;

    /// <summary>A self-signed pair of former days.</summary>
    public (string Certificate, string Key) ForeignPair(string? name = null)
    {
        var (certificate, key) = (Path.Combine(Folder, "foreign.pem"), Path.Combine(Folder, "foreign.key"));
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {key} -out {certificate} -days 30 -subj /CN={name ?? Name} -addext subjectAltName=DNS:{name ?? Name}"
        );
        return (certificate, key);
    }

    /// <summary>Without our pipes, which a daemon would hold open.</summary>
    protected void StartDaemon(string command)
    {
        var log = Path.Combine(Folder, "start.log");
        var (code, _, _) = Programs.Run("sh", ["-c", $"{command} >{log} 2>&1 </dev/null"]);
        Assert.True(code == 0, File.ReadAllText(log));
    }

    protected static void Wait(Func<bool> isThere)
    {
        for (var i = 0; i < 200 && !isThere(); i++)
            Thread.Sleep(50);
        Assert.True(isThere(), "the server did not come up");
    }

    public void Dispose()
    {
        try
        {
            Stop();
        }
        catch (Exception e) when (e is IOException or InvalidOperationException) { }
        _scratch.Dispose();
    }
}

/// <summary>A client in the middle of something.</summary>
internal interface IConversation : IDisposable
{
    /// <summary>Goes on with it, and fails when the server has hung up.</summary>
    Task GoOnAsync();
}

/// <summary>A text protocol over TLS, with one command that is asked again and again.</summary>
internal sealed class LineConversation : IConversation
{
    private readonly System.Net.Sockets.TcpClient _client = new();
    private readonly Stream _stream;
    private readonly string _command,
        _answer;

    private LineConversation(Stream stream, System.Net.Sockets.TcpClient client, string command, string answer) =>
        (_stream, _client, _command, _answer) = (stream, client, command, answer);

    /// <param name="opening">Lines that are sent before, each answered by one that contains the text beside it.</param>
    public static async Task<IConversation> OpenAsync(
        string address,
        int port,
        bool tls,
        (string Send, string Expect)[] opening,
        string command,
        string answer
    )
    {
        var client = new System.Net.Sockets.TcpClient();
        await client.ConnectAsync(address, port);
        Stream stream = client.GetStream();
        if (tls)
        {
            var secure = new System.Net.Security.SslStream(stream, false, (_, _, _, _) => true);
            await secure.AuthenticateAsClientAsync("any.example");
            stream = secure;
        }
        var c = new LineConversation(stream, client, command, answer);
        foreach (var (send, expect) in opening)
            await c.AskAsync(send, expect);
        return c;
    }

    public Task GoOnAsync() => AskAsync(_command, _answer);

    private async Task AskAsync(string send, string expect)
    {
        if (send.Length > 0)
            await _stream.WriteAsync(System.Text.Encoding.ASCII.GetBytes(send + "\r\n"));
        var heard = new System.Text.StringBuilder();
        var buffer = new byte[4096];
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        while (!heard.ToString().Contains(expect, StringComparison.Ordinal))
        {
            var n = await _stream.ReadAsync(buffer, limit.Token);
            Assert.True(n > 0, $"the server hung up; it said \"{heard}\" before \"{expect}\"");
            heard.Append(System.Text.Encoding.ASCII.GetString(buffer, 0, n));
        }
    }

    public void Dispose() => _client.Dispose();
}

/// <summary>A web request that has begun and ends after the swap.</summary>
internal sealed class HalfRequest(System.Net.Sockets.TcpClient client, string name) : IConversation
{
    private bool _isDone;

    public static async Task<IConversation> OpenAsync(string address, int port, string path, string name)
    {
        var client = new System.Net.Sockets.TcpClient();
        await client.ConnectAsync(address, port);
        await client.GetStream().WriteAsync(System.Text.Encoding.ASCII.GetBytes($"GET {path} HTTP/1.1\r\n"));
        return new HalfRequest(client, name);
    }

    public async Task GoOnAsync()
    {
        if (_isDone)
            return;
        _isDone = true;
        await client.GetStream().WriteAsync(System.Text.Encoding.ASCII.GetBytes($"Host: {name}\r\nConnection: close\r\n\r\n"));
        var answer = await new StreamReader(client.GetStream()).ReadToEndAsync();
        Assert.Contains("200 OK", answer);
    }

    public void Dispose() => client.Dispose();
}

/// <summary>A database's own client that is asked again and again.</summary>
internal sealed class AskedClient(System.Diagnostics.Process client) : IConversation
{
    public async Task GoOnAsync()
    {
        await client.StandardInput.WriteLineAsync("select 40 + 2;");
        await client.StandardInput.FlushAsync();
        Assert.Equal("42", await client.StandardOutput.ReadLineAsync());
    }

    public void Dispose()
    {
        client.Kill();
        client.Dispose();
    }
}
