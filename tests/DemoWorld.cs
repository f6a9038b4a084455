using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;

namespace OrderlyBeacon.Testing;

/// <summary>./demo as its user starts it, on a folder and loopback addresses of its own.</summary>
public sealed class DemoWorld : IAsyncLifetime
{
    private readonly Scratch _scratch = new();
    private readonly StringBuilder _log = new();
    private Process? _demo;

    public DemoWorld()
    {
        using var l = new TcpListener(IPAddress.Loopback, 0);
        l.Start();
        // The demo's database has an account of its own, which passes through here.
        File.SetUnixFileMode(_scratch.Path, File.GetUnixFileMode(_scratch.Path) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        Port = 20000 + ((IPEndPoint)l.LocalEndpoint).Port % 10000;
    }

    public int Port { get; }
    public string Url => $"https://localhost:{Port}";

    /// <summary>Pictures show a path as a shop would have it.</summary>
    private const string ForPictures = "/srv/thistledown";

    private static readonly bool TakesPictures = Environment.GetEnvironmentVariable("SHOTS") is not null;

    public string Data => TakesPictures ? ForPictures : _scratch["demo"];
    public string Home => _scratch["home"];
    public string Network => $"127.{Port / 256}.{Port % 256}";
    public string Web01 => Network + ".11";
    public string Web02 => Network + ".12";
    public string Mail01 => Network + ".21";
    public string Db01 => Network + ".31";
    public string Names => Network + ".53";

    /// <summary>SMTP, submission, IMAP, IMAP by TLS.</summary>
    public IReadOnlyList<int> MailPorts => [.. File.ReadAllText(Path.Combine(Data, "mail-ports")).Trim().Split(' ').Select(int.Parse)];

    public int DatabasePort => int.Parse(File.ReadAllText(Path.Combine(Data, "database-port")).Trim());
    public string RootPem => Path.Combine(Data, "service", "root.pem");
    public string OldOfficePem => Path.Combine(Data, "old-office", "ca.pem");
    public int TlsPort => int.Parse(File.ReadAllText(Path.Combine(Data, "ports")).Trim().Split(' ')[2]);

    public string Password(string who) => File.ReadAllText(Path.Combine(Data, who + ".password")).Trim();

    internal Scratch Scratch => _scratch;

    public async ValueTask InitializeAsync()
    {
        if (TakesPictures && Directory.Exists(ForPictures))
            Directory.Delete(ForPictures, recursive: true);
        await StartAsync();
    }

    public async Task StartAsync()
    {
        var start = new ProcessStartInfo(Path.Combine(Programs.Root, "demo"), ["--data", Data, "--port", Port.ToString()])
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        };
        start.Environment["BEACON_HOME"] = Home;
        lock (_log)
            _log.Clear();
        _demo = Process.Start(start)!;
        var ready = new TaskCompletionSource();
        void Take(string? line)
        {
            if (line is null)
                return;
            lock (_log)
                _log.AppendLine(line);
            if (line.StartsWith("Ready", StringComparison.Ordinal))
                ready.TrySetResult();
        }
        _demo.ErrorDataReceived += (_, e) => Take(e.Data);
        _demo.OutputDataReceived += (_, e) => Take(e.Data);
        _demo.BeginErrorReadLine();
        _demo.BeginOutputReadLine();
        // A first start may have to build everything.
        var ended = _demo.WaitForExitAsync();
        if (await Task.WhenAny(ready.Task, ended, Task.Delay(TimeSpan.FromMinutes(10))) != ready.Task)
            Assert.Fail("the demo did not become ready:\n" + Log);
    }

    public string Log
    {
        get
        {
            lock (_log)
                return _log.ToString();
        }
    }

