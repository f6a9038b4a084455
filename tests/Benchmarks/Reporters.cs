using System.Diagnostics;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Benchmarks;

/// <summary>
/// What 10,000 agents cost that have nothing new to say. A few dozen real ones, each with its certificate and connection, call as often as all would: a report a minute
/// and a poll a minute each.
/// </summary>
internal static class Reporters
{
    private const int Agents = 40,
        AtOnce = 4,
        Stand = 10_000;
    private static readonly TimeSpan Span = TimeSpan.FromSeconds(30);

    public static async Task RunAsync(string output, Action<string, double, double, string> atMost)
    {
        Console.WriteLine($"\n{Stand:N0} agents with nothing new: {Stand / 60} reports and {Stand / 60} polls a second");
        using var service = await RunningService.StartAsync(output, "ec-p256");
        var callers = new List<HttpClient>();
        var reports = new List<byte[]>();
        for (var i = 0; i < Agents; i++)
        {
            var name = $"r{i:00}.thistledown.example";
            callers.Add(CallerOf(service, await service.JoinAsync(output, name)));
            reports.Add(JsonSerializer.SerializeToUtf8Bytes(ReportOf(service, name), BeaconJson.Default.AgentReport));
        }
        Console.WriteLine($"  a report has {reports[0].Length / 1024.0:0.0} kB");
        // Once to be taken, and until the runtime has settled.
        await CallAsync(callers, reports, TimeSpan.FromSeconds(50));
        var (writes, cpu, clock) = (WrittenBy(service), service.Cpu(), Stopwatch.StartNew());
        var calls = await CallAsync(callers, reports, Span);
        var busy = (service.Cpu() - cpu).TotalSeconds / clock.Elapsed.TotalSeconds * 100;
        atMost($"{calls / clock.Elapsed.TotalSeconds:0} calls a second keep of a core busy", busy, 30, "%");
        atMost("and write to the database", WrittenBy(service) - writes, 0, "pages");
        await StormAsync(service, callers, reports, atMost);
    }

    /// <summary>After a restart all agents come with what has to be taken whole: somebody who has a thing to do waits for a few of them, not for all.</summary>
    private static async Task StormAsync(
        RunningService service,
        List<HttpClient> callers,
        List<byte[]> reports,
        Action<string, double, double, string> atMost
    )
    {
        using var robin = await service.SignedInAsync();
        var quiet = await UnlockedAsync(robin, 100);
        using var end = new CancellationTokenSource();
        var taken = 0;
        // More of them wait than the service takes at a time, all the while.
        var storm = callers.SelectMany((http, i) => Enumerable.Range(0, AtOnce).Select(n => ComeAsync(http, i, n))).ToList();
        await Task.Delay(TimeSpan.FromSeconds(1));
        var (before, clock) = (taken, Stopwatch.StartNew());
        var among = await UnlockedAsync(robin, 100);
        var rate = (taken - before) / clock.Elapsed.TotalSeconds;
        await end.CancelAsync();
        await Task.WhenAll(storm);
        Console.WriteLine(
            $"  a write takes {quiet:0.0} ms, and {among:0.0} ms while {Agents * AtOnce} agents have news ({rate:0} taken a second)"
        );
        atMost("the wait of somebody else's write for agents with news", (among - quiet) * rate / 1000, 12, "reports");

        async Task ComeAsync(HttpClient http, int i, int n)
        {
            for (var turn = 0; !end.IsCancellationRequested; turn++)
            {
                var news = JsonSerializer.Deserialize(reports[i], BeaconJson.Default.AgentReport)! with { AgentVersion = $"0.{n}.{turn}" };
                using var answer = await PostAsync(http, JsonSerializer.SerializeToUtf8Bytes(news, BeaconJson.Default.AgentReport));
                if (answer.IsSuccessStatusCode)
                    Interlocked.Increment(ref taken);
            }
        }
    }

