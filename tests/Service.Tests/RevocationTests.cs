using System.Net;
using System.Net.Sockets;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Full lists, deltas and OCSP over HTTP, judged by openssl and curl.</summary>
public sealed class RevocationTests(RunningService service) : IClassFixture<RunningService>
{
    private string Plain => $"http://localhost:{service.PublicationPort}";

    private byte[] Fetch(string path)
    {
        using var s = new Scratch();
        var (code, _, error) = Programs.Run("curl", ["-sSf", "-o", s["file"], Plain + path]);
        Assert.True(code == 0, error);
        return File.ReadAllBytes(s["file"]);
    }

    /// <summary>Enrols an edition; its issuer lies beside it.</summary>
    private (string Leaf, X509 Edition, X509 Issuer) Enrol(Scratch s)
    {
        var name = $"r{Guid.NewGuid().ToString("N")[..10]}.thistledown.example";
        var (status, body) = EstTests.Enrol(service, s, EstTests.Make(s, "DNS:" + name).Csr);
        Assert.True(status == "200", body);
        var leaf = EstTests.Leaf(s, body);
        var issuer = Fetch("/issuer/issuing.cer");
        s.File("issuer.pem", Armor.Write(Armor.Certificate, issuer));
        return (leaf, X509.Read(Pkcs7.ReadCertificates(Convert.FromBase64String(body))[0]), X509.Read(issuer));
    }

    private string Ask(Scratch s, string what, string more = "")
    {
        var (code, output, error) = Programs.Run(
            "openssl",
            [
                .. $"ocsp -issuer {s["issuer.pem"]} {more} {what} -CAfile {service.RootPem} -verify_other {s["issuer.pem"]} -url {Plain}/ocsp/issuing".Split(
                    ' ',
                    StringSplitOptions.RemoveEmptyEntries
                ),
            ]
        );
        return code == 0 ? output + error : throw new InvalidOperationException(output + error);
    }

    private void Beacon(params string[] args)
    {
        var (code, output, error) = service.Beacon(_home ??= service.Home(), args);
        Assert.True(code == 0, output + error);
    }

    private string? _home;

    private string OwnSerial() =>
        Programs
            .Run("bash", ["-c", $"openssl s_client -connect 127.0.0.1:{service.Port} </dev/null 2>/dev/null | openssl x509 -noout -serial"])
            .Output.Trim();

    [Fact]
    public async Task The_services_own_certificate_when_revoked_is_another_one_at_once()
    {
        var before = OwnSerial();
        Assert.StartsWith("serial=", before);
        Beacon("cert", "revoke", "beacond@system", "--reason", "key-compromise");
        Beacon("cert", "revoke", "responder-1@system", "--reason", "key-compromise");
        var after = before;
        for (var i = 0; i < 100 && after == before; i++)
        {
            await Task.Delay(200, TestContext.Current.CancellationToken);
            after = OwnSerial();
        }
        Assert.NotEqual(before, after);
        Assert.Contains("serving", service.Beacon(_home!, "cert", "list", "beacond").Output);
        // The responder goes on too, under a certificate that is good.
        using var s = new Scratch();
        var (leaf, _, _) = Enrol(s);
        Assert.Contains(": good", Ask(s, "-cert " + leaf));
    }

    [Fact]
    public void Openssl_sees_good_revoked_at_once_and_unknown()
    {
        using var s = new Scratch();
        var (leaf, edition, _) = Enrol(s);
        Assert.Contains($"OCSP - URI:{Plain}/ocsp/issuing", Programs.OpenSsl($"x509 -in {leaf} -noout -text"));
        // Once with and once without a nonce, so that a kept answer is in play too.
        foreach (var nonce in new[] { "-nonce", "-no_nonce", "-no_nonce -sha256" })
        {
            var text = Ask(s, $"-cert {leaf}", nonce);
            Assert.Contains("Response verify OK", text);
            Assert.Contains("leaf.pem: good", text);
            Assert.DoesNotContain("WARNING", text);
        }
        Beacon("cert", "revoke", edition.Serial.Hex, "--reason", "key-compromise");
        foreach (var nonce in new[] { "-nonce", "-no_nonce", "-no_nonce -sha256" })
        {
            var text = Ask(s, $"-cert {leaf}", nonce);
            Assert.Contains("leaf.pem: revoked", text);
            Assert.Contains("keyCompromise", text);
        }
        var mixed = Ask(s, $"-cert {leaf} -serial 0x1234567890", "-nonce");
        Assert.Contains("0x1234567890: unknown", mixed);
        Assert.Contains("leaf.pem: revoked", mixed);
    }

