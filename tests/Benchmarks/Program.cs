using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Benchmarks;

/// <summary>Figures as ratios to a limit measured in the same run. ./bench builds and starts it.</summary>
internal static class Program
{
    private static string _out = "";
    private static int _misses;

    public static async Task<int> Main(string[] args)
    {
        _out = args[0];
        // A third argument picks one part.
        var part = args.Length > 2 ? args[2] : "";
        foreach (var key in new[] { "rsa-2048", "ec-p256" })
            if (part.Length == 0 || part == key)
                await IssuingAsync(key, key == "rsa-2048" ? 1.6 : 4.0);
        if (part is "" or "names")
            Deciding.ManyNames(Report);
        if (part is "" or "crl")
            Revocations.Lists(Report);
        if (part is "" or "ocsp")
            await Revocations.AnswersAsync(_out, ReportAtLeast);
        if (part is "" or "flood")
            await Flood.RunAsync(_out, Report, ReportAtLeast);
        if (part is "" or "table")
            await Table.RunAsync(Report);
        if (part is "" or "fleet")
            await Fleet.RunAsync(_out, Report);
        if (part is "" or "reporters")
            await Reporters.RunAsync(_out, Report);
        if (part is "" or "swaps")
            await Swaps.RunAsync(Report);
        if (part is "" or "looks")
            Looks.Run(Report);
        if (part is "" or "client")
            await ClientAsync(args[1]);
        if (part is "" or "idle")
            await IdleAsync();
        Console.WriteLine(_misses == 0 ? "All ratios are within their limits." : $"{_misses} ratios are over their limits.");
        return _misses == 0 ? 0 : 1;
    }

    private static void Report(string what, double value, double limit, string unit)
    {
        if (value > limit)
            _misses++;
        Console.WriteLine($"  {what, -66} {value, 8:0.00} {unit, -3} limit {limit:0.##}{(value > limit ? "  OVER" : "")}");
    }

    private static void ReportAtLeast(string what, double value, double limit, string unit)
    {
        if (value < limit)
            _misses++;
        Console.WriteLine($"  {what, -66} {value, 8:0.00} {unit, -3} at least {limit:0.##}{(value < limit ? "  UNDER" : "")}");
    }

    /// <summary>CPU of this process for one operation, in microseconds: the best of five rounds, since the machine is shared.</summary>
    /// <param name="cores">On how many cores at once: a core whose sibling is busy is slower, and the service is measured with all of them busy.</param>
    internal static double CpuMicroseconds(int times, Action work, int cores = 1)
    {
        var best = double.MaxValue;
        for (var round = 0; round < 5; round++)
        {
            var before = Process.GetCurrentProcess().TotalProcessorTime;
            Parallel.For(
                0,
                cores,
                new ParallelOptions { MaxDegreeOfParallelism = cores },
                _ =>
                {
                    for (var i = 0; i < times; i++)
                        work();
                }
            );
            best = Math.Min(best, (Process.GetCurrentProcess().TotalProcessorTime - before).TotalMicroseconds / times / cores);
        }
        return best;
    }

    /// <summary>Two figures measured in turns, the best of each, and the middle of their ratios turn by turn: what the machine's neighbours take falls on both alike.</summary>
    /// <param name="best">Which of several is the best.</param>
    internal static async Task<(double A, double B, double Ratio)> TurnsAsync(
        Func<Task<double>> a,
        Func<Task<double>> b,
        Func<IEnumerable<double>, double> best,
        int count = 9
    )
    {
        // The runtime compiles what is hot in the background, over many seconds: it is measured when three rounds brought nothing more.
        var reached = await a();
        for (var (warm, still) = (0, 0); still < 3 && warm < 20; warm++)
        {
            await Task.Delay(TimeSpan.FromSeconds(1));
            var now = await a();
            still = Math.Abs(best([reached, now]) - reached) < 0.02 * reached ? still + 1 : 0;
            reached = best([reached, now]);
        }
        var turns = new List<(double A, double B)>();
        for (var turn = 0; turn < count; turn++)
            turns.Add((await a(), await b()));
        return (best(turns.Select(t => t.A)), best(turns.Select(t => t.B)), turns.Select(t => t.A / t.B).Order().ElementAt(count / 2));
    }