    /// <returns>The median, milliseconds.</returns>
    private static async Task<double> UnlockedAsync(HttpClient robin, int times)
    {
        var each = new List<double>();
        for (var i = 0; i < times; i++)
        {
            var clock = Stopwatch.StartNew();
            using var answer = await robin.PostAsync("/api/v1/people/robin/unlock", null);
            each.Add(clock.Elapsed.TotalMilliseconds);
            answer.EnsureSuccessStatusCode();
        }
        return each.Order().ElementAt(times / 2);
    }

    /// <summary>Pages in the write-ahead log: each durable write adds some.</summary>
    private static double WrittenBy(RunningService service) =>
        new FileInfo(Path.Combine(service.Data, "beacon.db-wal")) is { Exists: true } log ? log.Length / 4096 : 0;

    /// <returns>How many calls were answered.</returns>
    private static async Task<int> CallAsync(List<HttpClient> callers, List<byte[]> reports, TimeSpan span)
    {
        var (clock, each, done) = (Stopwatch.StartNew(), 2.0 * Stand / 60 / Agents, 0);
        await Task.WhenAll(
            callers.Select(
                async (http, i) =>
                {
                    for (var n = 0; clock.Elapsed < span; n++)
                    {
                        // Spread evenly, as agents that started at different times are.
                        var due = TimeSpan.FromSeconds((n + (double)i / Agents) / each);
                        if (due > clock.Elapsed)
                            await Task.Delay(due - clock.Elapsed);
                        using var answer =
                            n % 2 == 0 ? await PostAsync(http, reports[i]) : await http.GetAsync("/api/v1/agent/work?wait=0");
                        if (!answer.IsSuccessStatusCode)
                            throw new InvalidOperationException(await answer.Content.ReadAsStringAsync());
                        Interlocked.Increment(ref done);
                    }
                }
            )
        );
        return done;
    }

    private static Task<HttpResponseMessage> PostAsync(HttpClient http, byte[] report)
    {
        var content = new ByteArrayContent(report);
        content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
        return http.PostAsync("/api/v1/agent/report", content);
    }

    private static HttpClient CallerOf(RunningService service, string state)
    {
        var identity = Path.Combine(state, "identity", "current");
        var own = X509Certificate2.CreateFromPemFile(Path.Combine(identity, "chain.pem"), Path.Combine(identity, "key.pem"));
        var policy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck };
        policy.CustomTrustStore.ImportFromPemFile(service.RootPem);
        return new(
            new SocketsHttpHandler
            {
                MaxConnectionsPerServer = AtOnce,
                SslOptions = new SslClientAuthenticationOptions
                {
                    CertificateChainPolicy = policy,
                    ClientCertificateContext = SslStreamCertificateContext.Create(own, null, offline: true),
                },
            }
        )
        {
            BaseAddress = new Uri(service.Url),
        };
    }

    /// <summary>Three sites, each looked at, with the chain that they send.</summary>
    private static AgentReport ReportOf(RunningService service, string host)
    {
        var chain = Core.Formats.Armor.Read(File.ReadAllBytes(service.RootPem)).Blocks.Select(b => Convert.ToBase64String(b.Der)).ToList();
        var at = DateTimeOffset.UtcNow;
        IReadOnlyList<FoundService> services =
        [
            .. Enumerable
                .Range(0, 3)
                .Select(i => $"s{i}.{host}")
                .Select(name => new FoundService(
                    "nginx",
                    name,
                    [name, "www." + name],
                    [new("192.0.2.1", 443, true), new("192.0.2.1", 80, false)],
                    [$"/etc/nginx/sites/{name}.conf:2"],
                    null,
                    null,
                    [
                        new("192.0.2.1", 443, name, at, LookOutcome.Served, "", "TLS 1.3", [.. chain, .. chain]),
                        new("192.0.2.1", 443, "www." + name, at, LookOutcome.Served, "", "TLS 1.3", [.. chain, .. chain]),
                    ]
                )),
        ];
        return new("0.2.0", at, ["192.0.2.1"], services, [], null);
    }
}
