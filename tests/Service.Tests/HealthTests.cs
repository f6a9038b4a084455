using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The health report, with a public web server in front of the service in which every fault can be put.</summary>
public sealed class HealthTests
{
    /// <summary>What stands at the addresses in certificates: hands on to the service, unless a path has an answer of its own.</summary>
    private sealed class PublicServer : IDisposable
    {
        public delegate Task Answer(Stream to, CancellationToken ct);

        private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
        private readonly CancellationTokenSource _end = new();
        private readonly int _service;

        public PublicServer(int service)
        {
            _service = service;
            _listener.Start();
            _ = Task.Run(AcceptAsync);
        }

        public string Url => $"http://localhost:{((IPEndPoint)_listener.LocalEndpoint).Port}";

        /// <summary>By path; OCSP has one path however it is asked.</summary>
        public Dictionary<string, Answer> Instead { get; } = [];

        public static Answer Give(int status, string type, byte[] body, string more = "") =>
            async (to, ct) =>
            {
                await to.WriteAsync(
                    Encoding.ASCII.GetBytes(
                        $"HTTP/1.1 {status} X\r\nContent-Type: {type}\r\nContent-Length: {body.Length}\r\nDate: {DateTimeOffset.UtcNow:R}\r\n{more}Connection: close\r\n\r\n"
                    ),
                    ct
                );
                await to.WriteAsync(body, ct);
            };

        private async Task AcceptAsync()
        {
            while (!_end.IsCancellationRequested)
            {
                TcpClient client;
                try
                {
                    client = await _listener.AcceptTcpClientAsync(_end.Token);
                }
                catch (Exception e) when (e is OperationCanceledException or ObjectDisposedException or SocketException)
                {
                    return;
                }
                _ = Task.Run(async () =>
                {
                    using (client)
                        try
                        {
                            await OneAsync(client.GetStream());
                        }
                        catch (Exception e) when (e is IOException or OperationCanceledException or SocketException) { }
                });
            }
        }

        private async Task OneAsync(Stream s)
        {
            var head = new List<byte>();
            var one = new byte[1];
            while (!Encoding.ASCII.GetString([.. head.TakeLast(4)]).Equals("\r\n\r\n") && await s.ReadAsync(one) > 0)
                head.Add(one[0]);
            var text = Encoding.ASCII.GetString([.. head]);
            if (text.Length == 0)
                return;
            var path = text.Split(' ')[1];
            if (Instead.FirstOrDefault(i => path.StartsWith(i.Key, StringComparison.Ordinal)).Value is { } answer)
            {
                await answer(s, _end.Token);
                return;
            }
            // Asked to close, so that one connection is one question.
            using var onward = new TcpClient("localhost", _service);
            var o = onward.GetStream();
            await o.WriteAsync(
                Encoding.ASCII.GetBytes(text.Insert(text.IndexOf("\r\n", StringComparison.Ordinal) + 2, "Connection: close\r\n"))
            );
            if (text.Contains("Content-Length: ", StringComparison.OrdinalIgnoreCase))
            {
                var body = new byte[int.Parse(text.Split("Content-Length: ")[1].Split("\r\n")[0])];
                await s.ReadExactlyAsync(body);
                await o.WriteAsync(body);
            }
            await o.CopyToAsync(s);
        }

        public void Dispose()
        {
            _end.Cancel();
            _listener.Stop();
        }
    }

