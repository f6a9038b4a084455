using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.Playwright;
using OrderlyBeacon.Service.Domain;
using static OrderlyBeacon.Domain.Tests.DomainWorld;

namespace OrderlyBeacon.Domain.Tests;

/// <summary>People, computers and names by a real directory, with real tickets.</summary>
public sealed class DomainTests(DomainWorld world) : IClassFixture<DomainWorld>
{
    [Fact]
    public async Task People_sign_in_by_ticket_and_have_the_roles_of_their_groups()
    {
        Assert.Equal(401, Curl("no ticket").Status);
        var wren = world.Curl("wren", "POST", "/api/v1/session/ticket", """{"kind":"token"}""");
        Assert.True(wren.IsDone, wren.ToString());
        Assert.Equal("wren@thistledown.example", wren.Json!["name"]!.GetValue<string>());
        Assert.Contains("approvers", wren.Json["groups"]!.AsArray().Select(g => g!.GetValue<string>()));
        using var finch = world.Session("finch");
        var today = await CallAsync(finch, "GET", "today");
        Assert.Equal((403, "not-allowed"), (today.Status, today.Code));
        using var robin = world.Session("robin");
        Assert.True((await CallAsync(robin, "GET", "people")).IsDone);
        // What outlasts a session wants the password itself, of the domain.
        var wish = """{"name":"dunlin","password":"correct horse battery","groups":["readers"]}""";
        Assert.Equal("sign-in-again", (await CallAsync(robin, "POST", "people", wish)).Code);
        Assert.Equal("sign-in-refused", (await CallAsync(robin, "POST", "session/confirm", """{"password":"Rail-guess-1"}""")).Code);
        var proof = new JsonObject { ["password"] = PasswordOf("robin") };
        Assert.True((await CallAsync(robin, "POST", "session/confirm", proof.ToJsonString())).IsDone);
        Assert.True((await CallAsync(robin, "POST", "people", wish)).IsDone);
        // The password is the directory's: nothing here sets it.
        var mine = new JsonObject { ["old"] = PasswordOf("robin"), ["new"] = "correct horse battery" };
        Assert.Equal("wrong-state", (await CallAsync(robin, "PUT", "session/password", mine.ToJsonString())).Code);

        Answer Curl(string _) => CallAsync(world.Client(null), "POST", "session/ticket", """{"kind":"token"}""").Result;
    }

    [Fact]
    public async Task A_domain_password_signs_in_where_there_is_no_ticket()
    {
        var token = await world.SignInAsync("Jay@thistledown.example", Path.Combine(Folder, "jay.password"));
        using var jay = world.Client(token);
        var session = await CallAsync(jay, "GET", "session");
        Assert.Contains("directory:web-team", session.Json!["groups"]!.AsArray().Select(g => g!.GetValue<string>()));
        using var nobody = world.Client(null);
        foreach (
            var name in new[]
            {
                "jay@thistledown.example",
                "jay@other.example",
                "*)(objectClass=*@thistledown.example",
                "beacon-service@thistledown.example",
            }
        )
        {
            var wish = new JsonObject
            {
                ["name"] = name,
                ["password"] = "Rail-guess-1",
                ["kind"] = "token",
            };
            Assert.Equal("sign-in-refused", (await CallAsync(nobody, "POST", "session", wish.ToJsonString())).Code);
        }
    }

    [Fact]
    public void The_client_signs_in_by_ticket()
    {
        var environment = new Dictionary<string, string>(world.TicketsOf("wren")) { ["BEACON_HOME"] = world.Scratch["home"] };
        var (code, output, error) = Programs.Run(
            Own.Client,
            ["sign-in", "--service", Url, "--ticket", "--root", world.RootPem],
            null,
            environment
        );
        Assert.True(code == 0, error);
        Assert.Contains("as wren@thistledown.example", output);
        environment["KRB5CCNAME"] = "FILE:" + world.Scratch["no-such-cache"];
        (code, _, error) = Programs.Run(Own.Client, ["sign-in", "--service", Url, "--ticket", "--root", world.RootPem], null, environment);
        Assert.NotEqual(0, code);
        Assert.Contains("kinit", error);
    }

