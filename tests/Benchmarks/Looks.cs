using System.Diagnostics;
using System.Globalization;
using OrderlyBeacon.Agent.Tests.Contract;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Probes;
using OrderlyBeacon.Testing;

namespace OrderlyBeacon.Benchmarks;

/// <summary>One look, its judgement included, beside openssl's own handshake; and what an agent finds on a host with many sites beside the server's own test of them.</summary>
internal static class Looks
{
    private const int Times = 200,
        Rounds = 5,
        Sites = 500;

    public static void Run(Action<string, double, double, string> atMost)
    {
        Console.WriteLine("\nA look, and a host with many sites");
        using var nginx = new NginxServer();
        nginx.Configure(null);
        nginx.Start();
        nginx.BindAsync(nginx.Bench.Issue(nginx.Name, nginx.Name)).GetAwaiter().GetResult();
        var probe = new Probe(nginx.Address, nginx.Doors[0].Port, nginx.Name);
        X509[] anchors = [nginx.Bench.Root];
        Look(probe, anchors);
        var (ours, theirs) = (double.MaxValue, double.MaxValue);
        for (var round = 0; round < Rounds; round++)
        {
            ours = Math.Min(ours, Program.CpuMicroseconds(Times, () => Look(probe, anchors)));
            theirs = Math.Min(theirs, OpenSsl(probe));
        }
        atMost($"{ours:0} µs of CPU for a look ÷ {theirs:0} µs for openssl s_time's handshake", ours / theirs, 1.5, "×");
        Discovery(nginx, atMost);
    }

    private static void Look(Probe probe, IReadOnlyList<X509> anchors)
    {
        var look = TlsProbe.LookAsync(probe, TimeProvider.System, CancellationToken.None).GetAwaiter().GetResult();
        if (look.Outcome != LookOutcome.Served)
            throw new InvalidOperationException(look.Message);
        var chain = look.Chain.Select(c => X509.Read(Convert.FromBase64String(c))).ToList();
        var verdict = LookJudge.Judge(probe.Name, chain, anchors, [], DateTimeOffset.UtcNow);
        if (!verdict.Accepted)
            throw new InvalidOperationException(verdict.Problems[0].ToString());
    }

    /// <returns>Microseconds of CPU for one connection.</returns>
    private static double OpenSsl(Probe probe)
    {
        var (_, output, error) = Programs.Run(
            "bash",
            ["-c", $"TIMEFORMAT='cpu %U %S'; time openssl s_time -connect {probe.Address}:{probe.Port} -new -time 2"]
        );
        var connections = output.Split('\n').First(l => l.Contains("connections in")).Split(' ')[0];
        var cpu = error.Split('\n').First(l => l.StartsWith("cpu ", StringComparison.Ordinal)).Split(' ');
        var seconds = double.Parse(cpu[1], CultureInfo.InvariantCulture) + double.Parse(cpu[2], CultureInfo.InvariantCulture);
        return seconds * 1e6 / int.Parse(connections, CultureInfo.InvariantCulture);
    }

    private static void Discovery(NginxServer nginx, Action<string, double, double, string> atMost)
    {
        var entry = nginx.Bench.Issue("many", "many.example");
        var (certificate, key) = (nginx.Bench.Store.FilesOf("many", nginx.Connector.Needs).Certificates, entry.KeyPath);
        certificate = Path.Combine(nginx.Folder, "many.pem");
        File.WriteAllText(certificate, Core.Formats.Armor.Write(Core.Formats.Armor.Certificate, entry.Leaf().Der.Span));
        var sites = Enumerable
            .Range(0, Sites)
            .Select(i =>
            {
                var file = Path.Combine(nginx.ConfigFolder, $"site{i}.conf");
                File.WriteAllText(
                    file,
                    $"server {{\n    listen {nginx.Address}:8444 ssl;\n    server_name site{i}.thistledown.example www.site{i}.thistledown.example;\n"
                        + $"    ssl_certificate {certificate};\n    ssl_certificate_key {key};\n    root {nginx.Folder};\n    location / {{ try_files $uri /index.html; }}\n}}\n"
                );
                return $"    include {file};";
            });
        var main = File.ReadAllText(nginx.MainFile);
        var end = main.LastIndexOf('}');
        File.WriteAllText(nginx.MainFile, main[..end] + string.Join('\n', sites) + "\n}\n");
        var found = nginx.Connector.Discover(nginx.Connector.Files).Services.Count;
        if (found < Sites)
            throw new InvalidOperationException($"only {found} sites are found");
        var (ours, theirs) = (double.MaxValue, double.MaxValue);
        for (var round = 0; round < Rounds; round++)
        {
            ours = Math.Min(ours, Milliseconds(() => nginx.Connector.Discover(nginx.Connector.Files)));
            theirs = Math.Min(
                theirs,
                Milliseconds(() =>
                    Programs.Run("/usr/sbin/nginx", ["-t", "-e", nginx.Folder + "/error.log", "-p", nginx.Folder, "-c", nginx.MainFile])
                )
            );
        }
        atMost($"{ours:0} ms to find {found} sites ÷ {theirs:0} ms for nginx's own test", ours / theirs, 2, "×");
    }

    private static double Milliseconds(Action work)
    {
        var clock = Stopwatch.StartNew();
        work();
        return clock.Elapsed.TotalMilliseconds;
    }
}
