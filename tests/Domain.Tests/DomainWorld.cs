using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;

namespace OrderlyBeacon.Domain.Tests;

/// <summary>What a call answered.</summary>
internal sealed record Answer(int Status, JsonNode? Json, string Text)
{
    public bool IsDone => Status < 300;
    public string Code => Json?["code"]?.GetValue<string>() ?? "";

    public override string ToString() => $"{Status} {Text}";
}

/// <summary>
/// Thistledown Rail's domain for real: Samba as directory and KDC, knot for names, our service in it; all on the network of its own that <c>.ci/in-domain.sh</c> gives. People are
/// robin (administers), wren (approves), jay (web team, holds stations.thistledown.example) and finch, who has no role.
/// </summary>
public sealed class DomainWorld : IAsyncLifetime
{
    public const string Beacon = "beacon.thistledown.example";
    public const int Port = 7443;
    internal const string Dc = "127.0.53.1",
        Names = "127.0.53.2",
        ServiceAddress = "127.0.53.10";

    /// <summary>By how much the service lets a ticket's clock differ.</summary>
    internal static readonly TimeSpan ClockSkew = TimeSpan.FromSeconds(8);

    private Process? _service;
    private readonly StringBuilder _log = new();

    /// <summary>Its folder, made by whoever started the tests.</summary>
    public static string Folder { get; } =
        Environment.GetEnvironmentVariable("BEACON_DOMAIN")
        ?? throw new InvalidOperationException("These tests run on a network of their own: .ci/domain-tests.sh starts them there.");

    internal Scratch Scratch { get; } = new();
    public string Data => Scratch["data"];
    public string RootPem => Path.Combine(Data, "root.pem");
    public static string Url => $"https://{Beacon}:{Port}";

    private readonly CancellationTokenSource _late = new();

    /// <summary>What curl would have shown the service with magpie's ticket, and did not.</summary>
    public string KeptTicket { get; private set; } = "";

    /// <summary>Ends when <see cref="KeptTicket"/> is too old.</summary>
    public CancellationToken Late => _late.Token;

    /// <summary>How long each part took.</summary>
    public string Timing { get; private set; } = "";

    /// <summary>robin, the local administrator who is there before any domain is: signed in by password.</summary>
    public HttpClient Local { get; private set; } = null!;

    private const string Records = """
        web01 A 10.4.0.11
        web02 A 10.4.0.12
        web05 A 10.4.0.15
        front CNAME web05
        tickets CNAME front
        depot CNAME web01
        loop1 CNAME loop2
        loop2 CNAME loop1
        plain A 10.4.0.15
        """;

    private const string Reverse = """
        15.0 PTR web05.thistledown.example.
        11.0 PTR web01.thistledown.example.
        16.0 PTR web05.thistledown.example.
        """;

    /// <summary>Runs one of the functions of .ci/domain.sh.</summary>
    internal static (int Code, string Output) Shell(string commands)
    {
        var script = $$"""
            ROOT={{Programs.Root}}; . "$ROOT/.ci/common.sh"; . "$ROOT/.ci/domain.sh"; DOMAIN={{Folder}} DC={{Dc}} NS={{Names}}
            export KRB5_CONFIG=$DOMAIN/krb5.conf
            {{commands}}
            """;
        var (code, output, error) = Programs.Run("bash", ["-c", script], seconds: 90);
        return (code, output + error);
    }

    private static void Must(string commands)
    {
        var (code, output) = Shell(commands);
        Assert.True(code == 0, output);
    }

    public async ValueTask InitializeAsync()
    {
        var began = Stopwatch.StartNew();
        var chain = string.Join('\n', Enumerable.Range(0, 30).Select(i => $"step{i} CNAME step{i + 1}"));
        Must(
            $"""
            domain_make || {"{ tail -n 5 \"$DOMAIN\"/*.log; exit 1; }"}
            domain_start && names_make '{Records}
            {chain}' '{Reverse}' && names_start
            """
        );
        var domain = began.Elapsed;
        await StartAsync();
        Local = Client(await SignInAsync("robin", Scratch["password"]));
        KeptTicket = await KeepTicketAsync();
        _late.CancelAfter(ClockSkew + TimeSpan.FromSeconds(2));
        Timing = $"domain {domain.TotalSeconds:0.0} s, service {(began.Elapsed - domain).TotalSeconds:0.0} s";
        TestContext.Current.SendDiagnosticMessage(Timing);
    }