    [Fact]
    public async Task What_is_no_good_ticket_is_refused_with_its_cure()
    {
        using var http = world.Client(null);
        foreach (
            var (token, said) in new[]
            {
                ("AAAA", "ticket"),
                ("!!", "can be read"),
                ("TlRMTVNTUAABAAAAl4II4gAAAAAAAAAAAAAAAAAAAAAKAGFKAAAADw==", "NTLM"),
            }
        )
        {
            using var m = new HttpRequestMessage(HttpMethod.Post, "/api/v1/session/ticket")
            {
                Content = new StringContent("{\"kind\":\"token\"}", null, "application/json"),
            };
            m.Headers.TryAddWithoutValidation("Authorization", "Negotiate " + token);
            using var answer = await http.SendAsync(m);
            var text = await answer.Content.ReadAsStringAsync();
            Assert.Equal(401, (int)answer.StatusCode);
            Assert.Contains(said, text);
            Assert.Contains("\"cure\":\"", text);
        }
        // The same ticket twice: what curl sent once is sent again.
        var (_, _, trace) = Programs.Run(
            "curl",
            [
                "-sSv",
                "--negotiate",
                "-u",
                ":",
                "--cacert",
                world.RootPem,
                "-X",
                "POST",
                "-H",
                "Content-Type: application/json",
                "-d",
                "{\"kind\":\"token\"}",
                Url + "/api/v1/session/ticket",
            ],
            null,
            world.TicketsOf("finch")
        );
        var sent = trace.Split('\n').Last(l => l.StartsWith("> authorization: ", StringComparison.OrdinalIgnoreCase))[17..].Trim();
        using var again = new HttpRequestMessage(HttpMethod.Post, "/api/v1/session/ticket")
        {
            Content = new StringContent("{\"kind\":\"token\"}", null, "application/json"),
        };
        again.Headers.TryAddWithoutValidation("Authorization", sent);
        using var replayed = await http.SendAsync(again);
        Assert.Equal(401, (int)replayed.StatusCode);
        // A computer does not sign in as a person.
        Assert.Equal("ticket-refused", world.Curl("web02$", "POST", "/api/v1/session/ticket", """{"kind":"token"}""").Code);
    }

    /// <summary>Somebody keeps a ticket back, or calls with a clock that differs: to the service both are the same.</summary>
    [Fact]
    public async Task A_ticket_that_comes_late_is_refused()
    {
        await Task.WhenAny(Task.Delay(Timeout.InfiniteTimeSpan, world.Late));
        using var http = world.Client(null);
        using var late = new HttpRequestMessage(HttpMethod.Post, "/api/v1/session/ticket")
        {
            Content = new StringContent("{\"kind\":\"token\"}", null, "application/json"),
        };
        late.Headers.TryAddWithoutValidation("Authorization", world.KeptTicket);
        using var answer = await http.SendAsync(late);
        var text = await answer.Content.ReadAsStringAsync();
        Assert.Equal(401, (int)answer.StatusCode);
        Assert.True(text.Contains("both clocks") || text.Contains("has expired"), text);
    }