    [Fact]
    public async Task Each_fault_is_named_with_its_cure()
    {
        await using var w = new OfflineWorld();
        using var server = new PublicServer(w.Service.PublicationPort);
        w.Found(server.Url);
        var settings = new Dictionary<string, string> { ["BEACON_PUBLICATIONURL"] = server.Url, ["BEACON_HEALTHMINUTES"] = "600" };
        await w.StartAsync(settings);
        w.SignAndInstall();
        var (leaf, _, _, edition) = w.Enrol();

        // Nothing of the root's revocations is published yet, and that is said.
        var report = Check(w, failing: true);
        Expect(report, server.Url + "/crl/root.crl", "missing", "publish-crl");
        w.Good("authority", "publish-crl", w.Out("root-crl*"));
        report = Check(w, failing: false);
        Assert.Equal(0, report.GetProperty("findings").GetInt32());
        Assert.Equal(6, report.GetProperty("points").GetInt32());
        var text = w.Good("authority", "health");
        Assert.Contains("All 6 addresses", text);

        // What a second generation left where the first's belongs, and other files with similar names.
        var previous = w.Fetch(server.Url + "/issuer/issuing.cer");
        var earlier = w.Fetch(server.Url + "/crl/issuing.crl");
        w.Good("authority", "issue-crl", "issuing");
        var (list, delta, certificate, rootList, ocsp) = (
            "/crl/issuing.crl",
            "/crl/issuing-delta.crl",
            "/issuer/issuing.cer",
            "/crl/root.crl",
            "/ocsp/issuing"
        );
        var html = Encoding.UTF8.GetBytes("<html>Please sign in</html>");
        var signer = IssuingKey(w, edition, previous);
        var issuer = X509.Read(previous);
        var now = DateTimeOffset.UtcNow;

        Put(list, PublicServer.Give(404, "text/plain", []), "missing", "issue-crl issuing");
        Put(certificate, PublicServer.Give(410, "text/plain", []), "missing", "--pem");
        Put(list, PublicServer.Give(200, "application/pkix-crl", earlier), "stale", "issue-crl issuing", worst: false);
        Put(list, PublicServer.Give(200, "text/html; charset=utf-8", html), "wrong-type", "issue-crl");
        Put(certificate, PublicServer.Give(200, "application/octet-stream", html), "wrong-type", "--pem");
        Put(
            certificate,
            PublicServer.Give(200, "application/x-pem-file", Encoding.ASCII.GetBytes(Armor.Write(Armor.Certificate, previous))),
            "wrong-type",
            "--pem"
        );
        Put(ocsp, PublicServer.Give(200, "text/html", html), "wrong-type", "/ocsp");
        Put(delta, PublicServer.Give(200, "application/pkix-crl", w.Fetch(server.Url + list)), "wrong-type", "issue-crl");
        Put(
            certificate,
            PublicServer.Give(200, "application/pkix-cert", w.Fetch(server.Url + "/issuer/root.cer")),
            "wrong-issuer",
            "--pem"
        );
        Put(list, PublicServer.Give(200, "application/pkix-crl", w.Fetch(server.Url + rootList)), "wrong-issuer", "issue-crl");
        Put(
            list,
            PublicServer.Give(301, "text/html", html, "Location: https://pki.thistledown.example/issuing.crl\r\n"),
            "redirected",
            "plain HTTP"
        );
        Put(list, PublicServer.Give(502, "text/plain", []), "server-error", "log");
        Put(list, List(now.AddDays(-3), now.AddDays(-2), 1), "expired", "issue-crl");
        Put(list, List(now.AddHours(-23), now.AddHours(1), 9), "expires-soon", "issue-crl", worst: false);
        Put(list, List(now.AddHours(3), now.AddHours(9), 9), "clock-skew", "clock");
        var altered = w.Fetch(server.Url + list);
        altered[^1] ^= 1;
        Put(list, PublicServer.Give(200, "application/pkix-crl", altered), "bad-signature", "issue-crl");
        Put(ocsp, Answer(now.AddDays(-20), now.AddDays(-6)), "responder-expired", "renews itself");
        Put(
            ocsp,
            PublicServer.Give(200, "application/ocsp-response", OcspResponse.Refuse(OcspRefusal.Unauthorized)),
            "responder-refuses",
            "authority show issuing"
        );
        // Two gigabytes, and a server that never answers: given up in time.
        Put(
            certificate,
            async (to, ct) =>
            {
                await to.WriteAsync(
                    Encoding.ASCII.GetBytes("HTTP/1.1 200 OK\r\nContent-Type: application/pkix-cert\r\nContent-Length: 2147483648\r\n\r\n"),
                    ct
                );
                for (var block = new byte[1 << 20]; ; )
                    await to.WriteAsync(block, ct);
            },
            "too-large",
            "right file"
        );
        Put(ocsp, async (_, ct) => await Task.Delay(Timeout.Infinite, ct), "timed-out", "server");

        // A second generation with a new key: its file over the first's, and the first's in its place.
        w.Good("authority", "renew", "issuing", "--new-key", "ec-p256");
        w.SignAndInstall();
        server.Instead["/issuer/issuing-2.cer"] = PublicServer.Give(200, "application/pkix-cert", previous);
        // Before anything issues under it, its addresses are looked at: the fault stops the take-up.
        w.Bad("previous generation's key", "authority", "take-up", "issuing");
        Expect(Check(w, failing: true), server.Url + "/issuer/issuing-2.cer", "wrong-generation", "--pem");
        server.Instead.Clear();
        w.Good("authority", "take-up", "issuing");
        w.Enrol();
        Put(
            list,
            PublicServer.Give(200, "application/pkix-crl", w.Fetch(server.Url + "/crl/issuing-2.crl")),
            "wrong-generation",
            "issue-crl"
        );

        // A key that cannot be read: said at once, and the service still starts to say it.
        var key = Directory.EnumerateFiles(Path.Combine(w.Service.Data, "keys"), "issuing--*.key.pem").Order().Last();
        var kept = File.ReadAllText(key);
        File.WriteAllText(key, "not a key");
        report = Check(w, failing: true);
        var finding = Findings(report).Single();
        Assert.Equal("key-unusable", finding.GetProperty("fault").GetString());
        Assert.Contains("does not open", finding.GetProperty("reason").GetString());
        Assert.Contains("backup", finding.GetProperty("cure").GetString());
        w.Service.KillHard();
        await w.Service.StartAsync(settings);
        Assert.Equal("503", EstTests.Enrol(w.Service, w.Scratch, EstTests.Make(w.Scratch, "DNS:api.thistledown.example").Csr).Status);
        Assert.Contains("does not open", w.Good("status"));
        File.WriteAllText(key, kept);
        Assert.Equal(0, Check(w, failing: false).GetProperty("findings").GetInt32());
        w.Enrol();
        var metrics = Encoding.UTF8.GetString(w.Fetch(w.Plain + "/metrics"));
        Assert.Contains("beacon_health_findings 0", metrics);
        Assert.Contains(
            $"beacon_point_healthy{{authority=\"issuing\",key=\"1\",kind=\"crl\",fault=\"\",at=\"{server.Url}/crl/issuing.crl\"}} 1",
            metrics
        );

        // The whole server away.
        server.Dispose();
        report = Check(w, failing: true);
        Assert.All(
            report
                .GetProperty("authorities")
                .EnumerateArray()
                .SelectMany(a => a.GetProperty("generations").EnumerateArray())
                .SelectMany(g => g.GetProperty("points").EnumerateArray()),
            p => Assert.Equal("unreachable", p.GetProperty("finding").GetProperty("fault").GetString())
        );
        Assert.Contains("Nothing answers there", w.Good("status"));

        void Put(string path, PublicServer.Answer answer, string fault, string cure, bool worst = true)
        {
            server.Instead[path] = answer;
            Expect(Check(w, failing: worst), server.Url + path, fault, cure);
            server.Instead.Clear();
        }

        PublicServer.Answer List(DateTimeOffset from, DateTimeOffset until, long number) =>
            PublicServer.Give(
                200,
                "application/pkix-crl",
                CrlWriter
                    .Issue(
                        new()
                        {
                            Issuer = issuer.Subject,
                            IssuerKeyIdentifier = issuer.SubjectKeyIdentifier,
                            Number = number,
                            ThisUpdate = Whole(from),
                            NextUpdate = Whole(until),
                        },
                        new CrlEntries(),
                        signer
                    )
                    .ToArray()
            );

        PublicServer.Answer Answer(DateTimeOffset from, DateTimeOffset until)
        {
            var own = new KeySigner(ECDsa.Create(ECCurve.NamedCurves.nistP256));
            var responder = CertificateWriter.Issue(
                new()
                {
                    Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                    Issuer = issuer.Subject,
                    Subject = DistinguishedName.ForCommonName("responder"),
                    PublicKey = own.PublicKey,
                    NotBefore = Whole(from),
                    NotAfter = Whole(until),
                    KeyUsage = KeyUsages.DigitalSignature,
                    ExtendedKeyUsage = [Oids.OcspSigning],
                    AuthorityKeyIdentifier = issuer.SubjectKeyIdentifier,
                },
                signer
            );
            return PublicServer.Give(
                200,
                "application/ocsp-response",
                OcspResponse.Write(
                    [new(OcspCertId.Of(issuer, edition.Serial, sha256: false), OcspStatus.Good, null, Whole(now), Whole(now.AddHours(1)))],
                    Whole(now),
                    default,
                    own.PublicKey.KeyIdentifier(),
                    responder,
                    own
                )
            );
        }
    }