    private static async Task IssuingAsync(string authorityKey, double limit)
    {
        Console.WriteLine($"\nIssuing over EST, issuer {authorityKey}, CSRs of ec-p256");
        using var issuer = KeySigner.NewKey(KeySpec.Parse(authorityKey));
        var signer = new KeySigner(issuer);
        using var requester = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var tbs = RandomNumberGenerator.GetBytes(900);
        var hash = HashAlgorithmName.SHA256;
        var signature = requester.SignData(tbs, hash);
        var times = authorityKey.StartsWith("rsa") ? 100 : 1000;
        // Each CSR brings a key of its own, so checking one means loading its key: the bare verification has that in it.
        var spki = requester.ExportSubjectPublicKeyInfo();
        double sign = double.MaxValue,
            verify = double.MaxValue;
        var loaded = CpuMicroseconds(times, () => requester.VerifyData(tbs, signature, hash), Environment.ProcessorCount);
        double Bare()
        {
            var s = CpuMicroseconds(times, () => signer.Sign(tbs), Environment.ProcessorCount);
            var v = CpuMicroseconds(
                times,
                () =>
                {
                    using var key = ECDsa.Create();
                    key.ImportSubjectPublicKeyInfo(spki, out _);
                    key.VerifyData(tbs, signature, hash);
                },
                Environment.ProcessorCount
            );
            (sign, verify) = (Math.Min(sign, s), Math.Min(verify, v));
            return s + v;
        }

        using var service = await RunningService.StartAsync(_out, authorityKey);
        var bodies = Enumerable
            .Range(0, 4000)
            .Select(i =>
            {
                using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
                return Convert.ToBase64String(
                    CertificationRequest.Write(
                        DistinguishedName.ForCommonName($"n{i}.thistledown.example"),
                        [AlternativeName.Parse($"n{i}.thistledown.example")],
                        new KeySigner(key)
                    )
                );
            })
            .ToArray();
        var next = -1;
        async Task RunAsync(HttpClient http, int count)
        {
            for (var i = 0; i < count; i++)
            {
                var body = bodies[Interlocked.Increment(ref next) % bodies.Length];
                using var m = new HttpRequestMessage(HttpMethod.Post, "/.well-known/est/server/simpleenroll")
                {
                    Content = new StringContent(body, Encoding.ASCII),
                };
                m.Content.Headers.ContentType = new MediaTypeHeaderValue("application/pkcs10");
                using var answer = await http.SendAsync(m);
                if (answer.StatusCode != HttpStatusCode.OK)
                    throw new InvalidOperationException($"{(int)answer.StatusCode} {await answer.Content.ReadAsStringAsync()}");
                await answer.Content.ReadAsByteArrayAsync();
            }
        }
        var clients = Enumerable.Range(0, 8).Select(_ => service.Client()).ToArray();
        await Task.WhenAll(clients.Select(c => RunAsync(c, 2000)));
        double rate = 0,
            busy = 0;
        async Task<double> ServedAsync()
        {
            const int each = 250;
            var (cpu, clock) = (service.Cpu(), Stopwatch.StartNew());
            await Task.WhenAll(clients.Select(c => RunAsync(c, each)));
            var used = (service.Cpu() - cpu).TotalMicroseconds / (each * clients.Length);
            if (each * clients.Length / clock.Elapsed.TotalSeconds is var r && r > rate)
                (rate, busy) = (r, used * r / 1e6);
            return used;
        }
        var (best, _, ratio) = await TurnsAsync(ServedAsync, () => Task.FromResult(Bare()), Enumerable.Min);
        Console.WriteLine(
            $"  raw signature {sign:0} µs, bare verification {verify:0} µs ({loaded:0} µs of it after the key is loaded); per certificate {best:0} µs of server CPU; {rate:0} certificates/s with 8 connections"
        );
        Report("server CPU ÷ (raw signature + bare verification)", ratio, limit, "×");

        Report("right and decision ÷ server CPU", Deciding.Microseconds(bodies[0]) / best * 100, 5, "%");
        Console.WriteLine(
            $"  {"(the same against a verification with a key that is loaded already)", -66} {best / (sign + loaded), 8:0.00} ×"
        );

        // Is the disk the brake? The same machine's raw synchronous writes, one after another, against what was recorded durably.
        var syncs = SyncsPerSecond(service.Data);
        Console.WriteLine(
            $"  raw disk: {syncs:0} synchronous writes/s; recorded {rate:0}/s with {busy:0.00} cores busy in the server (client and server share the machine)"
        );
        Report(
            "raw synchronous writes ÷ certificates recorded (group commit)",
            syncs / rate,
            authorityKey.StartsWith("rsa") ? 20 : 10,
            "×"
        );
        foreach (var c in clients)
            c.Dispose();
    }

