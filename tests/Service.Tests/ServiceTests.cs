using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Service.Tests;

public sealed class ServiceTests(RunningService service) : IClassFixture<RunningService>
{
    private static string Csr(params string[] names)
    {
        using var key = KeySigner.NewKey(KeySpec.P256);
        return Armor.Write(
            Armor.CertificateRequest,
            CertificationRequest.Write(
                DistinguishedName.ForCommonName(names[0].TrimStart('*', '.')),
                [.. names.Select(AlternativeName.Parse)],
                new KeySigner(key)
            )
        );
    }

    private static NewRequest Wish(string csr, string? life = null) =>
        new(null, null, null, null, null, null, life, csr, null, null, null, null);

    private Task<RequestInfo> SubmitAsync(NewRequest wish) =>
        RunningService.PostAsync(service.Robin, "/api/v1/requests", wish, BeaconJson.Default.NewRequest, BeaconJson.Default.RequestInfo);

    private Task<RequestInfo> RequestAsync(long number) =>
        RunningService.GetAsync(service.Robin, $"/api/v1/requests/{number}", BeaconJson.Default.RequestInfo);

    [Fact]
    public async Task Wherever_it_is_started_it_has_its_console_and_watches_no_folder()
    {
        using var anonymous = service.Client();
        Assert.Contains("<html", await anonymous.GetStringAsync("/"));
        var opened = Directory.GetFileSystemEntries($"/proc/{service.ProcessId}/fd").Select(f => new FileInfo(f).LinkTarget ?? "").ToList();
        Assert.Contains(opened, o => o.StartsWith("socket:", StringComparison.Ordinal));
        Assert.DoesNotContain(opened, o => o.Contains("inotify"));
    }

    [Theory]
    [InlineData("""{ "Beacon": { "Data": "kept" } }""")]
    [InlineData("""{ "beacon": { "Data": "kept", } """)]
    [InlineData("""{ "Beacon:Data": "kept" }""")]
    public void Settings_that_would_not_be_read_are_refused_before_anything_is_founded(string settings)
    {
        using var elsewhere = new Scratch();
        elsewhere.File("appsettings.json", settings);
        var (code, _, error) = Programs.Run("env", ["-C", elsewhere.Path, Own.Service]);
        Assert.Equal(2, code);
        Assert.Contains($"{elsewhere["appsettings.json"]} has settings for this service, which are not read", error);
        Assert.Contains("Move them to ", error);
        Assert.Single(Directory.GetFileSystemEntries(elsewhere.Path));
    }

    [Fact]
    public async Task Nobody_gets_in_without_signing_in()
    {
        using var anonymous = service.Client();
        foreach (var path in new[] { "/api/v1/today", "/api/v1/hosts", "/api/v1/journal", "/api/v1/agent/work", "/api/v1/session" })
            Assert.Equal(
                "not-signed-in",
                (await RunningService.ProblemAsync(await anonymous.GetAsync(path), HttpStatusCode.Unauthorized)).Code
            );
        using var wrong = service.Client("obt_0000");
        Assert.Equal(
            "not-signed-in",
            (await RunningService.ProblemAsync(await wrong.GetAsync("/api/v1/today"), HttpStatusCode.Unauthorized)).Code
        );
    }

    [Fact]
    public async Task Wrong_passwords_lock_out()
    {
        using var anonymous = service.Client();
        Task<HttpResponseMessage> TryAsync(string password) =>
            anonymous.PostAsync("/api/v1/session", JsonContent.Create(new SignIn("finch", password, "token"), BeaconJson.Default.SignIn));
        for (var i = 0; i < 5; i++)
            Assert.Equal("sign-in-refused", (await RunningService.ProblemAsync(await TryAsync("wrong"), HttpStatusCode.Unauthorized)).Code);
        Assert.Equal(
            "locked-out",
            (await RunningService.ProblemAsync(await TryAsync(RunningService.Password), HttpStatusCode.TooManyRequests)).Code
        );
    }