    /// <summary>Over LDAPS with a password and the directory's own authority: one question for the computer, two for all its groups in groups.</summary>
    [Fact]
    public async Task The_directory_says_all_groups_in_two_questions()
    {
        using var directory = new LdapDirectory(
            new(
                new("ldaps://dc1.thistledown.example"),
                "",
                "",
                "finch@thistledown.example",
                Path.Combine(Folder, "finch.password"),
                Path.Combine(Folder, "trust")
            )
        );
        // Where searches begin is asked once.
        Assert.NotNull(await directory.ComputerOfAccountAsync("web01$", CancellationToken.None));
        var before = directory.Questions;
        var nested = (await directory.ComputerOfAccountAsync("web02$", CancellationToken.None))!;
        Assert.Equal(3, directory.Questions - before);
        Assert.Equal(30, nested.Groups.Count(g => g.Name.StartsWith("nest")));
        Assert.False(nested.IsUsersOwn);
        Assert.Contains(nested.Groups, g => g.Name == "every-machine");
        // Whoever made an account is by that in the domain's own group, and in what has it: that counts for nothing.
        var own = (await directory.ComputerOfAccountAsync("lap09$", CancellationToken.None))!;
        Assert.True(own.IsUsersOwn);
        Assert.Equal(["laptops"], own.Groups.Select(g => g.Name));
    }

    [Fact]
    public async Task A_computer_joins_by_its_keytab_and_gets_the_names_that_are_its_own()
    {
        using var robin = world.Session("robin");
        // Joined to the domain for real, by an administrator.
        var keytab = world.Scratch["web05.keytab"];
        var joined = Programs.Run(
            "adcli",
            [
                "join",
                "--domain=THISTLEDOWN.EXAMPLE",
                "--domain-controller=dc1.thistledown.example",
                "--host-fqdn=web05.thistledown.example",
                $"--host-keytab={keytab}",
                "--login-user=Administrator",
                "--stdin-password",
                "--service-name=HTTP",
            ],
            Encoding.ASCII.GetBytes(PasswordOf("administrator")),
            new Dictionary<string, string> { ["KRB5_CONFIG"] = Path.Combine(Folder, "krb5.conf") }
        );
        Assert.True(joined.Code == 0, joined.Error);
        var folder = world.Scratch["web05"];
        // In no group that the settings name: its account alone is not enough.
        var (code, output) = world.Join(folder, "web05.thistledown.example", keytab);
        Assert.True(code != 0 && output.Contains("managed-servers"), output);
        AddToGroup("web-servers", "web05$");
        // Whoever it says that it is, it is what the directory has.
        (code, output) = world.Join(folder, "web02.thistledown.example", keytab);
        Assert.True(code != 0 && output.Contains("web05.thistledown.example alone"), output);
        (code, output) = world.Join(folder, "web05.thistledown.example", keytab);
        Assert.True(code == 0, output);
        var host = await CallAsync(robin, "GET", "hosts/web05.thistledown.example");
        Assert.Equal("joined", host.Json!["host"]!["state"]!.GetValue<string>());

        var cases = new (string Name, string Verdict, string Reason)[]
        {
            ("web05.thistledown.example", "granted", "host-owns-name"),
            ("a.apps.thistledown.example", "granted", "zone-held"),
            ("leeds.stations.thistledown.example", "granted", "zone-held"),
            ("plain.thistledown.example", "granted", "zone-held"),
            ("www.thistledown.example", "refused", "other-computers-name"),
            ("web01.thistledown.example", "refused", "other-computers-name"),
            ("mail.thistledown.example", "refused", "other-computers-name"),
            ("*.stations.thistledown.example", "refused", "wildcard-over-shared-zone"),
            ("*.thistledown.example", "refused", "service-name"),
            ("loop1.elsewhere.example", "refused", "no-zone"),
            ("10.4.0.15", "granted", "reverse-and-forward"),
            ("10.4.0.16", "needs-approval", "address-not-of-host"),
            ("10.4.0.11", "needs-approval", "address-not-of-host"),
        };
        var verdicts = await PreviewAsync(robin, [.. cases.Select(c => c.Name)]);
        foreach (var (c, v) in cases.Zip(verdicts))
            Assert.True((c.Verdict, c.Reason) == (v!["verdict"]!.GetValue<string>(), v["reason"]!.GetValue<string>()), $"{c}: {v}");
        // With nobody's zones, the computer has what the domain says alone.
        using var jay = world.Session("jay");
        Assert.True(
            (
                await CallAsync(world.Local, "PUT", "hosts/web05.thistledown.example/owner", """{"owner":"group:directory:web-team"}""")
            ).IsDone
        );
        var theirs = await PreviewAsync(
            jay,
            [
                "plain.thistledown.example",
                "loop1.thistledown.example",
                "step0.thistledown.example",
                "leeds.stations.thistledown.example",
                "tickets.thistledown.example",
            ]
        );
        Assert.Equal(
            ["zone-of-others", "zone-of-others", "zone-of-others", "zone-held", "alias-ends-here"],
            theirs.Select(v => v!["reason"]!.GetValue<string>())
        );
        Assert.Contains(
            "tickets.thistledown.example → front.thistledown.example → web05.thistledown.example",
            theirs[4]!["evidence"]!.GetValue<string>()
        );
        Assert.Contains("circle", theirs[1]!["evidence"]!.GetValue<string>());
        Assert.Contains("more than 8 aliases", theirs[2]!["evidence"]!.GetValue<string>());
        Assert.Equal("directory:certificate-administrators", theirs[0]!["holders"]![0]!.GetValue<string>());
    }

