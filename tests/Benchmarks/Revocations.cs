using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Benchmarks;

/// <summary>CRLs of a million entries, and OCSP answers beside a static file server.</summary>
internal static class Revocations
{
    private const int Connections = 8;

    public static void Lists(Action<string, double, double, string> atMost)
    {
        Console.WriteLine("\nA CRL of 1,000,000 entries");
        var signer = new KeySigner(KeySigner.NewKey(KeySpec.P256));
        var now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds());
        var content = new CrlContent
        {
            Issuer = DistinguishedName.Parse("CN=Bench,O=Thistledown Rail"),
            IssuerKeyIdentifier = signer.PublicKey.KeyIdentifier(),
            Number = 2,
            ThisUpdate = now,
            NextUpdate = now.AddDays(1),
        };
        RevokedCertificate Any() => new(SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)), now, RevocationReason.Superseded);
        var entries = new CrlEntries([.. Enumerable.Range(0, 1_000_000).Select(_ => Any())]);
        ReadOnlyMemory<byte> list = default;
        var (building, hashing) = (double.MaxValue, double.MaxValue);
        long peak = 0;
        for (var round = 0; round < 5; round++)
        {
            GC.Collect();
            var (clock, before) = (Stopwatch.StartNew(), GC.GetTotalAllocatedBytes(precise: true));
            entries.Add(Any());
            list = CrlWriter.Issue(content, entries, signer);
            building = Math.Min(building, clock.Elapsed.TotalMilliseconds);
            peak = Math.Max(peak, GC.GetTotalAllocatedBytes(precise: true) - before);
            clock.Restart();
            SHA256.HashData(list.Span);
            hashing = Math.Min(hashing, clock.Elapsed.TotalMilliseconds);
        }
        Console.WriteLine(
            $"  {list.Length / 1e6:0.0} MB; one more revocation, built and signed: {building:0} ms; SHA-256 over its bytes: {hashing:0} ms"
        );
        atMost("built and signed ÷ SHA-256 over its bytes", building / hashing, 4, "×");
        atMost(
            "memory: entries kept and all that was allocated ÷ its own size",
            (entries.Bytes.Length + (double)peak) / list.Length,
            3,
            "×"
        );
        var delta = double.MaxValue;
        ReadOnlyMemory<byte> small = default;
        for (var round = 0; round < 20; round++)
        {
            var clock = Stopwatch.StartNew();
            small = CrlWriter.Issue(
                content with
                {
                    Number = 3,
                    BaseNumber = 2,
                },
                new CrlEntries([.. Enumerable.Range(0, 100).Select(_ => Any())]),
                signer
            );
            delta = Math.Min(delta, clock.Elapsed.TotalMilliseconds);
        }
        atMost("a delta of 100: its time as a part of the full list's", delta / building * 100, 1, "%");
        atMost("a delta of 100: its size as a part of the full list's", small.Length * 100.0 / list.Length, 1, "%");
    }

    public static async Task AnswersAsync(string output, Action<string, double, double, string> atLeast)
    {
        Console.WriteLine("\nOCSP over HTTP, 8 connections");
        using var service = await RunningService.StartAsync(output, "ec-p256");
        var issuer = X509.Read(await new HttpClient().GetByteArrayAsync($"http://127.0.0.1:{service.PublicationPort}/issuer/issuing.cer"));
        var serials = await EnrolAsync(service, 64);
        var gets = serials
            .Select(s =>
                Get(
                    $"/ocsp/issuing/{Uri.EscapeDataString(Convert.ToBase64String(OcspRequest.Write([OcspCertId.Of(issuer, s, sha256: false)], default)))}"
                )
            )
            .ToArray();
        var size = await LengthAsync(service.PublicationPort, gets[0]);

        using var nginx = Nginx(size, out var nginxPort, out var workers);
        var files = new[] { Get("/answer.der") };
        var (ready, file, ratio) = await Program.TurnsAsync(
            () => PerCpuSecondAsync(service.PublicationPort, gets, 60_000, [service.Id]),
            () => PerCpuSecondAsync(nginxPort, files, 60_000, workers()),
            Enumerable.Max
        );
        Console.WriteLine($"  answers of {size} bytes; ready: {ready:0} per server CPU second; nginx, a file of that size: {file:0}");
        atLeast("ready answers ÷ static files by nginx, per server CPU second", ratio, 0.85, "×");

        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var tbs = RandomNumberGenerator.GetBytes(300);
        byte[][] Posts() =>
            [
                .. Enumerable
                    .Range(0, 4000)
                    .Select(i =>
                        Post(
                            "/ocsp/issuing",
                            OcspRequest.Write(
                                [OcspCertId.Of(issuer, serials[i % serials.Length], sha256: false)],
                                RandomNumberGenerator.GetBytes(32)
                            )
                        )
                    ),
            ];
        // With all cores busy in both: a core whose sibling works is slower.
        var (fresh, raw, part) = await Program.TurnsAsync(
            () => PerCpuSecondAsync(service.PublicationPort, Posts(), 20_000, [service.Id]),
            () =>
                Task.FromResult(
                    1e6 / Program.CpuMicroseconds(2000, () => key.SignData(tbs, HashAlgorithmName.SHA256), Environment.ProcessorCount)
                ),
            Enumerable.Max
        );
        Console.WriteLine($"  freshly signed, with nonces: {fresh:0} per server CPU second; raw P-256 signatures: {raw:0} per CPU second");
        atLeast("freshly signed answers ÷ raw signatures, per CPU second", part, 0.58, "×");
        nginx.Kill(entireProcessTree: true);
    }

    internal static async Task<SerialNumber[]> EnrolAsync(RunningService service, int count)
    {
        using var http = service.Client();
        var serials = new SerialNumber[count];
        for (var i = 0; i < count; i++)
        {
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var name = $"o{i}.thistledown.example";
            using var body = new StringContent(
                Convert.ToBase64String(
                    CertificationRequest.Write(DistinguishedName.ForCommonName(name), [AlternativeName.Parse(name)], new KeySigner(key))
                )
            );
            body.Headers.ContentType = new MediaTypeHeaderValue("application/pkcs10");
            using var answer = await http.PostAsync("/.well-known/est/server/simpleenroll", body);
            serials[i] = X509.Read(Pkcs7.ReadCertificates(Convert.FromBase64String(await answer.Content.ReadAsStringAsync()))[0]).Serial;
        }
        return serials;
    }

    private static byte[] Get(string path) => Encoding.ASCII.GetBytes($"GET {path} HTTP/1.1\r\nHost: localhost\r\n\r\n");

    private static byte[] Post(string path, byte[] body) =>
        [
            .. Encoding.ASCII.GetBytes(
                $"POST {path} HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/ocsp-request\r\nContent-Length: {body.Length}\r\n\r\n"
            ),
            .. body,
        ];

    private static async Task<int> LengthAsync(int port, byte[] request)
    {
        var path = Encoding.ASCII.GetString(request).Split(' ')[1];
        using var http = new HttpClient();
        return (await http.GetByteArrayAsync($"http://127.0.0.1:{port}{path}")).Length;
    }

    private static Process Nginx(int size, out int port, out Func<int[]> workers)
    {
        using (var l = new TcpListener(IPAddress.Loopback, 0))
        {
            l.Start();
            port = ((IPEndPoint)l.LocalEndpoint).Port;
        }
        var folder = Directory.CreateTempSubdirectory("beacon-bench-nginx-").FullName;
        File.WriteAllBytes(Path.Combine(folder, "answer.der"), RandomNumberGenerator.GetBytes(size));
        File.WriteAllText(
            Path.Combine(folder, "nginx.conf"),
            $$"""
            user root; daemon off; worker_processes 1; pid {{folder}}/pid; error_log {{folder}}/error.log;
            events { }
            http { access_log off; keepalive_requests 1000000; sendfile on; open_file_cache max=10; default_type application/ocsp-response; client_body_temp_path {{folder}}/b; proxy_temp_path {{folder}}/p; fastcgi_temp_path {{folder}}/f; uwsgi_temp_path {{folder}}/u; scgi_temp_path {{folder}}/s;
              server { listen 127.0.0.1:{{port}}; root {{folder}}; } }
            """
        );
        var p = Process.Start(
            new ProcessStartInfo(
                File.Exists("/usr/sbin/nginx") ? "/usr/sbin/nginx" : "nginx",
                ["-e", Path.Combine(folder, "error.log"), "-p", folder, "-c", Path.Combine(folder, "nginx.conf")]
            )
        )!;
        workers = () =>
            [
                p.Id,
                .. File.ReadAllText($"/proc/{p.Id}/task/{p.Id}/children")
                    .Split(' ', StringSplitOptions.RemoveEmptyEntries)
                    .Select(int.Parse),
            ];
        for (var i = 0; i < 100; i++)
            try
            {
                using var c = new TcpClient("127.0.0.1", port);
                break;
            }
            catch (SocketException)
            {
                Thread.Sleep(50);
            }
        return p;
    }

    /// <summary>Asks the server over kept connections, one question after the other on each; how many it answered per second of its own CPU.</summary>
    private static async Task<double> PerCpuSecondAsync(int port, byte[][] requests, int count, int[] server)
    {
        TimeSpan Cpu() => server.Aggregate(TimeSpan.Zero, (sum, id) => sum + RunningService.CpuOf(id));
        var before = Cpu();
        await Task.WhenAll(
            Enumerable
                .Range(0, Connections)
                .Select(n => Task.Factory.StartNew(() => Ask(port, requests, n, count / Connections), TaskCreationOptions.LongRunning))
        );
        return count / (Cpu() - before).TotalSeconds;
    }

    private static void Ask(int port, byte[][] requests, int start, int count)
    {
        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        socket.Connect(IPAddress.Loopback, port);
        var buffer = new byte[16 << 10];
        for (var i = 0; i < count; i++)
        {
            socket.Send(requests[(start + i * Connections) % requests.Length]);
            var (have, want) = (0, int.MaxValue);
            while (have < want)
            {
                var read = socket.Receive(buffer, have, buffer.Length - have, SocketFlags.None);
                if (read == 0)
                    throw new InvalidOperationException("the server closed the connection");
                have += read;
                if (want != int.MaxValue || buffer.AsSpan(0, have).IndexOf("\r\n\r\n"u8) is not (> 0 and var end))
                    continue;
                var head = buffer.AsSpan(0, end);
                if (!head.StartsWith("HTTP/1.1 200"u8))
                    throw new InvalidOperationException(Encoding.ASCII.GetString(head));
                var at = head.IndexOf("Content-Length: "u8) + 16;
                var length = 0;
                while (at < head.Length && head[at] is >= (byte)'0' and <= (byte)'9')
                    length = length * 10 + head[at++] - '0';
                want = end + 4 + length;
            }
        }
    }
}
