using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Enrolment with nothing but curl and openssl, and what they make of the result.</summary>
public sealed class EstTests(RunningService service) : IClassFixture<RunningService>
{
    private const string Ec = "ec -pkeyopt ec_paramgen_curve:P-256";

    internal static (string Key, string Csr) Make(Scratch s, string names, string key = Ec)
    {
        var name = Guid.NewGuid().ToString("N")[..8];
        var (code, _, error) = Programs.Run(
            "openssl",
            [
                .. $"req -new -newkey {key} -nodes -keyout {s[name + ".key"]} -outform DER -out {s[name + ".der"]} -subj /CN=api.thistledown.example -addext subjectAltName={names}".Split(
                    ' '
                ),
            ]
        );
        Assert.True(code == 0, error);
        File.WriteAllText(
            s[name + ".b64"],
            Convert.ToBase64String(File.ReadAllBytes(s[name + ".der"]), Base64FormattingOptions.InsertLineBreaks)
        );
        return (s[name + ".key"], s[name + ".b64"]);
    }

    private (string Status, string Body) Enrol(
        Scratch s,
        string csr,
        string profile = "server",
        string operation = "simpleenroll",
        params string[] more
    ) => Enrol(service, s, csr, profile, operation, more);

    internal static (string Status, string Body) Enrol(
        RunningService service,
        Scratch s,
        string csr,
        string profile = "server",
        string operation = "simpleenroll",
        params string[] more
    )
    {
        var (code, output, error) = service.Curl([
            .. more,
            "-o",
            s["answer"],
            "-w",
            "%{http_code}",
            "-H",
            "Content-Type: application/pkcs10",
            "--data-binary",
            "@" + csr,
            $"{service.Url}/.well-known/est/{profile}/{operation}",
        ]);
        Assert.True(code == 0, error);
        return (output, File.ReadAllText(s["answer"]));
    }

    internal static string Leaf(Scratch s, string body)
    {
        var pem = Programs.OpenSsl("pkcs7 -inform DER -print_certs", Convert.FromBase64String(body));
        return s.File("leaf.pem", pem);
    }

    private void Chain(Scratch s)
    {
        var (_, cacerts, _) = service.Curl($"{service.Url}/.well-known/est/server/cacerts");
        s.File("cas.pem", Programs.OpenSsl("pkcs7 -inform DER -print_certs", Convert.FromBase64String(cacerts)));
        var (_, _, error) = Programs.Run(
            "curl",
            ["-sS", "-o", s["crl.der"], $"http://localhost:{service.PublicationPort}/crl/issuing.crl"]
        );
        Assert.Empty(error);
        Programs.OpenSsl($"crl -inform DER -in {s["crl.der"]} -out {s["crl.pem"]}");
    }

    private bool Verifies(Scratch s) =>
        Programs
            .Run(
                "openssl",
                [
                    "verify",
                    "-x509_strict",
                    "-crl_check",
                    "-CRLfile",
                    s["crl.pem"],
                    "-CAfile",
                    service.RootPem,
                    "-untrusted",
                    s["cas.pem"],
                    s["leaf.pem"],
                ]
            )
            .Code == 0;

    [Theory]
    [InlineData(Ec)]
    [InlineData("rsa:2048")]
    public void Curl_enrols_openssl_verifies_and_a_revocation_shows(string key)
    {
        using var s = new Scratch();
        var (_, csr) = Make(s, "DNS:api.thistledown.example,DNS:api2.thistledown.example", key);
        var (status, body) = Enrol(s, csr);
        Assert.Equal("200", status);
        Leaf(s, body);
        Chain(s);
        Assert.True(Verifies(s));
        Assert.Contains(
            "http://localhost:" + service.PublicationPort + "/crl/issuing.crl",
            Programs.OpenSsl($"x509 -in {s["leaf.pem"]} -noout -text")
        );

        var serial = Programs.OpenSsl($"x509 -in {s["leaf.pem"]} -noout -serial").Trim().Split('=')[1];
        var (code, output, error) = service.Beacon(service.Home(), "cert", "revoke", serial, "--reason", "superseded");
        Assert.True(code == 0, error);
        Assert.Contains(serial, output);
        Chain(s);
        Assert.False(Verifies(s));
        Assert.Contains("Superseded", Programs.OpenSsl($"crl -in {s["crl.pem"]} -noout -text"));
    }