    /// <summary>Ctrl-C, and the end of everything.</summary>
    public async Task StopAsync()
    {
        if (_demo is null or { HasExited: true })
            return;
        // A test run in the background of a shell passes an ignored SIGINT on, which bash cannot undo: then SIGTERM stands for Ctrl-C.
        var ignored = Convert.ToUInt64(
            File.ReadLines($"/proc/{_demo.Id}/status").Single(l => l.StartsWith("SigIgn", StringComparison.Ordinal)).Split('\t')[1],
            16
        );
        Programs.Run("kill", [(ignored & 2) != 0 ? "-TERM" : "-INT", _demo.Id.ToString()]);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(40));
        try
        {
            await _demo.WaitForExitAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            _demo.Kill(true);
            Assert.Fail("the demo did not stop");
        }
    }

    /// <summary>Processes that have to do with this demo's folder.</summary>
    public IReadOnlyList<string> Processes() =>
        [.. Programs.Run("pgrep", ["-af", Data]).Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)];

    /// <summary>The command lines of all processes that have the demo's lock open, as none but the demo itself may: it cannot be started again before they end.</summary>
    public IReadOnlyList<string> LockHolders()
    {
        var opened = Programs.Run(
            "find",
            ["/proc", "-maxdepth", "3", "-path", "/proc/[0-9]*/fd/*", "-lname", Path.Combine(Data, "demo.lock"), "-printf", "%h\n"]
        );
        return [.. opened.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(CommandOf).Where(c => c.Length > 0)];
    }

    private static string CommandOf(string descriptors)
    {
        try
        {
            return File.ReadAllText(Path.Combine(Path.GetDirectoryName(descriptors)!, "cmdline")).Replace('\0', ' ').Trim();
        }
        catch (IOException)
        {
            // It has ended meanwhile.
            return "";
        }
    }

    public (int Code, string Output, string Error) Beacon(params string[] args) =>
        Programs.Run(
            Path.Combine(Programs.Root, "beacon"),
            args,
            [],
            new Dictionary<string, string> { ["BEACON_HOME"] = Home, ["COLUMNS"] = "120" }
        );

    /// <summary>The client's output; fails the test when it fails.</summary>
    public string Ok(params string[] args)
    {
        var (code, output, error) = Beacon(args);
        // On a slow machine the sign-in is older than the few minutes for which its password counts as given.
        if (code == 3 && error.Contains("beacon sign-in confirm"))
        {
            Assert.Equal(0, Beacon("sign-in", "confirm", "--password-file", Path.Combine(Data, "robin.password")).Code);
            (code, output, error) = Beacon(args);
        }
        Assert.True(code == 0, $"beacon {string.Join(' ', args)} ended with {code}:\n{output}{error}");
        return output;
    }

    /// <summary>A handshake that proves the pair: the certificate that was served, or an exception. Name, chain and dates are checked.</summary>
    public async Task<X509Certificate2> HandshakeAsync(string name, string address)
    {
        using var tcp = new TcpClient();
        await tcp.ConnectAsync(IPAddress.Parse(address), TlsPort).WaitAsync(TimeSpan.FromSeconds(5));
        var policy = new X509ChainPolicy
        {
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            RevocationMode = X509RevocationMode.NoCheck,
            DisableCertificateDownloads = true,
        };
        policy.CustomTrustStore.ImportFromPemFile(RootPem);
        await using var tls = new SslStream(tcp.GetStream());
        await tls.AuthenticateAsClientAsync(new SslClientAuthenticationOptions { TargetHost = name, CertificateChainPolicy = policy })
            .WaitAsync(TimeSpan.FromSeconds(5));
        return X509CertificateLoader.LoadCertificate(tls.RemoteCertificate!.GetRawCertData());
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        if (TakesPictures)
            Directory.Delete(ForPictures, recursive: true);
        if (Environment.GetEnvironmentVariable("BEACON_KEEP") is null)
            _scratch.Dispose();
    }
}

/// <summary>Runs a class's tests in the order of their names: chapters of one story.</summary>
public sealed class ByName : Xunit.v3.ITestMethodOrderer
{
    public IReadOnlyCollection<TTestMethod?> OrderTestMethods<TTestMethod>(IReadOnlyCollection<TTestMethod?> testMethods)
        where TTestMethod : notnull, Xunit.Sdk.ITestMethod => [.. testMethods.OrderBy(t => t?.MethodName, StringComparer.Ordinal)];
}