    /// <summary>A server of the service's name, at another port, writes down what it is shown.</summary>
    private async Task<string> KeepTicketAsync()
    {
        using var keeper = new TcpListener(IPAddress.Parse(ServiceAddress), 0);
        keeper.Start();
        var kept = Task.Run(() => Shown(keeper));
        var address = $"http://{Beacon}:{((IPEndPoint)keeper.LocalEndpoint).Port}/";
        var (code, _, error) = Programs.Run(
            "curl",
            ["-sSv", "--max-time", "10", "--negotiate", "-u", ":", address],
            null,
            TicketsOf("magpie")
        );
        Assert.True(code == 0 && error.Contains("< HTTP/1.1 200"), error);
        return await kept;
    }

    private static string Shown(TcpListener keeper)
    {
        while (true)
        {
            using var caller = keeper.AcceptTcpClient();
            using var reader = new StreamReader(caller.GetStream());
            const string Header = "Authorization: ";
            var shown = "";
            while (reader.ReadLine() is { Length: > 0 } line)
                if (line.StartsWith(Header, StringComparison.OrdinalIgnoreCase))
                    shown = line[Header.Length..].Trim();
            var answer = shown.Length > 0 ? "200 OK" : "401 Unauthorized\r\nWWW-Authenticate: Negotiate";
            caller.GetStream().Write(Encoding.ASCII.GetBytes($"HTTP/1.1 {answer}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"));
            if (shown.Length > 0)
                return shown;
        }
    }