    [Fact]
    public void A_holder_enrols_again_with_its_own_certificate()
    {
        using var s = new Scratch();
        var (key, csr) = Make(s, "DNS:again.thistledown.example");
        Leaf(s, Enrol(s, csr).Body);
        var (_, next) = Make(s, "DNS:again.thistledown.example");
        // curl keeps Basic from the common arguments out of it: the certificate alone decides.
        var (code, status, error) = Programs.Run(
            "curl",
            [
                "-sS",
                "--cacert",
                service.RootPem,
                "--cert",
                s["leaf.pem"],
                "--key",
                key,
                "-o",
                s["answer"],
                "-w",
                "%{http_code}",
                "-H",
                "Content-Type: application/pkcs10",
                "--data-binary",
                "@" + next,
                $"{service.Url}/.well-known/est/server/simplereenroll",
            ]
        );
        Assert.True(code == 0, error);
        Assert.Equal("200", status);
        var (_, other) = Make(s, "DNS:other.thistledown.example");
        Assert.Equal(
            "403",
            Programs
                .Run(
                    "curl",
                    [
                        "-sS",
                        "--cacert",
                        service.RootPem,
                        "--cert",
                        s["leaf.pem"],
                        "--key",
                        key,
                        "-o",
                        s["answer"],
                        "-w",
                        "%{http_code}",
                        "-H",
                        "Content-Type: application/pkcs10",
                        "--data-binary",
                        "@" + other,
                        $"{service.Url}/.well-known/est/server/simplereenroll",
                    ]
                )
                .Output
        );
        Assert.Contains("names differ", File.ReadAllText(s["answer"]));
        Assert.Equal("401", Enrol(s, next, operation: "simplereenroll").Status);
    }

    [Fact]
    public void Attributes_name_the_wished_keys()
    {
        var (_, body, _) = service.Curl($"{service.Url}/.well-known/est/server/csrattrs");
        Assert.Contains("ecdsa-with-SHA256", Programs.OpenSsl("asn1parse -inform DER", Convert.FromBase64String(body)));
    }

    [Fact]
    public async Task What_needs_approval_waits_and_is_collected_with_the_same_request()
    {
        using var s = new Scratch();
        var (_, csr) = Make(s, "DNS:*.wild.thistledown.example");
        var (status, body) = Enrol(s, csr);
        Assert.Equal("202", status);
        var number = System.Text.RegularExpressions.Regex.Match(body, @"Request (\d+)").Groups[1].Value;
        Assert.Equal("202", Enrol(s, csr).Status);
        using var approved = await service.Wren.PostAsync($"/api/v1/requests/{number}/approve", null);
        approved.EnsureSuccessStatusCode();
        (status, body) = Enrol(s, csr);
        Assert.Equal("200", status);
        Assert.Contains(
            "wild.thistledown.example",
            Programs.OpenSsl("pkcs7 -inform DER -print_certs -text", Convert.FromBase64String(body))
        );
    }