    private static double SyncsPerSecond(string folder)
    {
        using var f = new FileStream(Path.Combine(folder, "sync.test"), FileMode.Create, FileAccess.Write, FileShare.None, 0);
        var page = new byte[4096];
        var clock = Stopwatch.StartNew();
        var n = 0;
        while (clock.Elapsed < TimeSpan.FromSeconds(1))
        {
            f.Write(page);
            f.Flush(true);
            n++;
        }
        return n / clock.Elapsed.TotalSeconds;
    }

    /// <summary>Wall times of whole programs: the middle of many runs, in turns, so that noise falls on both alike.</summary>
    private static (double A, double B) Turns(int times, Func<double> a, Func<double> b)
    {
        var (x, y) = (new List<double>(), new List<double>());
        for (var i = 0; i < times; i++)
        {
            x.Add(a());
            y.Add(b());
        }
        return (x.Order().ElementAt(times / 2), y.Order().ElementAt(times / 2));
    }

    private static double Wall(string program, string[] args, IReadOnlyDictionary<string, string>? environment = null)
    {
        var start = new ProcessStartInfo(program, args) { RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var (k, v) in environment ?? new Dictionary<string, string>())
            start.Environment[k] = v;
        var clock = Stopwatch.StartNew();
        using var p = Process.Start(start)!;
        p.StandardOutput.ReadToEnd();
        p.WaitForExit();
        if (p.ExitCode != 0)
            throw new InvalidOperationException($"{program} {string.Join(' ', args)}: {p.StandardError.ReadToEnd()}");
        return clock.Elapsed.TotalMilliseconds;
    }

    private static async Task ClientAsync(string hello)
    {
        Console.WriteLine("\nThe client");
        var beacon = Path.Combine(_out, "cli", "beacon");
        var (version, plain) = Turns(41, () => Wall(beacon, ["--version"]), () => Wall(hello, []));
        Console.WriteLine($"  beacon --version {version:0.0} ms, hello-world of the same kind {plain:0.0} ms");
        Report("beacon --version ÷ hello-world", version / plain, 3, "×");

        using var service = await RunningService.StartAsync(_out, "ec-p256");
        var home = Path.Combine(service.Data, "home");
        var env = new Dictionary<string, string> { ["BEACON_HOME"] = home };
        Wall(
            beacon,
            ["sign-in", "--service", service.Url, "--name", "robin", "--root", service.RootPem, "--password-file", service.PasswordFile],
            env
        );
        var token = System
            .Text.Json.JsonDocument.Parse(File.ReadAllText(Path.Combine(home, "session.json")))
            .RootElement.GetProperty("token")
            .GetString();
        var header = Path.Combine(home, "header");
        File.WriteAllText(header, "Authorization: Bearer " + token);
        var (status, curl) = Turns(
            41,
            () => Wall(beacon, ["status"], env),
            () => Wall("curl", ["-sS", "--cacert", service.RootPem, "-H", "@" + header, service.Url + "/api/v1/today"])
        );
        Console.WriteLine($"  beacon status {status:0.0} ms, curl {curl:0.0} ms");
        Report("beacon status ÷ curl making the same call", status / curl, 1.2, "×");
    }