    public async Task StartAsync()
    {
        Scratch.File("password", "correct horse battery");
        // A ticket that was made for it comes late after seconds already.
        var realm = File.ReadAllText(Path.Combine(Folder, "krb5.conf"));
        Scratch.File("krb5.conf", realm.Replace("[libdefaults]", $"[libdefaults]\n\tclockskew = {ClockSkew.TotalSeconds}"));
        var start = new ProcessStartInfo(Own.Service) { RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (
            var (k, v) in new Dictionary<string, string>
            {
                ["BEACON_DATA"] = Data,
                ["BEACON_PORT"] = Port.ToString(),
                ["BEACON_PUBLICATIONPORT"] = "7480",
                ["BEACON_LISTEN"] = ServiceAddress,
                ["BEACON_NAMES"] = Beacon,
                ["BEACON_ZONES"] =
                    "thistledown.example=directory:certificate-administrators;stations.thistledown.example=directory:web-team,no-wildcards,depth=1;apps.thistledown.example=directory:managed-servers;10.4.0.0/16=directory:network-team",
                ["BEACON_ORGANIZATION"] = "Thistledown Rail",
                ["BEACON_FRESHMINUTES"] = "600",
                ["BEACON_SIGNINSPERMINUTE"] = "100000",
                ["BEACON_FIRSTNAME"] = "robin",
                ["BEACON_FIRSTPASSWORDFILE"] = Scratch["password"],
                ["BEACON_DIRECTORY"] = "ldap://dc1.thistledown.example",
                ["BEACON_KEYTAB"] = Path.Combine(Folder, "keytabs", "beacon.keytab"),
                ["BEACON_ROLES"] = "administrators=certificate-administrators;approvers=certificate-approvers",
                ["BEACON_DOMAINHOSTS"] = "managed-servers",
                ["BEACON_DNS"] = Names,
                ["KRB5_CONFIG"] = Scratch["krb5.conf"],
                ["KRB5RCACHEDIR"] = Scratch.Path,
            }
        )
            start.Environment[k] = v;
        _service = Process.Start(start)!;
        void Log(object _, DataReceivedEventArgs e)
        {
            lock (_log)
                _log.AppendLine(e.Data);
        }
        _service.OutputDataReceived += Log;
        _service.ErrorDataReceived += Log;
        _service.BeginOutputReadLine();
        _service.BeginErrorReadLine();
        using var http = new HttpClient();
        for (var i = 0; i < 600 && !_service.HasExited; i++)
        {
            try
            {
                if ((await http.GetAsync($"http://{ServiceAddress}:7480/readyz")).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException) { }
            await Task.Delay(50);
        }
        Assert.Fail("the service did not start: " + _log);
    }

    /// <summary>The errors that the service has logged.</summary>
    internal string Errors
    {
        get
        {
            lock (_log)
                return string.Join('\n', _log.ToString().Split('\n').Where(l => l.Contains("\"LogLevel\":\"Error\"")));
        }
    }

    public static string PasswordOf(string who) => File.ReadAllText(Path.Combine(Folder, who + ".password")).Trim();

    /// <summary>Tickets of a person or, with a keytab, of a computer.</summary>
    internal IReadOnlyDictionary<string, string> TicketsOf(string who)
    {
        var cache = Scratch["cc-" + who];
        Dictionary<string, string> environment = new()
        {
            ["KRB5_CONFIG"] = Path.Combine(Folder, "krb5.conf"),
            ["KRB5CCNAME"] = "FILE:" + cache,
        };
        if (File.Exists(cache))
            return environment;
        IEnumerable<string> args = who.EndsWith('$')
            ? ["-k", "-t", Path.Combine(Folder, "keytabs", who.TrimEnd('$') + ".keytab"), who]
            : [who];
        var (code, _, error) = Programs.Run(
            "kinit",
            args,
            who.EndsWith('$') ? null : Encoding.ASCII.GetBytes(PasswordOf(who) + "\n"),
            environment
        );
        Assert.True(code == 0, error);
        return environment;
    }

    internal async Task<string> SignInAsync(string name, string passwordFile)
    {
        var body = new JsonObject
        {
            ["name"] = name,
            ["password"] = (await File.ReadAllTextAsync(passwordFile)).Trim(),
            ["kind"] = "token",
        };
        using var http = Client(null);
        var answer = await CallAsync(http, "POST", "session", body.ToJsonString());
        Assert.True(answer.IsDone, answer.ToString());
        return answer.Json!["token"]!.GetValue<string>();
    }

    /// <summary>curl with somebody's ticket.</summary>
    internal Answer Curl(string who, string method, string path, string? body = null, string type = "application/json")
    {
        List<string> args = ["-sS", "--negotiate", "-u", ":", "--cacert", RootPem, "-X", method, "-w", "\n%{http_code}", Url + path];
        if (body is not null)
            args.AddRange(["-H", "Content-Type: " + type, "--data-binary", body]);
        var (code, output, error) = Programs.Run("curl", args, null, TicketsOf(who));
        Assert.True(code == 0, error);
        var cut = output.LastIndexOf('\n');
        return Read(int.Parse(output[(cut + 1)..]), output[..cut]);
    }

    /// <summary>Somebody's session by ticket.</summary>
    internal HttpClient Session(string who)
    {
        var answer = Curl(who, "POST", "/api/v1/session/ticket", """{"kind":"token"}""");
        Assert.True(answer.IsDone, answer.ToString());
        return Client(answer.Json!["token"]!.GetValue<string>());
    }

    internal HttpClient Client(string? token, X509Certificate2? certificate = null)
    {
        var root = X509CertificateLoader.LoadCertificateFromFile(RootPem);
        var handler = new SocketsHttpHandler
        {
            SslOptions = new SslClientAuthenticationOptions
            {
                CertificateChainPolicy = new()
                {
                    TrustMode = X509ChainTrustMode.CustomRootTrust,
                    CustomTrustStore = { root },
                    RevocationMode = X509RevocationMode.NoCheck,
                },
            },
        };
        if (certificate is not null)
            handler.SslOptions.ClientCertificates = [certificate];
        var http = new HttpClient(handler) { BaseAddress = new(Url), Timeout = TimeSpan.FromSeconds(40) };
        if (token is not null)
            http.DefaultRequestHeaders.Authorization = new("Bearer", token);
        return http;
    }

    internal static async Task<Answer> CallAsync(HttpClient http, string method, string path, string? json = null)
    {
        using var m = new HttpRequestMessage(new(method), path.StartsWith('/') ? path : "/api/v1/" + path);
        if (json is not null)
            m.Content = new StringContent(json, Encoding.UTF8, "application/json");
        using var answer = await http.SendAsync(m);
        return Read((int)answer.StatusCode, await answer.Content.ReadAsStringAsync());
    }

    private static Answer Read(int status, string text) =>
        new(status, text.StartsWith('{') || text.StartsWith('[') ? JsonNode.Parse(text) : null, text);

    /// <summary>The agent's joining by a keytab.</summary>
    private string RootFingerprint =>
        X509CertificateLoader.LoadCertificateFromFile(RootPem).GetCertHashString(System.Security.Cryptography.HashAlgorithmName.SHA256);

    /// <param name="service">Where the agent goes; the service itself when left out.</param>
    internal (int Code, string Output) Join(string folder, string host, string keytab, string? service = null)
    {
        var (code, output, error) = Programs.Run(
            Own.Agent,
            [
                "join",
                "--state",
                folder,
                "--service",
                service ?? Url,
                "--host",
                host,
                "--keytab",
                keytab,
                "--fingerprint",
                RootFingerprint,
                "--nginx",
                "/nowhere/nginx.conf",
            ],
            null,
            new Dictionary<string, string> { ["KRB5_CONFIG"] = Path.Combine(Folder, "krb5.conf") }
        );
        return (code, output + error);
    }

    public ValueTask DisposeAsync()
    {
        _service?.Kill();
        Shell("domain_stop; names_stop");
        Scratch.Dispose();
        return ValueTask.CompletedTask;
    }
}
