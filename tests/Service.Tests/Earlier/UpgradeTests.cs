using System.Diagnostics;
using System.Text.RegularExpressions;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Tests.Earlier;

/// <summary>
/// A shop is brought from 0.1 to today while it runs, in both orders: the service first, or the hosts first. At each step the site's certificate is renewed into a real
/// nginx, and openssl sees the new one.
/// </summary>
public sealed class UpgradeTests : IAsyncLifetime
{
    private const string Host = "web01.thistledown.example",
        Site = "shop.thistledown.example";
    private static readonly string Today = Own.Agent;
    private readonly RunningService _service = new();
    private readonly string _address = $"127.79.{Random.Shared.Next(1, 250)}.1";
    private Process? _agent;
    private readonly System.Text.StringBuilder _said = new();

    private string Folder => Directory.CreateDirectory(_service.Scratch["web01"]).FullName;
    private string Config => Path.Combine(Folder, "nginx.conf");

    public async ValueTask InitializeAsync()
    {
        _service.Program = EarlierPrograms.Service;
        await _service.InitializeAsync();
        foreach (var folder in new[] { "tmp", "www" })
            Directory.CreateDirectory(Path.Combine(Folder, folder));
        File.WriteAllText(
            Config,
            $$"""
            {{(Environment.UserName == "root" ? "user root;" : "")}}
            pid {{Folder}}/nginx.pid;
            error_log {{Folder}}/error.log notice;
            events { worker_connections 64; }
            http {
                access_log off;
                client_body_temp_path tmp/a; proxy_temp_path tmp/b; fastcgi_temp_path tmp/c; uwsgi_temp_path tmp/d; scgi_temp_path tmp/e;
                server {
                    listen {{_address}}:8080;
                    server_name {{Site}};
                    root www;
                }
            }
            """
        );
        var (code, _, error) = Programs.Run("nginx", ["-e", Path.Combine(Folder, "error.log"), "-p", Folder, "-c", Config]);
        Assert.True(code == 0, error);
        await JoinAsync();
    }

    private async Task JoinAsync()
    {
        var invited = await RunningService.PostAsync(
            _service.Robin,
            "/api/v1/hosts",
            new NewHost(Host),
            BeaconJson.Default.NewHost,
            BeaconJson.Default.HostInvitation
        );
        var (code, _, error) = Programs.Run(
            EarlierPrograms.Agent,
            [
                .. $"join --state {Folder}/agent --service {_service.Url} --host {Host} --code-file - --nginx {Config} --nginx-prefix {Folder}/".Split(
                    ' '
                ),
            ],
            System.Text.Encoding.ASCII.GetBytes(invited.Code)
        );
        Assert.True(code == 0, error);
        Run(EarlierPrograms.Agent);
    }