    private static async Task IdleAsync()
    {
        Console.WriteLine("\nIdle");
        using var service = await RunningService.StartAsync(_out, "ec-p256");
        var state = await service.JoinAsync(_out, "web01.thistledown.example");
        using var agent = service.StartAgent(_out, state);
        // A service founds its authorities once in its life; how it idles is seen after a start like all the others.
        await service.RestartAsync();
        // For two minutes the runtime compiles what the start needed, in the background.
        await Task.Delay(TimeSpan.FromSeconds(150));
        var (before, of, clock) = (RunningService.CpuOf(agent.Id), service.Cpu(), Stopwatch.StartNew());
        await Task.Delay(TimeSpan.FromSeconds(60));
        var share = (RunningService.CpuOf(agent.Id) - before).TotalMilliseconds / clock.Elapsed.TotalMilliseconds * 100;
        var own = (service.Cpu() - of).TotalMilliseconds / clock.Elapsed.TotalMilliseconds * 100;
        Report("service, share of a core", own, 0.3, "%");
        Report("agent, resident", RunningService.Resident(agent.Id), 30, "MB");
        Report("agent, share of a core", share, 0.2, "%");
        Report("service, resident", RunningService.Resident(service.Id), 140, "MB");
        agent.Kill();
    }
}

/// <summary>A published beacond on loopback with a folder of its own.</summary>
internal sealed class RunningService : IDisposable
{
    private readonly ProcessStartInfo _start;
    private readonly int _port;
    private Process _process;

    private RunningService(ProcessStartInfo start, string data, int port, int plain) =>
        (_start, _process, Data, _port, PublicationPort) = (start, Run(start), data, port, plain);

    public int PublicationPort { get; }

    public string Data { get; }
    public int Id => _process.Id;
    public int Port => _port;
    public string Url => $"https://localhost:{_port}";
    public string RootPem => Path.Combine(Data, "root.pem");
    public string PasswordFile => Data + ".password";
    private const string Password = "correct horse battery";

    private static int FreePort()
    {
        using var l = new TcpListener(IPAddress.Loopback, 0);
        l.Start();
        return ((IPEndPoint)l.LocalEndpoint).Port;
    }

    public static async Task<RunningService> StartAsync(string output, string authorityKey)
    {
        var data = Directory.CreateTempSubdirectory("beacon-bench-").FullName;
        File.WriteAllText(data + ".password", Password);
        var (port, plain) = (FreePort(), FreePort());
        var start = new ProcessStartInfo("dotnet", [Path.Combine(output, "service", "beacond.dll")])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (
            var (k, v) in new Dictionary<string, string>
            {
                ["BEACON_DATA"] = data,
                ["BEACON_PORT"] = port.ToString(),
                ["BEACON_PUBLICATIONPORT"] = plain.ToString(),
                ["BEACON_ZONES"] = "thistledown.example=administrators",
                ["BEACON_FIRSTNAME"] = "robin",
                ["BEACON_FIRSTPASSWORDFILE"] = data + ".password",
                ["BEACON_AUTHORITYKEY"] = authorityKey,
                ["Logging__LogLevel__Default"] = "Warning",
            }
        )
            start.Environment[k] = v;
        var service = new RunningService(start, data, port, plain);
        await service.ReadyAsync();
        return service;
    }

    public async Task RestartAsync()
    {
        _process.Kill();
        await _process.WaitForExitAsync();
        _process = Run(_start);
        await ReadyAsync();
    }

    private static Process Run(ProcessStartInfo start)
    {
        var p = Process.Start(start)!;
        // What it has to say of errors belongs to what was measured.
        p.OutputDataReceived += (_, e) => Complain(e.Data);
        p.ErrorDataReceived += (_, e) => Complain(e.Data);
        p.BeginOutputReadLine();
        p.BeginErrorReadLine();
        return p;

        static void Complain(string? line)
        {
            if (line is not null && (line.Contains("\"Error\"", StringComparison.Ordinal) || !line.StartsWith('{')))
                Console.WriteLine("  the service says: " + line);
        }
    }