    [Fact]
    public void Bad_requests_are_told_in_one_line()
    {
        using var s = new Scratch();
        var (_, good) = Make(s, "DNS:api.thistledown.example");
        var der = Convert.FromBase64String(File.ReadAllText(good));
        byte[] Altered()
        {
            var b = (byte[])der.Clone();
            b[^5] ^= 1;
            return b;
        }
        var cases = new (string Name, byte[] Body, string Status, string Word)[]
        {
            ("truncated", Encoding.ASCII.GetBytes(Convert.ToBase64String(der[..^40])), "400", "cut short"),
            ("oversized", new byte[70_000], "413", "64 KiB"),
            ("not ascii", "Ünïcode"u8.ToArray(), "400", ""),
            ("trailing", Encoding.ASCII.GetBytes(Convert.ToBase64String([.. der, 0, 0])), "400", "2 more bytes"),
            ("altered", Encoding.ASCII.GetBytes(Convert.ToBase64String(Altered())), "400", ""),
            ("empty", [], "400", "empty"),
        };
        foreach (var (name, body, status, word) in cases)
        {
            var (got, text) = Enrol(s, s.File(name, body));
            Assert.True(got == status && text.Contains(word), $"{name}: {got} {text}");
            Assert.Single(text.TrimEnd('\n').Split('\n'));
        }
        Assert.Equal("403", Enrol(s, Make(s, "DNS:elsewhere.example").Csr).Status);
        Assert.Equal("404", Enrol(s, good, profile: "nothing").Status);
        Assert.Equal(
            "400",
            service
                .Curl(
                    "-o",
                    "/dev/null",
                    "-w",
                    "%{http_code}",
                    "-H",
                    "Content-Type: text/plain",
                    "--data-binary",
                    "@" + good,
                    $"{service.Url}/.well-known/est/server/simpleenroll"
                )
                .Output
        );
        var unsigned = Programs
            .Run(
                "curl",
                [
                    "-sS",
                    "--cacert",
                    service.RootPem,
                    "-D",
                    "-",
                    "-H",
                    "Content-Type: application/pkcs10",
                    "--data-binary",
                    "@" + good,
                    $"{service.Url}/.well-known/est/server/simpleenroll",
                ]
            )
            .Output;
        Assert.Contains("401", unsigned);
        Assert.Contains("WWW-Authenticate: Basic", unsigned, StringComparison.OrdinalIgnoreCase);
    }

    [Fact]
    public async Task Join_codes_work_once()
    {
        using var s = new Scratch();
        (int Code, string Output, string Error) Join(string state, string host, string code) =>
            Programs.Run(
                Own.Agent,
                [
                    "join",
                    "--state",
                    s[state],
                    "--service",
                    service.Url,
                    "--host",
                    host,
                    "--code-file",
                    "-",
                    "--nginx",
                    "/nowhere/nginx.conf",
                ],
                Encoding.ASCII.GetBytes(code)
            );
        var i = await RunningService.PostAsync(
            service.Robin,
            "/api/v1/hosts",
            new NewHost("web07.thistledown.example"),
            BeaconJson.Default.NewHost,
            BeaconJson.Default.HostInvitation
        );
        var wrong = Join("a", i.Name, "abcde-abcde-abcde-abcde." + i.Code.Split('.')[1]);
        Assert.Equal(2, wrong.Code);
        Assert.Contains("not the one that was made last", wrong.Error);
        var foreign = Join("a", i.Name, i.Code[..^4] + "0000");
        Assert.Contains("another fingerprint", foreign.Error);
        Assert.Contains("whole join code", Join("a", i.Name, i.Code.Split('.')[0]).Error);
        var good = Join("a", i.Name, i.Code);
        Assert.True(good.Code == 0, good.Error);
        Assert.Equal(
            UnixFileMode.UserRead | UnixFileMode.UserWrite,
            File.GetUnixFileMode(Path.Combine(s["a"], "identity", "current", "key.pem"))
        );
        Assert.Contains("used already", Join("b", i.Name, i.Code).Error);

        // Its certificate speaks for the host until the host is removed.
        using var own = System.Security.Cryptography.X509Certificates.X509Certificate2.CreateFromPemFile(
            Path.Combine(s["a"], "identity", "current", "chain.pem"),
            Path.Combine(s["a"], "identity", "current", "key.pem")
        );
        using var agent = service.Client(certificate: own);
        Assert.Empty((await RunningService.GetAsync(agent, "/api/v1/agent/work", BeaconJson.Default.OrderList)).Orders);
        await RunningService.ProblemAsync(await agent.GetAsync("/api/v1/today"), System.Net.HttpStatusCode.Forbidden);
        (await service.Robin.DeleteAsync("/api/v1/hosts/web07")).EnsureSuccessStatusCode();
        await RunningService.ProblemAsync(await agent.GetAsync("/api/v1/agent/work"), System.Net.HttpStatusCode.Unauthorized);
        var leaf = X509.Read(Armor.Read(File.ReadAllBytes(Path.Combine(s["a"], "identity", "current", "chain.pem"))).Blocks[0].Der);
        using var http = new HttpClient();
        Assert.NotNull(
            Core.Revocation.Crl.Read(await http.GetByteArrayAsync($"http://127.0.0.1:{service.PublicationPort}/crl/issuing.crl"))
                .Find(leaf.Serial)
        );
    }
}
