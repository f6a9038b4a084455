using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What is not even read: nulls, depth, foreign pages, cookies where a browser has no business, old cipher suites.</summary>
public sealed class LimitsTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    /// <summary>Every call with a body, each of its fields null in turn and all at once: never a 500, and the field is named.</summary>
    [Fact]
    public async Task Null_fields_are_told_by_their_names()
    {
        var document = JsonNode.Parse(File.ReadAllText(Path.Combine(Programs.Root, "src", "Service", "openapi", "beacon.json")))!;
        var tried = 0;
        foreach (var (path, methods) in document["paths"]!.AsObject())
        foreach (var (method, operation) in methods!.AsObject())
        {
            if (
                path.Contains("/agent/")
                || operation!["requestBody"]?["content"]?["application/json"]?["schema"]?["$ref"] is not { } reference
            )
                continue;
            var schema = document["components"]!["schemas"]![reference.GetValue<string>().Split('/')[^1]]!;
            var fields = schema["properties"]!.AsObject().Select(p => p.Key).ToList();
            var target = System.Text.RegularExpressions.Regex.Replace(path, @"\{\w+\}", "999999");
            foreach (var body in fields.Select(f => new JsonObject { [f] = null }).Append([]).Append(Deep()))
            {
                var answer = await CallAsync(world.Robin, method.ToUpperInvariant(), target, body.ToJsonString());
                Assert.True((int)answer.Status < 500, $"{method} {path} {body.ToJsonString()}: {answer}");
                tried++;
            }
        }
        Assert.True(tried > 60, $"only {tried}");
        var named = await CallAsync(world.Robin, "POST", "people", """{"name":null,"password":"five quiet words","groups":[]}""");
        Assert.Equal(HttpStatusCode.BadRequest, named.Status);
        Assert.Contains("name", named.Detail);
        named = await CallAsync(world.Robin, "POST", "people", """{"name":"dodo","password":"five quiet words","groups":[null]}""");
        Assert.Equal(HttpStatusCode.BadRequest, named.Status);
        Assert.Contains("groups", named.Detail);

        static JsonObject Deep()
        {
            var text = string.Concat(Enumerable.Repeat("{\"name\":", 60)) + "1" + new string('}', 60);
            return JsonNode.Parse(text)!.AsObject();
        }
    }

    [Fact]
    public async Task A_body_that_is_too_large_is_told_so()
    {
        using var call = new HttpRequestMessage(HttpMethod.Post, "/api/v1/requests")
        {
            Content = new StringContent($$"""{"host":"{{new string('x', 5 << 20)}}"}""", Encoding.UTF8, "application/json"),
        };
        // Nothing is sent that the service does not ask for: it answers by the length alone.
        call.Headers.ExpectContinue = true;
        using var answer = await world.Robin.SendAsync(call);

        var problem = await RunningService.ProblemAsync(answer, HttpStatusCode.RequestEntityTooLarge);
        Assert.Equal("The body of the call is too large.", problem.Detail);
    }

    [Fact]
    public async Task What_is_answered_without_a_body_is_answered_so_again()
    {
        var errors = world.Errors.Length;
        for (var turn = 0; turn < 2; turn++)
        {
            var answer = await CallAsync(world.Robin, "POST", "people/jay/unlock", key: "unlock-jay");
            Assert.Equal(HttpStatusCode.NoContent, answer.Status);
        }
        Assert.True((await CallAsync(world.Robin, "GET", "session")).IsDone);
        Assert.Equal(errors, world.Errors.Length);
    }

    [Theory]
    [InlineData("trust/why", """{"host":"ENDLESS","address":"127.0.0.1:443"}""")]
    [InlineData("trust/plan", """{"act":"push","anchor":"root","hosts":["ENDLESS"]}""")]
    [InlineData("looks", """{"address":"127.0.0.1:443","from":"ENDLESS"}""")]
    public async Task A_host_whose_name_never_ends_is_no_host(string call, string body)
    {
        var answer = await CallAsync(world.Robin, "POST", call, body.Replace("ENDLESS", new('x', 70_000)));

        Assert.Equal(HttpStatusCode.BadRequest, answer.Status);
        Assert.Equal("A host's name has 253 characters at most.", answer.Detail);
    }

    /// <summary>What an approver reads is what is there.</summary>
    [Fact]
    public async Task Characters_that_are_not_seen_are_refused_by_their_numbers()
    {
        async Task<Answer> AskAsync(string note) =>
            await CallAsync(
                world.Jay,
                "POST",
                "requests/preview",
                new JsonObject
                {
                    ["profile"] = "server",
                    ["names"] = new JsonArray("x.branch.example"),
                    ["note"] = note,
                }.ToJsonString()
            );
        foreach (var hidden in new[] { '\u202E', '\u2066', '\u200B', '\u2029', '\u0007' })
        {
            var answer = await AskAsync($"for the branch{hidden}tset");
            Assert.Equal(HttpStatusCode.BadRequest, answer.Status);
            Assert.Contains($"note has a control character in it, or one that is not seen (U+{(int)hidden:X4})", answer.Detail);
        }
        Assert.DoesNotContain("not seen", (await AskAsync("two lines\nof it, and \u05D0\u05D1")).ToString());
        // A search is compared with each row: nothing is as long as this.
        var unending = await CallAsync(world.Jay, "GET", $"journal?search={new string('a', 254)}");
        Assert.Contains("longer than any name", unending.Detail);
    }

    [Fact]
    public async Task Deep_and_unendingyaml_ends_with_a_word()
    {
        foreach (
            var yaml in new[]
            {
                new string('[', 5000),
                string.Concat(Enumerable.Repeat("a: {", 3000)),
                "a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\nd: [*c,*c,*c,*c,*c,*c,*c,*c]",
                new string('x', 2_000_000),
            }
        )
        {
            var answer = await CallAsync(world.Robin, "POST", "profiles/import", new JsonObject { ["yaml"] = yaml }.ToJsonString());
            Assert.True((int)answer.Status is >= 400 and < 500, answer.ToString()[..Math.Min(300, answer.ToString().Length)]);
        }
    }

    [Fact]
    public async Task A_call_from_another_site_is_turned_away_in_whatever_spelling()
    {
        foreach (
            var (header, value, may) in new[]
            {
                ("Sec-Fetch-Site", "same-origin", true),
                ("Sec-Fetch-Site", "Same-Origin", true),
                ("Sec-Fetch-Site", "cross-site", false),
                ("Sec-Fetch-Site", "CROSS-SITE", false),
                ("Sec-Fetch-Site", "same-site", false),
                ("Sec-Fetch-Site", "whatever", false),
                ("Origin", world.Url, true),
                ("Origin", "https://evil.example", false),
                ("Origin", "null", false),
                ("Origin", world.Url.Replace("https", "http"), false),
            }
        )
        {
            using var m = new HttpRequestMessage(HttpMethod.Get, "/api/v1/session");
            m.Headers.TryAddWithoutValidation(header, value);
            using var answer = await world.Robin.SendAsync(m);
            Assert.True(answer.IsSuccessStatusCode == may, $"{header}: {value} got {(int)answer.StatusCode}");
        }
    }

    /// <summary>TLS builds a chain for whatever certificate is shown: that must send the service nowhere.</summary>
    [Fact]
    public async Task A_client_certificate_sends_the_service_to_no_address()
    {
        using var trap = new System.Net.Sockets.TcpListener(IPAddress.Loopback, 0);
        trap.Start();
        var issuer = $"http://127.0.0.1:{((IPEndPoint)trap.LocalEndpoint).Port}/issuer.cer";
        using var authorityKey = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=stranger", key, HashAlgorithmName.SHA256);
        request.CertificateExtensions.Add(new X509AuthorityInformationAccessExtension(null, [issuer]));
        var (from, until) = (DateTimeOffset.UtcNow.AddMinutes(-1), DateTimeOffset.UtcNow.AddHours(1));
        var generator = X509SignatureGenerator.CreateForECDsa(authorityKey);
        using var made = request.Create(new("CN=Nobody's Authority"), generator, from, until, [1, 2, 3, 4]);
        using var shown = X509CertificateLoader.LoadPkcs12(made.CopyWithPrivateKey(key).Export(X509ContentType.Pkcs12), null);
        using var http = world.Client(certificate: shown);
        using var answer = await http.GetAsync("/api/v1/session", TestContext.Current.CancellationToken);
        Assert.Equal(HttpStatusCode.Unauthorized, answer.StatusCode);
        Assert.False(trap.Pending(), "the service called the address in the certificate");
    }

    [Fact]
    public async Task Est_takes_no_cookie_and_the_plain_port_no_questions()
    {
        using var s = new Scratch();
        using var nobody = world.Client();
        using var signIn = await nobody.PostAsync(
            "/api/v1/session",
            new StringContent(
                $$"""{"name":"robin","password":"{{RunningService.Password}}","kind":"cookie"}""",
                Encoding.UTF8,
                "application/json"
            )
        );
        var cookie = signIn.Headers.GetValues("Set-Cookie").Single().Split(';')[0];
        using var read = new HttpRequestMessage(HttpMethod.Get, "/api/v1/session") { Headers = { { "Cookie", cookie } } };
        Assert.True((await nobody.SendAsync(read)).IsSuccessStatusCode);
        var csr = string.Concat(Csrs.Make(s, "DNS:cookie.thistledown.example").Split('\n').Where(l => !l.StartsWith('-')));
        using var enrol = new HttpRequestMessage(HttpMethod.Post, "/.well-known/est/server/simpleenroll")
        {
            Content = new StringContent(csr, Encoding.ASCII, "application/pkcs10"),
            Headers = { { "Cookie", cookie } },
        };
        Assert.Equal(HttpStatusCode.Unauthorized, (await nobody.SendAsync(enrol)).StatusCode);

        using var http = new HttpClient();
        foreach (var path in new[] { "/", "/api/v1/today", "/api/openapi.json", "/.well-known/est/server/cacerts", "/index.html" })
            Assert.Equal(HttpStatusCode.NotFound, (await http.GetAsync($"http://127.0.0.1:{world.PublicationPort}{path}")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await nobody.GetAsync("/metrics")).StatusCode);
        Assert.Contains("beacon_turned_away_total", await world.Finch.GetStringAsync("/metrics"));
        world.KillHard();
        world.Settings["BEACON_PLAINMETRICS"] = "false";
        await world.StartAsync();
        Assert.Equal(HttpStatusCode.NotFound, (await http.GetAsync($"http://127.0.0.1:{world.PublicationPort}/metrics")).StatusCode);
    }

    [Fact]
    public void Old_suites_are_not_spoken()
    {
        foreach (var suite in new[] { "ECDHE-ECDSA-AES128-SHA", "ECDHE-ECDSA-AES256-SHA384", "ECDHE-RSA-AES128-SHA", "AES128-SHA" })
            Assert.DoesNotContain("Cipher is " + suite, Hello($"-tls1_2 -cipher {suite}@SECLEVEL=0"));
        Assert.Contains("Cipher is ECDHE-ECDSA-AES", Hello("-tls1_2"));
        Assert.Contains("Cipher is TLS_AES", Hello("-tls1_3"));
        foreach (var old in new[] { "-tls1", "-tls1_1" })
            Assert.Contains("Cipher is (NONE)", Hello($"{old} -cipher DEFAULT@SECLEVEL=0"));

        string Hello(string more)
        {
            var (_, output, error) = Programs.Run(
                "bash",
                ["-c", $"openssl s_client -connect 127.0.0.1:{world.Port} {more} </dev/null 2>&1"]
            );
            return output + error;
        }
    }
}