    [Fact]
    public void Another_issuer_and_odd_questions_are_turned_away()
    {
        using var s = new Scratch();
        var (_, edition, issuer) = Enrol(s);
        s.File("issuer.pem", File.ReadAllText(service.RootPem));
        Assert.Contains(
            "unauthorized (6)",
            Assert.Throws<InvalidOperationException>(() => Ask(s, $"-serial 0x{edition.Serial.Hex}")).Message
        );
        var good = OcspRequest.Write([OcspCertId.Of(issuer, edition.Serial, sha256: false)], default);
        (string Status, OcspResponse Answer) Post(byte[] body, string type = "application/ocsp-request")
        {
            var (_, status, _) = Programs.Run(
                "curl",
                [
                    "-sS",
                    "-o",
                    s["answer"],
                    "-w",
                    "%{http_code}",
                    "-H",
                    "Content-Type: " + type,
                    "--data-binary",
                    "@" + s.File("body", body),
                    Plain + "/ocsp/issuing",
                ]
            );
            return (status, status == "200" ? OcspResponse.Read(File.ReadAllBytes(s["answer"])) : new());
        }
        Assert.Equal(OcspStatus.Good, Post(good).Answer.Answers[0].Status);
        Assert.Equal("415", Post(good, "text/plain").Status);
        foreach (var bad in new[] { [], good[..^1], [.. good, 0], new byte[40_000] })
            Assert.Equal(OcspRefusal.MalformedRequest, Post(bad).Answer.Refusal);
        foreach (var path in new[] { "/", "/%%%", "/abc", "", "?x=1" })
            Assert.Equal(OcspRefusal.MalformedRequest, OcspResponse.Read(Fetch("/ocsp/issuing" + path)).Refusal);
    }

    [Theory]
    [InlineData("Content-Length: 100\r\n\r\nx", "408")]
    [InlineData("Transfer-Encoding: chunked\r\n\r\nzz\r\n", "400")]
    [InlineData("Content-Length: 90000000\r\n\r\nx", "413")]
    public async Task A_body_that_never_comes_whole_is_answered_and_fills_no_log(string rest, string status)
    {
        var errors = service.Errors.Length;
        using var client = new TcpClient("127.0.0.1", service.PublicationPort);
        var stream = client.GetStream();
        await stream.WriteAsync(
            Encoding.ASCII.GetBytes($"POST /ocsp/issuing HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/ocsp-request\r\n{rest}")
        );
        // Nothing more comes: what is slower than a crawl is ended after some seconds.
        var answer = await new StreamReader(stream, Encoding.ASCII).ReadLineAsync();

        Assert.StartsWith($"HTTP/1.1 {status} ", answer);
        // What the service writes of it stands there when the next answer comes.
        Fetch("/ocsp/issuing/abc");
        Assert.Equal(errors, service.Errors.Length);
    }

    [Fact]
    public void Curl_gets_an_answer_that_may_be_kept()
    {
        using var s = new Scratch();
        var (_, edition, issuer) = Enrol(s);
        var request = Uri.EscapeDataString(
            Convert.ToBase64String(OcspRequest.Write([OcspCertId.Of(issuer, edition.Serial, sha256: false)], default))
        );
        for (var i = 0; i < 2; i++)
        {
            var (code, headers, error) = Programs.Run("curl", ["-sS", "-o", s["answer"], "-D", "-", $"{Plain}/ocsp/issuing/{request}"]);
            Assert.True(code == 0, error);
            foreach (
                var h in new[]
                {
                    "200 OK",
                    "Content-Type: application/ocsp-response",
                    "Cache-Control: max-age=3600, public",
                    "ETag: ",
                    "Last-Modified: ",
                    "Expires: ",
                }
            )
                Assert.Contains(h, headers);
            var answer = OcspResponse.Read(File.ReadAllBytes(s["answer"]));
            Assert.Null(answer.Objection(issuer, DateTimeOffset.UtcNow));
            Assert.Equal((OcspStatus.Good, edition.Serial), (answer.Answers[0].Status, answer.Answers[0].Id.Serial));
        }
    }

