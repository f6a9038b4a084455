using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Serialization.Metadata;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A real beacond on loopback with a folder of its own, killed hard and started again where a test wants it.</summary>
public class RunningService : IAsyncLifetime
{
    private readonly Scratch _scratch = new();
    private Process? _process;
    private readonly System.Text.StringBuilder _log = new();

    /// <summary>The errors that the service has logged.</summary>
    internal string Errors
    {
        get
        {
            lock (_log)
                return string.Join('\n', _log.ToString().Split('\n').Where(l => l.Contains("\"LogLevel\":\"Error\"")));
        }
    }

    internal Scratch Scratch => _scratch;
    public int Port { get; } = FreePort();
    public int PublicationPort { get; } = FreePort();
    public string Url => $"https://localhost:{Port}";
    public string Data => _scratch["data"];
    public string RootPem => Path.Combine(Data, "root.pem");
    public const string Password = "correct horse battery";

    /// <summary>An administrator who holds the zone thistledown.example.</summary>
    public HttpClient Robin { get; private set; } = null!;

    /// <summary>An approver.</summary>
    public HttpClient Wren { get; private set; } = null!;

    private static int FreePort() => Ports.Free();

    public async ValueTask InitializeAsync()
    {
        _scratch.File("password", Password);
        await StartAsync();
        Robin = await SignInAsync("robin");
        await PostAsync(
            Robin,
            "/api/v1/people",
            new NewPerson("wren", Password, ["approvers"]),
            BeaconJson.Default.NewPerson,
            BeaconJson.Default.PersonInfo
        );
        await PostAsync(
            Robin,
            "/api/v1/people",
            new NewPerson("finch", Password, []),
            BeaconJson.Default.NewPerson,
            BeaconJson.Default.PersonInfo
        );
        Wren = await SignInAsync("wren");
    }

    /// <summary>The service's program: today's, unless a test says otherwise.</summary>
    internal string Program { get; set; } = Own.Service;

    /// <summary>Settings besides the usual ones, at each start.</summary>
    internal Dictionary<string, string> Settings { get; } = [];

    public Task StartAsync() => StartAsync([]);