    [Fact]
    public void Somebody_elses_keytab_joins_nothing()
    {
        // A person's key in a keytab is a person.
        var keytab = world.Scratch["finch.keytab"];
        var made = Shell(
            $"printf 'addent -password -p finch@THISTLEDOWN.EXAMPLE -k 1 -e aes256-cts-hmac-sha1-96 -s THISTLEDOWN.EXAMPLEfinch\\n%s\\nwkt {keytab}\\n' \"$(cat \"$DOMAIN/finch.password\")\" | ktutil"
        );
        Assert.True(File.Exists(keytab), made.Output);
        var (code, output) = world.Join(world.Scratch["as-finch"], "web01.thistledown.example", keytab);
        Assert.True(code != 0 && output.Contains("is a person"), output);
    }

    /// <summary>Somebody between an agent and the service, with a certificate of his own, hands everything on: he gets to see no ticket, and nobody joins.</summary>
    [Fact]
    public async Task No_ticket_is_shown_to_somebody_between()
    {
        var seen = new System.Collections.Concurrent.ConcurrentBag<string>();
        using var between = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Parse(ServiceAddress), 0);
        between.Start();
        using var end = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        using var own = new CertificateRequest($"CN={Beacon}", key, System.Security.Cryptography.HashAlgorithmName.SHA256).CreateSelfSigned(
            DateTimeOffset.UtcNow.AddDays(-1),
            DateTimeOffset.UtcNow.AddDays(1)
        );
        using var shown = X509CertificateLoader.LoadPkcs12(own.Export(X509ContentType.Pkcs12), null);
        var handing = Task.Run(
            async () =>
            {
                while (true)
                    try
                    {
                        _ = HandOnAsync(await between.AcceptTcpClientAsync(end.Token), shown);
                    }
                    catch (OperationCanceledException)
                    {
                        return;
                    }
            },
            TestContext.Current.CancellationToken
        );
        var (code, output) = world.Join(
            world.Scratch["between"],
            "mail01.thistledown.example",
            Path.Combine(Folder, "keytabs", "mail01.keytab"),
            $"https://{Beacon}:{((System.Net.IPEndPoint)between.LocalEndpoint).Port}"
        );
        await end.CancelAsync();
        await handing;
        Assert.True(code != 0, output);
        // He was asked for the roots, which everybody may see, and for nothing else.
        Assert.Contains(seen, s => s.Contains("cacerts"));
        Assert.DoesNotContain(seen, s => s.Contains("Negotiate"));
        Assert.Equal("not-found", (await CallAsync(world.Local, "GET", "hosts/mail01.thistledown.example")).Code);