    /// <summary>While one asks without pause, many are revoked: from the moment the call has returned nobody hears "good" any more.</summary>
    [Fact]
    public async Task No_kept_answer_outlives_a_revocation()
    {
        using var http = new HttpClient();
        for (var i = 0; i < 6; i++)
        {
            using var s = new Scratch();
            var (_, edition, issuer) = Enrol(s);
            var url =
                $"{Plain}/ocsp/issuing/{Uri.EscapeDataString(Convert.ToBase64String(OcspRequest.Write([OcspCertId.Of(issuer, edition.Serial, sha256: i % 2 == 0)], default)))}";
            using var stop = new CancellationTokenSource();
            var asking = Enumerable
                .Range(0, 4)
                .Select(_ =>
                    Task.Run(async () =>
                    {
                        while (!stop.IsCancellationRequested)
                            await http.GetByteArrayAsync(url);
                    })
                )
                .ToList();
            var answer = await service.Robin.PostAsync(
                $"/api/v1/certificates/{edition.Serial.Hex}/revoke",
                System.Net.Http.Json.JsonContent.Create(new Revocation("superseded", null), BeaconJson.Default.Revocation)
            );
            Assert.Equal(HttpStatusCode.OK, answer.StatusCode);
            for (var n = 0; n < 20; n++)
                Assert.Equal(OcspStatus.Revoked, OcspResponse.Read(await http.GetByteArrayAsync(url)).Answers[0].Status);
            await stop.CancelAsync();
            await Task.WhenAll(asking);
        }
    }

    [Fact]
    public void A_hold_comes_and_goes_in_list_delta_and_answer()
    {
        using var s = new Scratch();
        var (leaf, edition, issuer) = Enrol(s);
        var before = Crl.Read(Fetch("/crl/issuing.crl"));
        Assert.Equal([$"{Plain}/crl/issuing-delta.crl"], before.FreshestUris);

        Beacon("cert", "revoke", edition.Serial.Hex, "--reason", "hold");
        Assert.Contains("certificateHold", Ask(s, $"-cert {leaf}"));
        Assert.Contains("beacon cert release", service.Beacon(_home!, "status").Output.Replace("\n", " "));
        var (held, delta) = (Crl.Read(Fetch("/crl/issuing.crl")), Crl.Read(Fetch("/crl/issuing-delta.crl")));
        Assert.Equal(RevocationReason.CertificateHold, held.Find(edition.Serial)?.Reason);
        Assert.True(before.Fits(delta) && held.Fits(delta) && delta.SignedBy(issuer.PublicKey));
        Assert.Equal(RevocationReason.CertificateHold, before.Find(edition.Serial, delta)?.Reason);

        Beacon("cert", "release", edition.Serial.Hex);
        Assert.Contains("leaf.pem: good", Ask(s, $"-cert {leaf}"));
        var released = Crl.Read(Fetch("/crl/issuing-delta.crl"));
        Assert.Equal(RevocationReason.RemoveFromCrl, released.Find(edition.Serial)?.Reason);
        Assert.Null(held.Find(edition.Serial, released));
        Assert.Null(Crl.Read(Fetch("/crl/issuing.crl")).Find(edition.Serial));

        // A hold may become final, and then stays.
        Beacon("cert", "revoke", edition.Serial.Hex, "--reason", "hold");
        Beacon("cert", "revoke", edition.Serial.Hex, "--reason", "key-compromise");
        Assert.Equal(RevocationReason.KeyCompromise, Crl.Read(Fetch("/crl/issuing.crl")).Find(edition.Serial)?.Reason);
        var (code, _, error) = service.Beacon(_home!, "cert", "release", edition.Serial.Hex);
        Assert.NotEqual(0, code);
        Assert.Contains("cannot be taken back", error);
    }

