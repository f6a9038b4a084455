using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>How clients come to TLS in protocols that begin without it: real servers where the suite has none of its own, and servers that answer in other ways.</summary>
public sealed class WaysToTlsTests : IDisposable
{
    private readonly Scratch _scratch = new();
    private readonly string _certificate;

    public WaysToTlsTests()
    {
        _certificate = _scratch["c.pem"];
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {_scratch["c.key"]} -out {_certificate} -days 30 -subj /CN=a.thistledown.example"
        );
    }

    public void Dispose() => _scratch.Dispose();

    private static Task<LookReport> LookAsync(int port, ProbeProtocol protocol) =>
        TlsProbe.LookAsync(
            new("127.0.0.1", port, "a.thistledown.example", protocol),
            TimeProvider.System,
            TestContext.Current.CancellationToken
        );

    [Theory]
    [InlineData("-tls1_2", "TLS 1.2")]
    [InlineData("-tls1_3", "TLS 1.3")]
    [InlineData("-no_tls1", "TLS 1.1, TLS 1.2, TLS 1.3")]
    [InlineData("-serverpref", "TLS 1.0, TLS 1.1, TLS 1.2, TLS 1.3")]
    public async Task The_versions_that_a_server_takes(string option, string expected)
    {
        var port = FreePort();
        using var server = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                "openssl",
                // The old versions want what this machine's settings do not give by themselves.
                [
                    "s_server",
                    "-quiet",
                    "-accept",
                    $"127.0.0.1:{port}",
                    "-cert",
                    _certificate,
                    "-key",
                    _scratch["c.key"],
                    "-cipher",
                    "ALL:@SECLEVEL=0",
                    option,
                ]
            )
            {
                RedirectStandardInput = true,
                RedirectStandardError = true,
                Environment = { ["OPENSSL_CONF"] = "/dev/null" },
            }
        )!;
        server.BeginErrorReadLine();
        try
        {
            var probe = new Probe("127.0.0.1", port, "a.thistledown.example");
            IReadOnlyList<string>? taken = null;
            for (var i = 0; i < 100 && taken is null; i++)
            {
                await Task.Delay(50);
                taken = await VersionsTaken.AskAsync(probe, TestContext.Current.CancellationToken);
            }
            Assert.Equal(expected, string.Join(", ", taken ?? []));
            // Who waits until nobody from before listens goes by this.
            Assert.True(ServerProcess.Listens(server.Id));
            server.Kill();
            server.WaitForExit();
            Assert.False(ServerProcess.Listens(server.Id));
        }
        finally
        {
            if (!server.HasExited)
                server.Kill();
        }
    }

    [Theory]
    [InlineData("-tls1_2", true)]
    [InlineData("-no_tls1", true)]
    [InlineData("-tls1_3", null)]
    [InlineData("-no_tls1", false)]
    public async Task The_answer_that_a_server_staples(string option, bool? isSent)
    {
        var port = FreePort();
        // What is in the file is not looked into by the server.
        var answer = OrderlyBeacon.Core.Revocation.OcspResponse.Refuse(OrderlyBeacon.Core.Revocation.OcspRefusal.TryLater);
        File.WriteAllBytes(_scratch["answer"], answer);
        string[] stapling = isSent == false ? [] : ["-status_file", _scratch["answer"]];
        using var server = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                "openssl",
                [
                    "s_server",
                    "-quiet",
                    "-accept",
                    $"127.0.0.1:{port}",
                    "-cert",
                    _certificate,
                    "-key",
                    _scratch["c.key"],
                    option,
                    .. stapling,
                ]
            )
            {
                RedirectStandardInput = true,
                RedirectStandardError = true,
            }
        )!;
        server.BeginErrorReadLine();
        try
        {
            var probe = new Probe("127.0.0.1", port, "a.thistledown.example");
            var look = await LookAsync(port, ProbeProtocol.Tls);
            for (var i = 0; i < 100 && look.Outcome == LookOutcome.NoAnswer; i++)
            {
                await Task.Delay(50);
                look = await LookAsync(port, ProbeProtocol.Tls);
            }
            var expected = isSent switch
            {
                true => Convert.ToBase64String(answer),
                false => "",
                null => null,
            };
            Assert.Equal(expected, await StapledAnswer.AskAsync(probe, TestContext.Current.CancellationToken));
            var whole = await WholeLook.RunAsync(probe, TimeProvider.System, TestContext.Current.CancellationToken);
            Assert.Equal((LookOutcome.Served, expected, null), (whole.Outcome, whole.Staple, whole.Readable));
        }
        finally
        {
            server.Kill();
        }
    }

    [Theory]
    [InlineData(true, LookOutcome.Served, "")]
    [InlineData(false, LookOutcome.PlainOnly, "unsupported extended operation")]
    public async Task A_directory(bool hasTls, LookOutcome outcome, string words)
    {
        var port = FreePort();
        var tls = hasTls ? $"TLSCertificateFile {_certificate}\nTLSCertificateKeyFile {_scratch["c.key"]}\n" : "";
        var config = _scratch.File("slapd.conf", $"pidfile {_scratch["pid"]}\n{tls}");
        using var slapd = System.Diagnostics.Process.Start("/usr/sbin/slapd", ["-d", "0", "-f", config, "-h", $"ldap://127.0.0.1:{port}"]);
        try
        {
            var look = await LookAsync(port, ProbeProtocol.Ldap);
            for (var i = 0; i < 100 && look.Outcome == LookOutcome.NoAnswer; i++)
            {
                await Task.Delay(50);
                look = await LookAsync(port, ProbeProtocol.Ldap);
            }
            Assert.Equal(outcome, look.Outcome);
            Assert.Contains(words, look.Message);
            Assert.Equal(hasTls ? 1 : 0, look.Chain.Count);
        }
        finally
        {
            slapd.Kill();
        }
    }

    private const string Stream =
        "<?xml version='1.0'?><stream:stream xmlns='jabber:client' xmlns:stream='http://etherx.jabber.org/streams' id='1' version='1.0'>";
    private const string Offer =
        Stream + "<stream:features><starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'><required/></starttls></stream:features>";
    private const string Ldap = "\x30\x0c\x02\x01\x01\x78\x07\x0a\x01";

    // What the server says first, what it answers to each message, and whether TLS follows.
    [Theory]
    [InlineData(ProbeProtocol.Ftp, "220-Thistledown Rail\r\n220-files\r\n220 ready\r\n", "234 go on\r\n", LookOutcome.Served, "")]
    [InlineData(ProbeProtocol.Ftp, "220 ready\r\n", "502 not known\r\n", LookOutcome.PlainOnly, "502 not known")]
    [InlineData(ProbeProtocol.Ftp, "220 ready\r\n", "431 not now\r\n", LookOutcome.HandshakeFailed, "431 not now")]
    [InlineData(ProbeProtocol.Ftp, "421 too many\r\n", "", LookOutcome.HandshakeFailed, "421 too many")]
    [InlineData(ProbeProtocol.Ftp, "220-", "", LookOutcome.HandshakeFailed, "closed")]
    [InlineData(ProbeProtocol.Xmpp, "", Offer + "|<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>", LookOutcome.Served, "")]
    [InlineData(
        ProbeProtocol.Xmpp,
        "",
        Offer + "|<failure xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>",
        LookOutcome.HandshakeFailed,
        "refuses it"
    )]
    [InlineData(ProbeProtocol.Xmpp, "", Stream + "<stream:features></stream:features>", LookOutcome.PlainOnly, "does not offer")]
    [InlineData(
        ProbeProtocol.Xmpp,
        "",
        Stream + "<stream:error><host-unknown/></stream:error></stream:stream>",
        LookOutcome.PlainOnly,
        "does not serve a.thistledown.example"
    )]
    [InlineData(ProbeProtocol.Ldap, "", Ldap + "\x00\x04\x00\x04\x00", LookOutcome.Served, "")]
    [InlineData(ProbeProtocol.Ldap, "", Ldap + "\x34\x04\x00\x04\x00", LookOutcome.HandshakeFailed, "result code 52")]
    [InlineData(ProbeProtocol.Ldap, "", Ldap + "\x02\x04\x00\x04\x00", LookOutcome.PlainOnly, "result code 2")]
    [InlineData(ProbeProtocol.Ldap, "", "\x30\x84\x7f\xff\xff\xff", LookOutcome.HandshakeFailed, "too long")]
    [InlineData(ProbeProtocol.Ldap, "", "\x30\x03\x02\x01\x01", LookOutcome.HandshakeFailed, "no answer to the request")]
    [InlineData(ProbeProtocol.Ldap, "", "HTTP/1.1 400\r\n\r\n", LookOutcome.HandshakeFailed, "no LDAP message")]
    [InlineData(ProbeProtocol.Mysql, "\x05\x00\x00\x00\xff\x15\x04no", "", LookOutcome.HandshakeFailed, "no")]
    [InlineData(ProbeProtocol.Mysql, "\xff\xff\xff\x00", "", LookOutcome.HandshakeFailed, "no greeting")]
    [InlineData(ProbeProtocol.Mysql, "\x05\x00\x00\x00\x0a" + "5.5\x00", "", LookOutcome.HandshakeFailed, "no greeting")]
    [InlineData(
        ProbeProtocol.Mysql,
        "\x14\x00\x00\x00\x0a" + "5.5\x00\x01\x00\x00\x00saltsalt\x00\x00\x00",
        "",
        LookOutcome.PlainOnly,
        "no TLS"
    )]
    [InlineData(ProbeProtocol.Mysql, "\x14\x00\x00\x00\x0a" + "5.5\x00\x01\x00\x00\x00saltsalt\x00\x00\x08", "-", LookOutcome.Served, "")]
    public async Task A_server_that_says(ProbeProtocol protocol, string greeting, string answers, LookOutcome outcome, string words)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var served = ServeAsync(listener, greeting, answers.Length == 0 ? [] : answers.Split('|'));
        var look = await LookAsync(((IPEndPoint)listener.LocalEndpoint).Port, protocol);
        Assert.Equal((outcome, true), (look.Outcome, look.Message.Contains(words)));
        await served;
    }

    private async Task ServeAsync(TcpListener listener, string greeting, string[] answers)
    {
        using var client = await listener.AcceptTcpClientAsync();
        var stream = client.GetStream();
        await stream.WriteAsync(Encoding.Latin1.GetBytes(greeting));
        var buffer = new byte[4096];
        foreach (var answer in answers)
        {
            // A hyphen is no answer: behind one packet of MySQL's protocol TLS begins.
            if (answer == "-")
                await stream.ReadExactlyAsync(buffer.AsMemory(0, 36));
            else if (await stream.ReadAsync(buffer) == 0)
                return;
            else
                await stream.WriteAsync(Encoding.Latin1.GetBytes(answer));
        }
        using var key = X509Certificate2.CreateFromPemFile(_certificate, _scratch["c.key"]);
        await using var tls = new SslStream(stream);
        try
        {
            if (answers.Length > 0)
                await tls.AuthenticateAsServerAsync(key);
        }
        catch (Exception e) when (e is IOException or System.Security.Authentication.AuthenticationException) { }
    }

    private static int FreePort() => Ports.Free();
}
