using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Benchmarks;

/// <summary>OCSP while one cheap caller does the dearest thing there is, and while thousands of connections say nothing.</summary>
internal static class Flood
{
    private const int SignInsPerSecond = 2000,
        FloodConnections = 64,
        AskersPerSecond = 2000,
        Askers = 8,
        Idle = 10_000,
        IdleFromEach = 2500;
    private static readonly TimeSpan Round = TimeSpan.FromSeconds(6);

    public static async Task RunAsync(
        string output,
        Action<string, double, double, string> atMost,
        Action<string, double, double, string> atLeast
    )
    {
        Console.WriteLine($"\nOCSP asked {AskersPerSecond} times a second, while others do their worst");
        using var service = await RunningService.StartAsync(output, "ec-p256");
        var paths = await PathsAsync(service);
        await AskAsync(service, paths);
        var quiet = await AskAsync(service, paths);
        Say("quiet", quiet);

        using (var end = new CancellationTokenSource())
        {
            var answers = new ConcurrentDictionary<int, int>();
            var clock = Stopwatch.StartNew();
            var flood = Enumerable.Range(0, FloodConnections).Select(_ => SignInAsync(service, answers, end.Token)).ToList();
            // The first sign-ins are hashed until the tokens of that address are used up: the flood is measured as it goes on.
            await Task.Delay(4000);
            var flooded = await AskAsync(service, paths);
            await end.CancelAsync();
            await Task.WhenAll(flood);
            var each = string.Join(", ", answers.OrderBy(a => a.Key).Select(a => $"{a.Key}: {a.Value}"));
            Say($"{answers.Values.Sum() / clock.Elapsed.TotalSeconds:0} sign-ins/s on {FloodConnections} connections ({each})", flooded);
            atLeast("rate under the flood ÷ quiet", flooded.Rate / quiet.Rate, 0.8, "×");
            atMost("99th percentile under the flood ÷ quiet", flooded.P99 / quiet.P99, 3, "×");
        }

        var before = RunningService.Resident(service.Id);
        var idle = await IdleAsync(service);
        var among = await AskAsync(service, paths);
        Say($"{idle.Count(s => s.Connected)} idle connections, {RunningService.Resident(service.Id) - before:0} MB for them", among);
        atLeast("rate among idle connections ÷ quiet", among.Rate / quiet.Rate, 0.8, "×");
        foreach (var s in idle)
            s.Dispose();
    }

    private static void Say(string what, (double Rate, double P99) seen) =>
        Console.WriteLine($"  {what}: {seen.Rate:0} answers/s, 99th percentile {seen.P99:0.0} ms");

    private static async Task<string[]> PathsAsync(RunningService service)
    {
        using var http = new HttpClient();
        var issuer = X509.Read(await http.GetByteArrayAsync($"http://127.0.0.1:{service.PublicationPort}/issuer/issuing.cer"));
        return
        [
            .. (await Revocations.EnrolAsync(service, 16)).Select(s =>
                $"/ocsp/issuing/{Uri.EscapeDataString(Convert.ToBase64String(OcspRequest.Write([OcspCertId.Of(issuer, s, sha256: false)], default)))}"
            ),
        ];
    }

    /// <summary>At a steady pace on connections that are kept, each answer timed from the moment it was due.</summary>
    private static async Task<(double Rate, double P99)> AskAsync(RunningService service, string[] paths)
    {
        var times = new ConcurrentBag<double>();
        var clock = Stopwatch.StartNew();
        var pause = TimeSpan.FromSeconds((double)Askers / AskersPerSecond);
        await Task.WhenAll(
            Enumerable
                .Range(0, Askers)
                .Select(_ =>
                    Task.Factory.StartNew(
                        () =>
                        {
                            using var http = new HttpClient { BaseAddress = new($"http://127.0.0.1:{service.PublicationPort}") };
                            for (var n = 0; clock.Elapsed < Round; n++)
                            {
                                var due = pause * n;
                                while (clock.Elapsed < due)
                                    Thread.Sleep(1);
                                using var answer = http.Send(new HttpRequestMessage(HttpMethod.Get, paths[n % paths.Length]));
                                answer.EnsureSuccessStatusCode();
                                times.Add((clock.Elapsed - due).TotalMilliseconds);
                            }
                        },
                        TaskCreationOptions.LongRunning
                    )
                )
        );
        var sorted = times.Order().ToArray();
        return (sorted.Length / clock.Elapsed.TotalSeconds, sorted[sorted.Length * 99 / 100]);
    }

    private static async Task SignInAsync(RunningService service, ConcurrentDictionary<int, int> answers, CancellationToken end)
    {
        using var http = service.Client();
        http.DefaultRequestHeaders.Authorization = null;
        var clock = Stopwatch.StartNew();
        for (var n = 0; !end.IsCancellationRequested; n++)
        {
            var wait = TimeSpan.FromSeconds((double)n * FloodConnections / SignInsPerSecond) - clock.Elapsed;
            if (wait > TimeSpan.Zero)
                await Task.Delay(wait);
            using var body = new StringContent(
                $$"""{"name":"nobody{{n}}","password":"whatever it may be","kind":"token"}""",
                Encoding.UTF8,
                "application/json"
            );
            using var answer = await http.PostAsync("/api/v1/session", body);
            answers.AddOrUpdate((int)answer.StatusCode, 1, (_, count) => count + 1);
        }
    }

    /// <summary>From several addresses, since one may not hold so many.</summary>
    private static async Task<List<Socket>> IdleAsync(RunningService service)
    {
        var all = new List<Socket>();
        for (var i = 0; i < Idle; i++)
        {
            var s = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
            s.Bind(new IPEndPoint(new IPAddress([127, 0, 9, (byte)(1 + i / IdleFromEach)]), 0));
            await s.ConnectAsync(IPAddress.Loopback, service.PublicationPort);
            all.Add(s);
        }
        return all;
    }
}