    [Fact]
    public void Openssl_verifies_with_full_list_and_delta()
    {
        using var s = new Scratch();
        var (leaf, edition, _) = Enrol(s);
        // The full list from before, the delta from after: only both together show it.
        string Text(string path) => Armor.Write(Armor.Crl, Fetch(path));
        var before = Text("/crl/issuing.crl");
        var good = Text("/crl/issuing-delta.crl");
        Beacon("cert", "revoke", edition.Serial.Hex, "--reason", "superseded");
        var delta = Text("/crl/issuing-delta.crl");
        // The root's list is signed where its key is; only the leaf is checked against lists here.
        int Verify(string lists, string flags) =>
            Programs
                .Run(
                    "openssl",
                    [
                        .. $"verify -extended_crl -crl_check {flags} -CAfile {service.RootPem} -untrusted {s["issuer.pem"]} -CRLfile {s.File("lists.pem", lists)} {leaf}".Split(
                            ' ',
                            StringSplitOptions.RemoveEmptyEntries
                        ),
                    ]
                )
                .Code;
        Assert.Equal(0, Verify(before + good, "-use_deltas"));
        Assert.Equal(0, Verify(before + delta, ""));
        Assert.NotEqual(0, Verify(before + delta, "-use_deltas"));
        // Root and leaf at once, by the lists as they are published.
        Assert.NotEqual(
            0,
            Programs
                .Run(
                    "openssl",
                    [
                        .. $"verify -crl_check_all -CAfile {service.RootPem} -untrusted {s["issuer.pem"]} -CRLfile {s.File("all.pem", Text("/crl/issuing.crl") + Text("/crl/root.crl"))} {leaf}".Split(
                            ' '
                        ),
                    ]
                )
                .Code
        );
        var (other, _, _) = Enrol(s);
        var (code, output, error) = Programs.Run(
            "openssl",
            [.. $"verify -crl_check_all -CAfile {service.RootPem} -untrusted {s["issuer.pem"]} -CRLfile {s["all.pem"]} {other}".Split(' ')]
        );
        Assert.True(code == 0, output + error);
    }

    [Fact]
    public void Many_are_revoked_only_with_the_number_that_was_shown()
    {
        using var s = new Scratch();
        var serials = Enumerable.Range(0, 3).Select(_ => Enrol(s).Edition.Serial).ToList();
        string[] which = [.. serials.SelectMany(x => new[] { "--serial", x.Hex })];
        _home ??= service.Home();
        var (code, output, error) = service.Beacon(_home, ["cert", "revoke-all", "--reason", "superseded", .. which]);
        Assert.True(code == 0, error);
        Assert.Contains("--count 3", output);
        Assert.All(serials, x => Assert.Null(Crl.Read(Fetch("/crl/issuing.crl")).Find(x)));
        (code, _, error) = service.Beacon(_home, ["cert", "revoke-all", .. which, "--count", "2"]);
        Assert.NotEqual(0, code);
        Assert.Contains("3 editions are meant now", error);
        Assert.All(serials, x => Assert.Null(Crl.Read(Fetch("/crl/issuing.crl")).Find(x)));
        Beacon(["cert", "revoke-all", "--reason", "superseded", .. which, "--count", "3"]);
        var list = Crl.Read(Fetch("/crl/issuing.crl"));
        Assert.All(serials, x => Assert.Equal(RevocationReason.Superseded, list.Find(x)?.Reason));
        (code, _, error) = service.Beacon(_home, "cert", "revoke-all", "--serial", "12345678");
        Assert.NotEqual(0, code);
        Assert.Contains("none was revoked", error);
        (code, _, error) = service.Beacon(_home, "cert", "revoke-all");
        Assert.NotEqual(0, code);
        Assert.Contains("in one way", error);
    }

    [Fact]
    public async Task Numbers_never_come_twice_over_kills()
    {
        var seen = new List<long>();
        for (var round = 0; round < 3; round++)
        {
            Beacon("authority", "issue-crl", "issuing");
            seen.Add((long)Crl.Read(Fetch("/crl/issuing.crl")).Number!);
            service.KillHard();
            await service.StartAsync();
        }
        Beacon("authority", "issue-crl", "issuing");
        seen.Add((long)Crl.Read(Fetch("/crl/issuing.crl")).Number!);
        Assert.Equal(seen.Distinct().Order(), seen);
        // The responder's key and certificate are kept over a start.
        var shown = service.Beacon(_home!, "authority", "show", "issuing").Output;
        Assert.Contains("delegated key", shown);
        Assert.Contains("goes on from", shown);
    }
}