    private async Task ReadyAsync()
    {
        using var http = new HttpClient();
        for (var i = 0; i < 300; i++)
        {
            try
            {
                if ((await http.GetAsync($"http://127.0.0.1:{PublicationPort}/readyz")).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException) { }
            await Task.Delay(100);
        }
        throw new InvalidOperationException("the service did not start");
    }

    public HttpClient Client()
    {
        var policy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck };
        policy.CustomTrustStore.ImportFromPemFile(RootPem);
        var http = new HttpClient(
            new SocketsHttpHandler
            {
                MaxConnectionsPerServer = 1,
                SslOptions = new SslClientAuthenticationOptions { CertificateChainPolicy = policy },
            }
        )
        {
            BaseAddress = new Uri(Url),
        };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue(
            "Basic",
            Convert.ToBase64String(Encoding.UTF8.GetBytes("robin:" + Password))
        );
        return http;
    }

    /// <summary>With a session, so that no call hashes a password.</summary>
    public async Task<HttpClient> SignedInAsync()
    {
        var http = Client();
        var signIn = new StringContent(
            $"{{\"name\":\"robin\",\"password\":\"{File.ReadAllText(PasswordFile)}\",\"kind\":\"token\"}}",
            Encoding.UTF8,
            "application/json"
        );
        using var session = await http.PostAsync("/api/v1/session", signIn);
        using var token = System.Text.Json.JsonDocument.Parse(await session.EnsureSuccessStatusCode().Content.ReadAsStringAsync());
        http.DefaultRequestHeaders.Authorization = new("Bearer", token.RootElement.GetProperty("token").GetString());
        return http;
    }

    /// <summary>Joins an agent with an nginx configuration of one plain site.</summary>
    /// <returns>Its folder.</returns>
    public async Task<string> JoinAsync(string output, string host)
    {
        var home = new Dictionary<string, string> { ["BEACON_HOME"] = Path.Combine(Data, "home") };
        async Task<string> RunAsync(string program, string[] args, string input = "")
        {
            var start = new ProcessStartInfo(program, args) { RedirectStandardOutput = true, RedirectStandardInput = true };
            foreach (var (k, v) in home)
                start.Environment[k] = v;
            using var p = Process.Start(start)!;
            await p.StandardInput.WriteAsync(input);
            p.StandardInput.Close();
            var text = await p.StandardOutput.ReadToEndAsync();
            await p.WaitForExitAsync();
            return text;
        }
        var beacon = Path.Combine(output, "cli", "beacon");
        if (!File.Exists(Path.Combine(Data, "home", "session.json")))
            await RunAsync(beacon, ["sign-in", "--service", Url, "--name", "robin", "--root", RootPem, "--password-file", PasswordFile]);
        var code = System
            .Text.Json.JsonDocument.Parse(await RunAsync(beacon, ["host", "invite", host, "--json"]))
            .RootElement.GetProperty("code")
            .GetString()!;
        var conf = Path.Combine(Data, "nginx.conf");
        File.WriteAllText(conf, "http { server { listen 127.0.0.1:1; server_name a.thistledown.example; } }");
        var state = Path.Combine(Data, "agent-" + host);
        await RunAsync(
            Path.Combine(output, "agent", "beacon-agent"),
            ["join", "--state", state, "--service", Url, "--host", host, "--code-file", "-", "--nginx", conf],
            code
        );
        return state;
    }

    public Process StartAgent(string output, string state) =>
        Process.Start(
            new ProcessStartInfo(Path.Combine(output, "agent", "beacon-agent"), ["run", "--state", state]) { RedirectStandardOutput = true }
        )!;

    public TimeSpan Cpu() => CpuOf(Id);

    public static TimeSpan CpuOf(int id)
    {
        var stat = File.ReadAllText($"/proc/{id}/stat");
        var f = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
        return TimeSpan.FromMilliseconds((long.Parse(f[11]) + long.Parse(f[12])) * 10);
    }

    /// <summary>Megabytes.</summary>
    public static double Resident(int id) =>
        double.Parse(
            File.ReadLines($"/proc/{id}/status")
                .Single(l => l.StartsWith("VmRSS", StringComparison.Ordinal))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1]
        ) / 1024;

    public void Dispose()
    {
        _process.Kill();
        _process.WaitForExit();
        try
        {
            Directory.Delete(Data, true);
            File.Delete(PasswordFile);
        }
        catch (IOException) { }
    }
}
