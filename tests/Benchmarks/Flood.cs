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
        IdleFromEach = 2500,
        Slow = 2000;
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
            // The connections are there already: what is measured is what is done over them.
            var clients = Enumerable.Range(0, FloodConnections).Select(_ => service.Client()).ToList();
            foreach (var c in clients)
                (await c.GetAsync("/api/v1/session")).Dispose();
            (await SignInAsync(clients[0], 0)).Dispose();
            var clock = Stopwatch.StartNew();
            var flood = clients.Select(c => FloodAsync(c, answers, end.Token)).ToList();
            var flooded = await AskAsync(service, paths);
            await end.CancelAsync();
            await Task.WhenAll(flood);
            var each = string.Join(", ", answers.OrderBy(a => a.Key).Select(a => $"{a.Key}: {a.Value}"));
            Say($"{answers.Values.Sum() / clock.Elapsed.TotalSeconds:0} sign-ins/s on {FloodConnections} connections ({each})", flooded);
            atLeast("rate under the flood ÷ quiet", flooded.Rate / quiet.Rate, 0.8, "×");
            atMost("99th percentile under the flood ÷ quiet", flooded.P99 / quiet.P99, 3, "×");
        }

        await AmongAsync("idle connections on the plain port", () => IdleAsync(service.PublicationPort));
        await AmongAsync("connections that never begin TLS", () => IdleAsync(service.Port));
        await AmongAsync("connections that send a byte of a body each second", () => SlowAsync(service));

        async Task AmongAsync(string what, Func<Task<List<Socket>>> connect)
        {
            var before = RunningService.Resident(service.Id);
            var others = await connect();
            var memory = RunningService.Resident(service.Id) - before;
            var among = await AskAsync(service, paths);
            // Nobody is owed an answer: what can be read is an end, or a word that it ends.
            var ended = others.Count(s => !s.Connected || (s.Poll(0, SelectMode.SelectRead)));
            Say($"{others.Count} {what}, {memory:0} MB for them, {ended} ended by the service meanwhile", among);
            atLeast("rate among them ÷ quiet", among.Rate / quiet.Rate, 0.8, "×");
            atMost("99th percentile among them ÷ quiet", among.P99 / quiet.P99, 3, "×");
            foreach (var s in others)
                s.Dispose();
        }
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
    /// <returns>The middle of three rounds, since one pause of the machine spoils the 99th percentile of a round.</returns>
    private static async Task<(double Rate, double P99)> AskAsync(RunningService service, string[] paths)
    {
        var rounds = new List<(double Rate, double P99)>();
        for (var n = 0; n < 3; n++)
            rounds.Add(await RoundAsync(service, paths));
        Console.WriteLine($"    rounds: {string.Join(", ", rounds.Select(r => $"{r.P99:0.0} ms"))}");
        return (rounds.Select(r => r.Rate).Order().ElementAt(1), rounds.Select(r => r.P99).Order().ElementAt(1));
    }

    private static async Task<(double Rate, double P99)> RoundAsync(RunningService service, string[] paths)
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

    private static async Task FloodAsync(HttpClient http, ConcurrentDictionary<int, int> answers, CancellationToken end)
    {
        using var mine = http;
        var clock = Stopwatch.StartNew();
        for (var n = 0; !end.IsCancellationRequested; n++)
        {
            var wait = TimeSpan.FromSeconds((double)n * FloodConnections / SignInsPerSecond) - clock.Elapsed;
            if (wait > TimeSpan.Zero)
                await Task.Delay(wait);
            using var answer = await SignInAsync(http, n);
            answers.AddOrUpdate((int)answer.StatusCode, 1, (_, count) => count + 1);
        }
    }

    private static async Task<HttpResponseMessage> SignInAsync(HttpClient http, int n)
    {
        http.DefaultRequestHeaders.Authorization = null;
        using var body = new StringContent(
            $$"""{"name":"nobody{{n}}","password":"whatever it may be","kind":"token"}""",
            Encoding.UTF8,
            "application/json"
        );
        return await http.PostAsync("/api/v1/session", body);
    }

    /// <summary>From several addresses, since one may not hold so many.</summary>
    private static async Task<List<Socket>> IdleAsync(int port, int count = Idle)
    {
        var all = new List<Socket>();
        for (var i = 0; i < count; i++)
        {
            var s = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
            s.Bind(new IPEndPoint(new IPAddress([127, 0, 9, (byte)(1 + i / IdleFromEach)]), 0));
            await s.ConnectAsync(IPAddress.Loopback, port);
            all.Add(s);
        }
        return all;
    }

    /// <summary>Questions whose bodies drip: each holds a request open for as long as it is let.</summary>
    private static async Task<List<Socket>> SlowAsync(RunningService service)
    {
        var all = await IdleAsync(service.PublicationPort, Slow);
        var head = Encoding.ASCII.GetBytes(
            "POST /ocsp/issuing HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/ocsp-request\r\nContent-Length: 4000\r\n\r\n"
        );
        foreach (var s in all)
            await s.SendAsync(head);
        _ = Task.Run(async () =>
        {
            var clock = Stopwatch.StartNew();
            while (clock.Elapsed < 3 * Round)
            {
                foreach (var s in all)
                    try
                    {
                        s.Send([0x30]);
                    }
                    catch (Exception e) when (e is SocketException or ObjectDisposedException) { }
                await Task.Delay(1000);
            }
        });
        return all;
    }
}