        async Task HandAsync(Stream from, Stream to)
        {
            var buffer = new byte[16 << 10];
            for (int n; (n = await from.ReadAsync(buffer)) > 0; )
            {
                seen.Add(Encoding.Latin1.GetString(buffer, 0, n));
                await to.WriteAsync(buffer.AsMemory(0, n));
            }
        }

        async Task HandOnAsync(System.Net.Sockets.TcpClient client, X509Certificate2 shown)
        {
            try
            {
                using (client)
                await using (var near = new System.Net.Security.SslStream(client.GetStream()))
                {
                    await near.AuthenticateAsServerAsync(shown);
                    using var onward = new System.Net.Sockets.TcpClient();
                    await onward.ConnectAsync(ServiceAddress, Port);
                    await using var far = new System.Net.Security.SslStream(onward.GetStream(), false, (_, _, _, _) => true);
                    await far.AuthenticateAsClientAsync(Beacon);
                    await Task.WhenAny(HandAsync(near, far), far.CopyToAsync(near));
                }
            }
            catch (Exception e) when (e is IOException or System.Security.Authentication.AuthenticationException) { }
        }
    }

    /// <summary>Each way in which a computer could come by another's name: none is issued, whoever asks in its place.</summary>
    [Fact]
    public async Task No_computer_gets_another_ones_name()
    {
        using var robin = world.Session("robin");
        var keytab = Path.Combine(Folder, "keytabs", "web02.keytab");
        var folder = world.Scratch["web02"];
        var (code, output) = world.Join(folder, "web02.thistledown.example", keytab);
        Assert.True(code == 0, output);
        using var s = new Scratch();
        Assert.True(
            (
                await CallAsync(world.Local, "PUT", "hosts/web02.thistledown.example/owner", """{"owner":"group:directory:web-team"}""")
            ).IsDone
        );
        using var jay = world.Session("jay");
        var before = await IssuedAsync(robin);
        // Through added names, by wildcard, look-alike, case, final dot, NUL, its short name, its alias, its service principal.
        string[] others =
        [
            "web01.thistledown.example",
            "WEB01.thistledown.example.",
            "web01.thistledown.example\0.apps.thistledown.example",
            "wеb01.thistledown.example",
            "web01",
            "*.thistledown.example",
            "depot.thistledown.example",
            "www.thistledown.example",
            "mail.thistledown.example",
        ];
        foreach (var name in others)
        {
            var wish = new JsonObject
            {
                ["host"] = "web02.thistledown.example",
                ["profile"] = "server",
                ["names"] = new JsonArray("web02.thistledown.example", name),
                ["certificate"] = "try" + Array.IndexOf(others, name),
            };
            var asked = await CallAsync(jay, "POST", "requests", wish.ToJsonString());
            Assert.True(
                !asked.IsDone || asked.Json!["state"]!.GetValue<string>() is "refused" or "waiting-for-approval",
                $"{name}: {asked}"
            );
            // Through the CSR, and by EST.
            if (name.Contains('\0') || name.Any(c => c > 127))
                continue;
            Programs.OpenSsl(
                $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["k"]} -out {s["csr"]} -outform DER -subj /CN=york.stations.thistledown.example -addext subjectAltName=DNS:york.stations.thistledown.example,DNS:{name}"
            );
            s.File("b64", Convert.ToBase64String(File.ReadAllBytes(s["csr"])));
            var est = world.Curl("jay", "POST", "/.well-known/est/server/simpleenroll", "@" + s["b64"], "application/pkcs10");
            Assert.True(est.Status is 202 or 400 or 403, $"{name}: {est}");
        }
        // The agent's own certificate, with its key, is good for its own name alone.
        var current = Path.Combine(folder, "identity", "current");
        Programs.OpenSsl(
            $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["k"]} -out {s["csr"]} -outform DER -subj /CN=web01.thistledown.example -addext subjectAltName=DNS:web01.thistledown.example"
        );
        s.File("b64", Convert.ToBase64String(File.ReadAllBytes(s["csr"])));
        var again = Programs.Run(
            "curl",
            [
                "-sS",
                "--cacert",
                world.RootPem,
                "--cert",
                current + "/chain.pem",
                "--key",
                current + "/key.pem",
                "-H",
                "Content-Type: application/pkcs10",
                "--data-binary",
                "@" + s["b64"],
                "-o",
                "/dev/null",
                "-w",
                "%{http_code}",
                Url + "/.well-known/est/agent/simplereenroll",
            ]
        );
        Assert.NotEqual("200", again.Output);
        Assert.Equal(before, await IssuedAsync(robin));

        // A name that was had by a group is not renewed when the group is lost.
        Assert.Equal(202, Enrol("leeds.apps.thistledown.example"));
        Assert.Equal(200, Enrol("leeds.stations.thistledown.example"));
        Shell("samba-tool group removemembers web-team jay -s \"$DOMAIN/dc/etc/smb.conf\" -H \"$DOMAIN/dc/private/sam.ldb\"");
        await CallAsync(world.Local, "POST", "directory/refresh", "{}");
        try
        {
            var renewed = Programs.Run(
                "curl",
                [
                    "-sS",
                    "--cacert",
                    world.RootPem,
                    "--cert",
                    s["crt"],
                    "--key",
                    s["k"],
                    "-H",
                    "Content-Type: application/pkcs10",
                    "--data-binary",
                    "@" + s["b64"],
                    "-w",
                    "%{http_code}",
                    Url + "/.well-known/est/server/simplereenroll",
                ]
            );
            Assert.True(renewed.Output.EndsWith("403"), renewed.Output);
            // Nor does the session of before do anything now.
            Assert.Equal("not-allowed", (await CallAsync(jay, "GET", "today")).Code);
        }
        finally
        {
            AddToGroup("web-team", "jay");
            await CallAsync(world.Local, "POST", "directory/refresh", "{}");
        }

        int Enrol(string name)
        {
            Programs.OpenSsl(
                $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["k"]} -out {s["csr"]} -outform DER -subj /CN={name} -addext subjectAltName=DNS:{name}"
            );
            s.File("b64", Convert.ToBase64String(File.ReadAllBytes(s["csr"])));
            var answer = world.Curl("jay", "POST", "/.well-known/est/server/simpleenroll", "@" + s["b64"], "application/pkcs10");
            if (answer.Status == 200)
            {
                s.File("p7", Convert.FromBase64String(answer.Text));
                File.WriteAllText(s["crt"], Programs.OpenSsl($"pkcs7 -inform DER -in {s["p7"]} -print_certs"));
            }
            return answer.Status;
        }
    }

    private static async Task<List<string>> IssuedAsync(HttpClient who) =>
        [
            .. (await CallAsync(who, "GET", "certificates?take=200")).Json!["items"]!
                .AsArray()
                .Where(c => c!["serial"] is not null)
                .SelectMany(c => c!["names"]!.AsArray().Select(n => n!.GetValue<string>()))
                .Order(),
        ];

    [Fact]
    public void Est_takes_a_persons_ticket()
    {
        using var s = new Scratch();
        Programs.OpenSsl(
            $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["k"]} -out {s["csr"]} -outform DER -subj /CN=york.stations.thistledown.example -addext subjectAltName=DNS:york.stations.thistledown.example"
        );
        s.File("b64", Convert.ToBase64String(File.ReadAllBytes(s["csr"])));
        var issued = world.Curl("jay", "POST", "/.well-known/est/server/simpleenroll", "@" + s["b64"], "application/pkcs10");
        Assert.True(issued.Status == 200, issued.ToString());
        s.File("p7", Convert.FromBase64String(issued.Text));
        Assert.Contains(
            "york.stations.thistledown.example",
            Programs.OpenSsl($"pkcs7 -inform DER -in {s["p7"]} -print_certs -text -noout")
        );
        // A computer's ticket is no person's.
        Assert.Equal(
            401,
            world.Curl("web02$", "POST", "/.well-known/est/server/simpleenroll", "@" + s["b64"], "application/pkcs10").Status
        );
    }

    /// <summary>The edition in use stands on its computer's object, and the one before does not, for the profiles that say so.</summary>
    [Fact]
    public async Task An_edition_is_published_on_its_computers_object()
    {
        var folder = world.Scratch["db01"];
        var (code, output) = world.Join(folder, "db01.thistledown.example", Path.Combine(Folder, "keytabs", "db01.keytab"));
        Assert.True(code == 0, output);
        Assert.True(
            (await CallAsync(world.Local, "POST", "profiles/server/copy", """{"id":"published","title":"On its object"}""")).IsDone
        );
        var definition = (await CallAsync(world.Local, "GET", "profiles/published")).Json!["definition"]!;
        definition["published"] = true;
        var changed = await CallAsync(world.Local, "PUT", "profiles/published", definition.ToJsonString());
        Assert.True(changed.IsDone, changed.ToString());
        using var agent = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(Own.Agent, ["run", "--state", folder]) { RedirectStandardOutput = true }
        )!;
        try
        {
            var wish = new JsonObject
            {
                ["host"] = "db01.thistledown.example",
                ["profile"] = "published",
                ["names"] = new JsonArray("db01.thistledown.example"),
            };
            var asked = await CallAsync(world.Local, "POST", "requests", wish.ToJsonString());
            Assert.True(asked.IsDone, asked.ToString());
            var first = await PublishedAsync(null);
            var renewed = await CallAsync(world.Local, "POST", "certificates/db01.thistledown.example/renew");
            Assert.True(renewed.IsDone, renewed.ToString());
            var second = await PublishedAsync(first);
            using var http = new HttpRequestMessage(HttpMethod.Get, "/api/v1/certificates/db01.thistledown.example/export?form=der");
            using var answer = await world.Local.SendAsync(http, TestContext.Current.CancellationToken);
            Assert.Equal(Convert.ToBase64String(await answer.Content.ReadAsByteArrayAsync(TestContext.Current.CancellationToken)), second);
        }
        finally
        {
            agent.Kill();
        }

        // One value, and another than before.
        static async Task<string> PublishedAsync(string? before)
        {
            var values = new List<string>();
            for (var i = 0; i < 150; i++)
            {
                var (_, text) = Shell("ldbsearch -H \"$DOMAIN/dc/private/sam.ldb\" '(sAMAccountName=db01$)' userCertificate 2>/dev/null");
                values =
                [
                    .. text.Replace("\n ", "")
                        .Split('\n')
                        .Where(l => l.StartsWith("userCertificate:: ", StringComparison.Ordinal))
                        .Select(l => l["userCertificate:: ".Length..].Trim()),
                ];
                if (values.Count == 1 && values[0] != before)
                    return values[0];
                await Task.Delay(200);
            }
            Assert.Fail($"There are {values.Count} certificates on the object of db01.");
            return "";
        }
    }

    [Fact]
    public async Task Chromium_signs_in_by_ticket()
    {
        var home = world.Scratch["chromium"];
        var db = Path.Combine(home, ".pki", "nssdb");
        Directory.CreateDirectory(db);
        foreach (var args in new[] { $"-N -d sql:{db} --empty-password", $"-A -d sql:{db} -n root -t C,, -i {world.RootPem}" })
            Assert.Equal(0, Programs.Run("certutil", args.Split(' ')).Code);
        var environment = Environment
            .GetEnvironmentVariables()
            .Cast<System.Collections.DictionaryEntry>()
            .ToDictionary(e => (string)e.Key, e => (string?)e.Value ?? "");
        foreach (var (k, v) in world.TicketsOf("wren"))
            environment[k] = v;
        (environment["HOME"], environment["XDG_CONFIG_HOME"], environment["XDG_CACHE_HOME"]) = (home, home + "/.config", home + "/.cache");
        // Inside its sandbox a network service loads no Kerberos library; a profile that has met such an answer before starts it outside.
        Directory.CreateDirectory(home + "/profile");
        File.WriteAllText(home + "/profile/Local State", """{"net":{"received_http_auth_negotiate_headers":true}}""");
        using var playwright = await Playwright.CreateAsync();
        // Tickets are not given away from a private window, which any other context is.
        await using var browser = await playwright.Chromium.LaunchPersistentContextAsync(
            home + "/profile",
            new()
            {
                BaseURL = Url,
                ViewportSize = new() { Width = 1280, Height = 800 },
                ExecutablePath = "/usr/bin/chromium",
                Headless = true,
                Env = environment,
                Args =
                [
                    "--no-sandbox",
                    "--disable-dev-shm-usage",
                    "--disable-gpu",
                    "--no-proxy-server",
                    "--disable-background-networking",
                    "--auth-server-allowlist=*.thistledown.example",
                ],
            }
        );
        var page = await browser.NewPageAsync();
        await page.GotoAsync("/");
        await page.GetByRole(AriaRole.Button, new() { Name = "Use the ticket of thistledown.example" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Lookahead" })).ToBeVisibleAsync(new() { Timeout = 15000 });
        await Assertions.Expect(page.GetByText("wren@thistledown.example").First).ToBeVisibleAsync();
        if (Environment.GetEnvironmentVariable("SHOTS") is { } shots)
            await page.ScreenshotAsync(new() { Path = Path.Combine(shots, "domain-today.png") });
    }

    [Fact]
    public async Task A_directory_that_is_away_grants_nothing_and_says_so()
    {
        using var jay = world.Session("jay");
        Assert.True((await CallAsync(world.Local, "POST", "directory/refresh", "{}")).IsDone);
        Shell("domain_stop; sleep 0.5");
        try
        {
            await CallAsync(world.Local, "POST", "directory/refresh", "{}");
            var jays = await CallAsync(jay, "GET", "session");
            Assert.Equal((503, "directory-away"), (jays.Status, jays.Code));
            // Who is known here comes in all the same, and sees why.
            var state = await CallAsync(world.Local, "GET", "directory");
            Assert.Contains("dc1.thistledown.example does not answer", state.Json!["away"]!["message"]!.GetValue<string>());
            var asked = await CallAsync(world.Local, "GET", "directory/names/web01.thistledown.example");
            Assert.Equal("directory-away", asked.Code);
        }
        finally
        {
            var (code, output) = Shell("domain_start");
            Assert.True(code == 0, output);
            await CallAsync(world.Local, "POST", "directory/refresh", "{}");
        }
        Assert.True((await CallAsync(jay, "GET", "session")).IsDone);
        var found = await CallAsync(world.Local, "GET", "directory/names/www.thistledown.example");
        Assert.Equal("WEB01$", found.Json!["computers"]![0]!["account"]!.GetValue<string>(), ignoreCase: true);
    }

    private static void AddToGroup(string group, string member)
    {
        var (code, output) = Shell(
            $"samba-tool group addmembers {group} '{member}' -s \"$DOMAIN/dc/etc/smb.conf\" -H \"$DOMAIN/dc/private/sam.ldb\""
        );
        Assert.True(code == 0, output);
    }

    private static async Task<JsonArray> PreviewAsync(HttpClient who, params string[] names)
    {
        var wish = new JsonObject
        {
            ["host"] = "web05.thistledown.example",
            ["profile"] = "server",
            ["names"] = new JsonArray([.. names.Select(n => (JsonNode)n)]),
        };
        var answer = await CallAsync(who, "POST", "requests/preview", wish.ToJsonString());
        Assert.True(answer.IsDone, answer.ToString());
        return answer.Json!["verdicts"]!.AsArray();
    }
}