    private void Run(string program)
    {
        _agent = Process.Start(
            new ProcessStartInfo(program, ["run", "--state", Path.Combine(Folder, "agent")])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        foreach (
            var attach in new Action<DataReceivedEventHandler>[] { h => _agent.OutputDataReceived += h, h => _agent.ErrorDataReceived += h }
        )
            attach(
                (_, e) =>
                {
                    lock (_said)
                        _said.AppendLine(e.Data);
                }
            );
        _agent.BeginOutputReadLine();
        _agent.BeginErrorReadLine();
    }

    private void StopAgent()
    {
        Programs.Run("kill", ["-TERM", _agent!.Id.ToString()]);
        if (!_agent.WaitForExit(20_000))
            _agent.Kill();
    }

    private async Task UpdateServiceAsync()
    {
        _service.KillHard();
        _service.Program = Own.Service;
        await _service.StartAsync();
    }

    private void UpdateAgent()
    {
        StopAgent();
        Run(Today);
    }

    /// <summary>The serial that a client meets; empty when it meets none.</summary>
    private string Served()
    {
        var (_, output, _) = Programs.Run("openssl", ["s_client", "-connect", $"{_address}:8443", "-servername", Site, "-showcerts"], []);
        var pem = Regex.Match(output, "-----BEGIN CERTIFICATE-----.*?-----END CERTIFICATE-----", RegexOptions.Singleline).Value;
        return pem.Length == 0
            ? ""
            : Core.Issuing.X509.Read(Core.Formats.Armor.Read(System.Text.Encoding.ASCII.GetBytes(pem)).Blocks[0].Der).Serial.Hex;
    }

    private async Task UntilAsync(string what, Func<Task<bool>> holds)
    {
        for (var i = 0; i < 300; i++)
        {
            if (await holds())
                return;
            await Task.Delay(200, TestContext.Current.CancellationToken);
        }
        lock (_said)
            Assert.Fail($"{what} did not come about. The agent said: {_said}\nThe service: {_service.Errors}");
    }

    private async Task FirstAsync()
    {
        await UntilAsync("the site in the list", async () => (await _service.Robin.GetStringAsync("/api/v1/hosts/web01")).Contains(Site));
        await RunningService.PostAsync(
            _service.Robin,
            "/api/v1/requests",
            new NewRequest(Host, null, [Site], null, null, null, null, null, [Site], 8443, null, null),
            BeaconJson.Default.NewRequest,
            BeaconJson.Default.RequestInfo
        );
        await OnRecordAsync("the first certificate");
    }

    /// <summary>A renewal by the programs that run now: a client meets the new edition, and the service says so.</summary>
    private async Task RenewAsync(string with)
    {
        var before = Served();
        // The agent of a service that was started anew is back by itself.
        await UntilAsync(
            $"the order of a renewal with {with}",
            async () => (await _service.Robin.PostAsync($"/api/v1/certificates/{Site}/renew", null)).IsSuccessStatusCode
        );
        await UntilAsync($"a renewal with {with}", () => Task.FromResult(Served() is { Length: > 0 } now && now != before));
        await OnRecordAsync($"a renewal with {with}");
    }

    /// <summary>What a client meets is what the service says is served, and no order is open any more.</summary>
    private Task OnRecordAsync(string what) =>
        UntilAsync(
            what + ", on record",
            async () =>
            {
                var path = $"/api/v1/certificates/{Site}";
                var one = (await RunningService.GetAsync(_service.Robin, path, BeaconJson.Default.CertificateDetail)).Certificate;
                return one.State == "serving" && one.Serial == Served();
            }
        );

    [Fact]
    public async Task The_service_first_then_its_hosts()
    {
        await FirstAsync();
        await RenewAsync("both of 0.1");
        await UpdateServiceAsync();
        await RenewAsync("the service of today and the agent of 0.1");
        var today = await RunningService.GetAsync(_service.Robin, "/api/v1/today", BeaconJson.Default.Today);
        Assert.DoesNotContain(today.Concerns, c => c.About.Contains("web01") || c.About.Contains(Site));
        // An order that the agent of 0.1 knows nothing of hurts none of the others.
        await _service.Robin.PostAsync(
            "/api/v1/looks",
            System.Net.Http.Json.JsonContent.Create(
                new LookWish(_address + ":8443", Site, Host) { Protocol = ProbeProtocol.Tls },
                BeaconJson.Default.LookWish
            )
        );
        UpdateAgent();
        await RenewAsync("both of today");
        // The server is configured with the store's form of today from its first swap on.
        Assert.Contains("/in-use/", File.ReadAllText(Config));
    }

    [Fact]
    public async Task Its_hosts_first_then_the_service()
    {
        await FirstAsync();
        UpdateAgent();
        await RenewAsync("the service of 0.1 and the agent of today");
        await UpdateServiceAsync();
        await RenewAsync("both of today");
        Assert.True(_service.Errors.Length == 0, _service.Errors);
    }

    public async ValueTask DisposeAsync()
    {
        if (_agent is { HasExited: false })
            StopAgent();
        try
        {
            Programs.Run("kill", ["-TERM", File.ReadAllText(Path.Combine(Folder, "nginx.pid")).Trim()]);
        }
        catch (IOException) { }
        await _service.DisposeAsync();
    }
}