    private static DateTimeOffset Whole(DateTimeOffset t) => DateTimeOffset.FromUnixTimeSeconds(t.ToUnixTimeSeconds());

    private static JsonElement Check(OfflineWorld w, bool failing)
    {
        var (code, output, error) = w.Run("authority", "health", "--json");
        Assert.True(code == (failing ? 1 : 0), output + error + w.Service.Errors);
        return JsonDocument.Parse(output).RootElement;
    }

    private static IEnumerable<JsonElement> Findings(JsonElement report) =>
        report
            .GetProperty("authorities")
            .EnumerateArray()
            .SelectMany(a => a.GetProperty("generations").EnumerateArray())
            .SelectMany(g =>
                g.GetProperty("findings")
                    .EnumerateArray()
                    .Concat(
                        g.GetProperty("points")
                            .EnumerateArray()
                            .Where(p => p.GetProperty("finding").ValueKind == JsonValueKind.Object)
                            .Select(p => p.GetProperty("finding"))
                    )
            );

    private static void Expect(JsonElement report, string uri, string fault, string cure)
    {
        var points = report
            .GetProperty("authorities")
            .EnumerateArray()
            .SelectMany(a => a.GetProperty("generations").EnumerateArray())
            .SelectMany(g => g.GetProperty("points").EnumerateArray());
        var at = points
            .Where(p => p.GetProperty("uri").GetString() == uri && p.GetProperty("finding").ValueKind == JsonValueKind.Object)
            .ToList();
        Assert.True(at.Count == 1, $"{uri} should be {fault}: {report}");
        var f = at[0].GetProperty("finding");
        Assert.Equal(fault, f.GetProperty("fault").GetString());
        Assert.Contains(cure, f.GetProperty("cure").GetString());
        Assert.NotEmpty(f.GetProperty("causes").EnumerateArray());
        Assert.NotEmpty(f.GetProperty("hurts").GetString()!);
        // One fault, one finding: nothing else is dragged in.
        Assert.Equal(1, report.GetProperty("findings").GetInt32());
    }

    /// <summary>The issuing authority's key, as the service keeps it: for making what only it can sign.</summary>
    private static KeySigner IssuingKey(OfflineWorld w, X509 edition, byte[] certificate)
    {
        var folder = Path.Combine(w.Service.Data, "keys");
        var key = ECDsa.Create();
        key.ImportFromEncryptedPem(
            File.ReadAllText(Directory.EnumerateFiles(folder, "issuing--*.key.pem").Single()),
            File.ReadAllText(Path.Combine(folder, "key-encryption.key")).Trim()
        );
        var signer = new KeySigner(key);
        Assert.True(edition.SignedBy(signer.PublicKey) && X509.Read(certificate).PublicKey.SameKey(signer.PublicKey));
        return signer;
    }
}