    /// <param name="more">Further settings; with an authority that waits, the service is up but not ready.</param>
    internal async Task StartAsync(Dictionary<string, string> more)
    {
        var start = new ProcessStartInfo(Program)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            // Nothing of its own is there. Earlier versions looked there for their files.
            WorkingDirectory = Program == Own.Service ? "/" : Path.GetDirectoryName(Program),
        };
        foreach (
            var (k, v) in new Dictionary<string, string>
            {
                ["BEACON_DATA"] = Data,
                ["BEACON_PORT"] = Port.ToString(),
                ["BEACON_PUBLICATIONPORT"] = PublicationPort.ToString(),
                ["BEACON_ZONES"] = "thistledown.example=administrators",
                ["BEACON_ORGANIZATION"] = "Thistledown Rail",
                ["BEACON_FRESHMINUTES"] = "600",
                ["BEACON_SIGNINSPERMINUTE"] = "100000",
                ["BEACON_PLAINMETRICS"] = "true",
                ["BEACON_FIRSTNAME"] = "robin",
                ["BEACON_FIRSTPASSWORDFILE"] = _scratch["password"],
            }
                .Concat(Settings)
                .Concat(more)
        )
            start.Environment[k] = v;
        _process = Process.Start(start)!;
        var log = _log;
        _process.OutputDataReceived += (_, e) =>
        {
            lock (log)
                log.AppendLine(e.Data);
        };
        _process.ErrorDataReceived += (_, e) =>
        {
            lock (log)
                log.AppendLine(e.Data);
        };
        _process.BeginOutputReadLine();
        _process.BeginErrorReadLine();
        using var http = new HttpClient();
        for (var i = 0; i < 1200; i++)
        {
            if (_process.HasExited)
                break;
            try
            {
                if (
                    (
                        await http.GetAsync($"http://127.0.0.1:{PublicationPort}{(more.Count == 0 ? "/readyz" : "/healthz")}")
                    ).IsSuccessStatusCode
                )
                    return;
            }
            catch (HttpRequestException) { }
            await Task.Delay(100);
        }
        lock (log)
            Assert.Fail("the service did not start: " + log);
    }

    internal int ProcessId => _process!.Id;

    public void KillHard()
    {
        _process!.Kill();
        _process.WaitForExit();
    }

    public HttpClient Client(string? token = null, X509Certificate2? certificate = null)
    {
        var policy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck };
        policy.CustomTrustStore.ImportFromPemFile(RootPem);
        var handler = new SocketsHttpHandler
        {
            SslOptions = new SslClientAuthenticationOptions { CertificateChainPolicy = policy },
            UseCookies = false,
            PooledConnectionLifetime = TimeSpan.FromSeconds(2),
        };
        if (certificate is not null)
            handler.SslOptions.ClientCertificateContext = SslStreamCertificateContext.Create(certificate, null, offline: true);
        var http = new HttpClient(handler) { BaseAddress = new Uri(Url) };
        if (token is not null)
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        return http;
    }

    public async Task<HttpClient> SignInAsync(string name)
    {
        using var anonymous = Client();
        var s = await PostAsync(
            anonymous,
            "/api/v1/session",
            new SignIn(name, Password, "token"),
            BeaconJson.Default.SignIn,
            BeaconJson.Default.Session
        );
        return Client(s.Token);
    }

    public static async Task<TAnswer> PostAsync<TBody, TAnswer>(
        HttpClient http,
        string path,
        TBody body,
        JsonTypeInfo<TBody> bodyType,
        JsonTypeInfo<TAnswer> answerType
    )
    {
        using var answer = await http.PostAsync(path, JsonContent.Create(body, bodyType));
        var text = await answer.Content.ReadAsStringAsync();
        Assert.True(answer.IsSuccessStatusCode, $"{path}: {(int)answer.StatusCode} {text}");
        return System.Text.Json.JsonSerializer.Deserialize(text, answerType)!;
    }

    public static async Task<T> GetAsync<T>(HttpClient http, string path, JsonTypeInfo<T> type)
    {
        using var answer = await http.GetAsync(path);
        var text = await answer.Content.ReadAsStringAsync();
        Assert.True(answer.IsSuccessStatusCode, $"{path}: {(int)answer.StatusCode} {text}");
        return System.Text.Json.JsonSerializer.Deserialize(text, type)!;
    }

    /// <summary>The problem that a call meets.</summary>
    public static async Task<Problem> ProblemAsync(HttpResponseMessage answer, HttpStatusCode status)
    {
        Assert.Equal(status, answer.StatusCode);
        Assert.Equal("application/problem+json", answer.Content.Headers.ContentType?.MediaType);
        var p = (await answer.Content.ReadFromJsonAsync(BeaconJson.Default.Problem))!;
        Assert.NotEmpty(p.Cure!);
        Assert.DoesNotContain("   at ", p.Detail);
        return p;
    }

    /// <summary>Runs the client as its user would.</summary>
    public (int Code, string Output, string Error) Beacon(string home, params string[] args) =>
        Programs.Run(Own.Client, [.. args], [], new Dictionary<string, string> { ["BEACON_HOME"] = home });

    /// <summary>A home in which robin is signed in.</summary>
    public string Home()
    {
        var home = _scratch["home-" + Guid.NewGuid().ToString("N")[..8]];
        var (code, _, error) = Beacon(
            home,
            "sign-in",
            "--service",
            Url,
            "--name",
            "robin",
            "--root",
            RootPem,
            "--password-file",
            _scratch["password"]
        );
        Assert.True(code == 0, error);
        return home;
    }

    /// <summary>curl with robin's password, as an EST client.</summary>
    public (int Code, string Output, string Error) Curl(params string[] args) =>
        Programs.Run("curl", ["-sS", "--cacert", RootPem, "-u", "robin:" + Password, .. args]);

    public virtual async ValueTask DisposeAsync()
    {
        Robin?.Dispose();
        Wren?.Dispose();
        if (_process is { HasExited: false })
            _process.Kill();
        await _process!.WaitForExitAsync();
        _scratch.Dispose();
    }
}