    [Fact]
    public async Task The_console_signs_in_by_a_cookie_that_scripts_cannot_read()
    {
        using var anonymous = service.Client();
        using var answer = await anonymous.PostAsync(
            "/api/v1/session",
            JsonContent.Create(new SignIn("wren", RunningService.Password, "cookie"), BeaconJson.Default.SignIn)
        );
        var cookie = answer.Headers.GetValues("Set-Cookie").Single();
        Assert.Contains("httponly", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.Contains("samesite=strict", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.Contains("secure", cookie, StringComparison.OrdinalIgnoreCase);
        Assert.DoesNotContain("obt_", await answer.Content.ReadAsStringAsync());
        using var foreign = new HttpRequestMessage(HttpMethod.Get, "/api/v1/today")
        {
            Headers = { { "Cookie", cookie.Split(';')[0] }, { "Sec-Fetch-Site", "cross-site" } },
        };
        Assert.Equal("not-allowed", (await RunningService.ProblemAsync(await anonymous.SendAsync(foreign), HttpStatusCode.Forbidden)).Code);
    }

    [Fact]
    public async Task Readers_cannot_change_anything()
    {
        foreach (
            var (path, content) in new (string, HttpContent)[]
            {
                ("/api/v1/hosts", JsonContent.Create(new NewHost("x.thistledown.example"), BeaconJson.Default.NewHost)),
                ("/api/v1/requests", JsonContent.Create(Wish(Csr("x.thistledown.example")), BeaconJson.Default.NewRequest)),
                ("/api/v1/people", JsonContent.Create(new NewPerson("a", "b", []), BeaconJson.Default.NewPerson)),
            }
        )
            Assert.Equal(
                "not-allowed",
                (await RunningService.ProblemAsync(await service.Wren.PostAsync(path, content), HttpStatusCode.Forbidden)).Code
            );
    }

    [Fact]
    public async Task A_preview_says_everything_and_stores_nothing()
    {
        var before = (await RunningService.GetAsync(service.Robin, "/api/v1/requests", BeaconJson.Default.PageRequestInfo)).Items.Count;
        var p = await RunningService.PostAsync(
            service.Robin,
            "/api/v1/requests/preview",
            Wish(Csr("preview.thistledown.example"), "400d"),
            BeaconJson.Default.NewRequest,
            BeaconJson.Default.RequestPreview
        );
        Assert.Equal(Verdict.Granted, p.Overall);
        Assert.Equal("zone-held", p.Verdicts.Single().Reason);
        Assert.Contains("profile", p.Certificate!.LimitReason);
        Assert.Equal(["preview.thistledown.example"], p.Certificate.Names);
        Assert.Equal(
            before,
            (await RunningService.GetAsync(service.Robin, "/api/v1/requests", BeaconJson.Default.PageRequestInfo)).Items.Count
        );
    }

    [Theory]
    [InlineData("two words.thistledown.example", "blank")]
    [InlineData("foo_bar.thistledown.example", "underscore")]
    [InlineData("*", "star alone")]
    [InlineData("*.*.x", "star elsewhere")]
    [InlineData("10.0.0.0/8", "range of addresses")]
    [InlineData("elsewhere.example", "no zone")]
    public async Task Bad_names_are_refused_with_their_reason(string name, string word)
    {
        var wish = Wish(Csr("ok.thistledown.example")) with { Names = [name] };
        var p = await RunningService.PostAsync(
            service.Robin,
            "/api/v1/requests/preview",
            wish,
            BeaconJson.Default.NewRequest,
            BeaconJson.Default.RequestPreview
        );
        Assert.Equal(Verdict.Refused, p.Overall);
        Assert.Contains(word, p.Verdicts[1].Evidence);
        Assert.NotEmpty(p.Verdicts[1].Cure);
        Assert.Equal(RequestState.Refused, (await SubmitAsync(wish)).State);
    }

    [Fact]
    public async Task A_wildcard_waits_for_somebody_else()
    {
        var r = await SubmitAsync(Wish(Csr("*.approval.thistledown.example")));
        Assert.Equal(RequestState.WaitingForApproval, r.State);
        Assert.Equal(
            "own-request",
            (
                await RunningService.ProblemAsync(
                    await service.Robin.PostAsync($"/api/v1/requests/{r.Number}/approve", null),
                    HttpStatusCode.Forbidden
                )
            ).Code
        );
        Assert.Equal(HttpStatusCode.OK, (await service.Wren.PostAsync($"/api/v1/requests/{r.Number}/approve", null)).StatusCode);
        r = await RequestAsync(r.Number);
        Assert.Equal((RequestState.Issued, "wren"), (r.State, r.DecidedBy));
        Assert.NotNull(r.Serial);
        Assert.Equal(
            "wrong-state",
            (
                await RunningService.ProblemAsync(
                    await service.Wren.PostAsync($"/api/v1/requests/{r.Number}/approve", null),
                    HttpStatusCode.Conflict
                )
            ).Code
        );
        var refused = await SubmitAsync(Wish(Csr("*.refusal.thistledown.example")));
        await RunningService.PostAsync(
            service.Wren,
            $"/api/v1/requests/{refused.Number}/refuse",
            new Refusal("too wide"),
            BeaconJson.Default.Refusal,
            BeaconJson.Default.RequestInfo
        );
        Assert.Equal("too wide", (await RequestAsync(refused.Number)).Reason);
    }

    [Fact]
    public async Task The_same_post_is_answered_once()
    {
        var wish = Wish(Csr("once.thistledown.example"));
        async Task<HttpResponseMessage> PostAsync(NewRequest w)
        {
            using var m = new HttpRequestMessage(HttpMethod.Post, "/api/v1/requests")
            {
                Content = JsonContent.Create(w, BeaconJson.Default.NewRequest),
                Headers = { { "Idempotency-Key", "key-1" } },
            };
            return await service.Robin.SendAsync(m);
        }
        var first = await (await PostAsync(wish)).Content.ReadAsStringAsync();
        var again = await PostAsync(wish);
        Assert.Equal(first, await again.Content.ReadAsStringAsync());
        Assert.True(again.Headers.Contains("Idempotency-Replayed"));
        Assert.Equal(
            "idempotency-key-reused",
            (
                await RunningService.ProblemAsync(
                    await PostAsync(Wish(Csr("other.thistledown.example"))),
                    HttpStatusCode.UnprocessableEntity
                )
            ).Code
        );
    }

    [Fact]
    public async Task Two_people_editing_one_thing_do_not_overwrite_each_other()
    {
        var r = await SubmitAsync(Wish(Csr("edit.thistledown.example")));
        var path = $"/api/v1/certificates/{Uri.EscapeDataString(r.Certificate)}";
        var tag = (await service.Robin.GetAsync(path)).Headers.ETag!;
        async Task<HttpResponseMessage> PutAsync(double after, EntityTagHeaderValue? match)
        {
            using var m = new HttpRequestMessage(HttpMethod.Put, path + "/policy")
            {
                Content = JsonContent.Create(new PolicyInfo(after, true, false), BeaconJson.Default.PolicyInfo),
            };
            if (match is not null)
                m.Headers.IfMatch.Add(match);
            return await service.Robin.SendAsync(m);
        }
        Assert.Equal("version-missing", (await RunningService.ProblemAsync(await PutAsync(0.5, null), (HttpStatusCode)428)).Code);
        Assert.Equal(HttpStatusCode.OK, (await PutAsync(0.5, tag)).StatusCode);
        Assert.Equal(
            "changed-meanwhile",
            (await RunningService.ProblemAsync(await PutAsync(0.6, tag), HttpStatusCode.PreconditionFailed)).Code
        );
        Assert.Equal(
            0.5,
            (await RunningService.GetAsync(service.Robin, path, BeaconJson.Default.CertificateDetail)).Certificate.Policy.After
        );
    }

    [Fact]
    public async Task Bad_json_is_told()
    {
        foreach (var body in new[] { "{", "[]", "{\"host\":5}", "null", "" })
            Assert.Equal(
                "input-invalid",
                (
                    await RunningService.ProblemAsync(
                        await service.Robin.PostAsync("/api/v1/requests", new StringContent(body, Encoding.UTF8, "application/json")),
                        HttpStatusCode.BadRequest
                    )
                ).Code
            );
        Assert.Equal(
            "not-found",
            (await RunningService.ProblemAsync(await service.Robin.GetAsync("/api/v1/nothing"), HttpStatusCode.NotFound)).Code
        );
        Assert.Equal(
            "not-found",
            (await RunningService.ProblemAsync(await service.Robin.GetAsync("/api/v1/requests/999999"), HttpStatusCode.NotFound)).Code
        );
        Assert.Equal("host-gone", (await RunningService.ProblemAsync(await RemovedHostRequestAsync(), HttpStatusCode.Gone)).Code);
    }

    private async Task<HttpResponseMessage> RemovedHostRequestAsync()
    {
        await RunningService.PostAsync(
            service.Robin,
            "/api/v1/hosts",
            new NewHost("gone.thistledown.example"),
            BeaconJson.Default.NewHost,
            BeaconJson.Default.HostInvitation
        );
        Assert.Equal(HttpStatusCode.NoContent, (await service.Robin.DeleteAsync("/api/v1/hosts/gone.thistledown.example")).StatusCode);
        return await service.Robin.PostAsync(
            "/api/v1/requests",
            JsonContent.Create(
                new NewRequest(
                    "gone.thistledown.example",
                    null,
                    ["a.thistledown.example"],
                    null,
                    null,
                    null,
                    null,
                    null,
                    null,
                    null,
                    null,
                    null
                ),
                BeaconJson.Default.NewRequest
            )
        );
    }

    [Fact]
    public async Task Only_what_verifiers_fetch_is_given_in_the_clear()
    {
        using var http = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{service.PublicationPort}") };
        Assert.Equal("application/pkix-crl", (await http.GetAsync("/crl/issuing.crl")).Content.Headers.ContentType!.MediaType);
        Assert.Equal("application/pkix-cert", (await http.GetAsync("/issuer/issuing.cer")).Content.Headers.ContentType!.MediaType);
        foreach (var path in new[] { "/", "/api/v1/session", "/.well-known/est/server/cacerts" })
            Assert.Equal(HttpStatusCode.NotFound, (await http.GetAsync(path)).StatusCode);
        var metrics = await http.GetStringAsync("/metrics");
        Assert.Contains("beacon_crl_seconds_left{authority=\"issuing\",key=\"1\",list=\"full\"}", metrics);
        Assert.Contains("beacon_crl_seconds_left{authority=\"issuing\",key=\"1\",list=\"delta\"}", metrics);
        Assert.Contains("beacon_responder_seconds_left{key=\"1\"} ", metrics);
        Assert.EndsWith("# EOF\n", metrics);
    }

    [Fact]
    public async Task Secrets_are_private_and_not_in_the_journal()
    {
        foreach (
            var file in Directory
                .EnumerateFiles(Path.Combine(service.Data, "keys"))
                .Concat(Directory.EnumerateFiles(Path.Combine(service.Data, "take-away")))
        )
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(service.Data));
        var journal = await (await service.Robin.GetAsync("/api/v1/journal?take=1000")).Content.ReadAsStringAsync();
        Assert.DoesNotContain(RunningService.Password, journal);
        Assert.DoesNotContain("obt_", journal);
        // The sealed root key opens with its passphrase, and is the root's.
        var key = Directory.EnumerateFiles(Path.Combine(service.Data, "take-away"), "root-key*").Single();
        var passphrase = Directory.EnumerateFiles(Path.Combine(service.Data, "take-away"), "root-passphrase*").Single();
        Assert.Equal(
            Programs.OpenSsl($"x509 -in {service.RootPem} -noout -pubkey"),
            Programs.OpenSsl($"pkey -in {key} -passin file:{passphrase} -pubout")
        );
    }
}
