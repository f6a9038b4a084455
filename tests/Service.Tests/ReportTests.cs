using System.Net;
using System.Text;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What agents report, however odd, is taken or refused by name; what people then look for is found, on a terminal and in a pipe.</summary>
public sealed class ReportTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static JsonObject Service(string name, string connector = "nginx") =>
        new()
        {
            ["connector"] = connector,
            ["name"] = name,
            ["names"] = new JsonArray(name),
            ["endpoints"] = new JsonArray(),
            ["places"] = new JsonArray($"/etc/{connector}:1"),
            ["looks"] = new JsonArray(),
        };

    private static JsonObject Report(params JsonObject[] services) =>
        new()
        {
            ["agentVersion"] = "0.2",
            ["at"] = DateTimeOffset.UtcNow.ToString("O"),
            ["addresses"] = new JsonArray(),
            ["services"] = new JsonArray([.. services]),
            ["entries"] = new JsonArray(),
        };

    private static async Task<Answer> SendAsync(HttpClient agent, JsonObject report) =>
        await CallAsync(agent, "POST", "agent/report", report.ToJsonString());

    [Fact]
    public async Task Two_services_of_one_name_are_said_and_the_rest_is_kept()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "twin.yard.example");
        var answer = await SendAsync(
            agent,
            Report(Service("mail.yard.example", "postfix"), Service("mail.yard.example", "dovecot"), Service("www.yard.example"))
        );
        Assert.True(answer.IsDone, answer.ToString());
        var host = await CallAsync(world.Robin, "GET", "hosts/twin.yard.example");
        Assert.Contains("two servers on this host have a service mail.yard.example", host.ToString(), StringComparison.OrdinalIgnoreCase);
        Assert.Contains("www.yard.example", host.ToString());
        // Said until it is so no more.
        Assert.True((await SendAsync(agent, Report(Service("mail.yard.example", "postfix")))).IsDone);
        Assert.DoesNotContain("have a service", (await CallAsync(world.Robin, "GET", "hosts/twin.yard.example")).ToString());
    }

    [Fact]
    public async Task A_report_of_any_size_is_taken_or_refused_by_the_fields_name()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "large.yard.example");
        var many = Report([.. Enumerable.Range(0, 10_000).Select(i => Service($"s{i}.yard.example"))]);
        var taken = await SendAsync(agent, many);
        Assert.True(taken.IsDone, taken.ToString());
        Assert.Contains(
            "10000 services; only the first 5000",
            (await CallAsync(world.Robin, "GET", "hosts/large.yard.example")).ToString()
        );
        // Each name is a row: their number is bounded too.
        var named = Enumerable.Range(0, 4).Select(i => Service($"n{i}.yard.example")).ToArray();
        foreach (var service in named)
            service["names"] = new JsonArray([.. Enumerable.Range(0, 6000).Select(i => (JsonNode)$"a{i}.{service["name"]}")]);
        Assert.True((await SendAsync(agent, Report(named))).IsDone);
        var large = (await CallAsync(world.Robin, "GET", "hosts/large.yard.example")).ToString();
        Assert.Contains("over 20000 names; only the first 3 of its 4 services are looked after", large);
        var text = new string('x', 1 << 20);
        foreach (var field in new[] { "connector", "name", "certificateFile" })
        {
            var odd = Service("a.yard.example");
            odd[field] = text;
            var refused = await SendAsync(agent, Report(odd));
            Assert.Equal("too-large", refused.Code);
            Assert.Contains($"services[0].{field}", refused.Detail);
            Assert.Contains("1048576", refused.Detail);
        }
        var places = Service("a.yard.example");
        places["places"] = new JsonArray("/etc/ok", text);
        Assert.Contains("services[0].places[1]", (await SendAsync(agent, Report(places))).Detail);
    }

    /// <summary>Thousands of sites, each with its own certificate in sight, are more than other calls may bring.</summary>
    [Fact]
    public async Task A_host_of_thousands_of_sites_is_taken_whole_and_is_one_line_of_the_journal()
    {
        using var s = new Scratch();
        var (agent, folder) = await world.JoinAsync(s, "shared.yard.example");
        var pem = File.ReadAllText(Path.Combine(folder, "identity", "current", "chain.pem"));
        var chain = Armor.Read(Encoding.ASCII.GetBytes(pem)).Blocks.Select(b => Convert.ToBase64String(b.Der)).ToList();
        var sites = Enumerable.Range(0, 3000).Select(i => Service($"site{i}.yard.example")).ToArray();
        foreach (var site in sites)
            site["looks"] = new JsonArray(
                new JsonObject
                {
                    ["address"] = "127.0.0.9",
                    ["port"] = 443,
                    ["serverName"] = site["name"]!.GetValue<string>(),
                    ["at"] = DateTimeOffset.UtcNow.ToString("O"),
                    ["outcome"] = "served",
                    ["message"] = "",
                    ["protocol"] = "TLS 1.3",
                    ["chain"] = new JsonArray([.. chain.Concat(chain).Select(c => (JsonNode)c)]),
                }
            );
        var report = Report(sites);
        Assert.InRange(report.ToJsonString().Length, 5 << 20, 30 << 20);
        var taken = await SendAsync(agent, report);
        Assert.True(taken.IsDone, taken.ToString());
        var host = await CallAsync(world.Robin, "GET", "hosts/shared.yard.example");
        Assert.Equal(3000, host.Json!["host"]!["services"]!.GetValue<int>());
        Assert.Contains("3000 services at once, among them site0.yard.example, ", await world.JournalAsync("shared.yard.example"));
        Assert.Equal("[]", JsonNode.Parse(await world.JournalAsync("site2999.yard.example"))!["items"]!.ToJsonString());
    }

    /// <summary>What one site's owner writes into its configuration, or a file that is gone, must not end the renewals of all others on that host.</summary>
    [Theory]
    [InlineData("path", "is not looked after")]
    [InlineData("trust", "does not take what this host reports of its 2 services")]
    [InlineData("passphrase", "odd.yard.example")]
    public async Task What_is_odd_on_a_host_keeps_it_from_nothing(string where, string told)
    {
        using var s = new Scratch();
        var overlong = "/" + string.Concat(Enumerable.Repeat("long/", 4000));
        var odd =
            where == "path"
                ? $"listen 127.0.0.1:11001 ssl; ssl_certificate {overlong}; ssl_certificate_key /k;"
                : "listen 127.0.0.1:11001;";
        var sites =
            "server { listen 127.0.0.1:11000; server_name good.yard.example; } server { server_name odd.yard.example; " + odd + " }";
        var config = s.File("nginx.conf", $"events {{}} http {{ {sites} }}\n");
        await using var host = await new RunningHost(world, s, $"odd-{where}.yard.example").StartAsync("group:yard", Change);
        var known = (await CallAsync(world.Robin, "GET", $"hosts/{host.Name}")).ToString();
        Assert.True(known.Contains(told), known);
        Assert.Equal(where != "trust", known.Contains("good.yard.example"));
        var looked = await CallAsync(world.Robin, "POST", "looks", $$"""{"address":"127.0.0.1:11000","from":"{{host.Name}}"}""");
        Assert.True(looked.IsDone, looked.ToString());

        void Change(string folder)
        {
            var settings = Give(folder, config);
            if (where == "trust")
                settings["trust"] = new JsonArray(new JsonObject { ["kind"] = "file", ["path"] = overlong });
            else if (where == "passphrase")
                settings["trust"] = new JsonArray(
                    new JsonObject
                    {
                        ["kind"] = "java",
                        ["path"] = s.File("clients.jks", "x"),
                        ["passphraseFile"] = "/nowhere/passphrase",
                    }
                );
            File.WriteAllText(Path.Combine(folder, "agent.json"), settings.ToJsonString());
        }
    }

    /// <summary>What listens in a network is nobody's to find out by the agents of others.</summary>
    [Fact]
    public async Task Others_agents_look_where_a_service_is_known_and_nowhere_else()
    {
        using var s = new Scratch();
        var config = s.File("nginx.conf", "events {} http { server { listen 127.0.0.1:11000; server_name open.yard.example; } }\n");
        await using var host = await new RunningHost(world, s, "open.yard.example").StartAsync("group:yard", Change);
        async Task<Answer> LookAsync(HttpClient who, string address, string? from) =>
            await CallAsync(who, "POST", "looks", new JsonObject { ["address"] = address, ["from"] = from }.ToJsonString());
        Assert.True((await LookAsync(world.Jay, "open.yard.example", null)).IsDone);
        Assert.True((await LookAsync(world.Jay, "open.yard.example", host.Name)).IsDone);
        Assert.True((await LookAsync(world.Jay, "127.0.0.1:11000", host.Name)).IsDone);
        // Who names a host means what it serves.
        Assert.Contains("11000", (await LookAsync(world.Jay, "open", null)).ToString());
        Assert.True((await LookAsync(world.Magpie, "127.0.0.1:11001", host.Name)).IsDone);
        Assert.True((await LookAsync(world.Magpie, "127.0.0.1:11001", null)).IsDone);
        Assert.True((await LookAsync(world.Robin, "127.0.0.1:11001", host.Name)).IsDone);
        foreach (var address in new[] { "127.0.0.1:11001", "127.0.0.2:11000", "localhost:11000", "open.yard.example:22" })
        {
            var refused = await LookAsync(world.Jay, address, host.Name);
            Assert.Equal(HttpStatusCode.Forbidden, refused.Status);
            Assert.Contains("the host open.yard.example is not yours to look from", refused.Detail);
        }
        Assert.Equal("host-away", (await LookAsync(world.Jay, "127.0.0.1:11001", null)).Code);
        var why = await CallAsync(world.Jay, "POST", "trust/why", $$"""{"host":"{{host.Name}}","address":"127.0.0.1:11001"}""");
        Assert.Equal(HttpStatusCode.Forbidden, why.Status);
        Assert.Contains("attempt.refused", await world.JournalAsync("the host open.yard.example"));

        void Change(string folder)
        {
            var settings = Give(folder, config);
            var anchors = Path.Combine(folder, "identity", "anchors.pem");
            settings["trust"] = new JsonArray(new JsonObject { ["kind"] = "file", ["path"] = anchors });
            File.WriteAllText(Path.Combine(folder, "agent.json"), settings.ToJsonString());
        }
    }

    private static JsonObject NoAnswer() =>
        new()
        {
            ["address"] = "127.0.0.9",
            ["port"] = 443,
            ["serverName"] = "d.yard.example",
            ["at"] = DateTimeOffset.UtcNow.ToString("O"),
            ["outcome"] = "no-answer",
            ["message"] = "",
            ["chain"] = new JsonArray(),
        };

    private static JsonNode Give(string folder, string config)
    {
        var file = Path.Combine(folder, "agent.json");
        var settings = JsonNode.Parse(File.ReadAllText(file).Replace("/nowhere/nginx.conf", config))!;
        File.WriteAllText(file, settings.ToJsonString());
        return settings;
    }

    [Fact]
    public async Task Who_reports_something_new_without_end_is_told_to_wait_and_others_are_not()
    {
        using var s = new Scratch();
        var (loud, _) = await world.JoinAsync(s, "loud.yard.example");
        var (other, _) = await world.JoinAsync(s, "other.yard.example");
        // Twice what is taken at once: what time gives back meanwhile is a few.
        var answers = new List<Answer>();
        foreach (var turns in Enumerable.Range(0, 480).Chunk(40))
            answers.AddRange(await Task.WhenAll(turns.Select(turn => SendAsync(loud, Report(Service($"t{turn}.yard.example"))))));
        Assert.InRange(answers.Count(a => a.IsDone), 240, 470);
        var metrics = await world.Robin.GetStringAsync("/metrics", TestContext.Current.CancellationToken);
        Assert.Matches("beacon_turned_away_total\\{lane=\"news\"\\} [1-9]", metrics);
        Assert.All(answers.Where(a => !a.IsDone), a => Assert.Equal((HttpStatusCode.TooManyRequests, "too-busy"), (a.Status, a.Code)));
        Assert.True((await SendAsync(other, Report(Service("other.yard.example")))).IsDone);
        // Looks are judged, each in its time: few services with many of them count as much.
        var (dense, _) = await world.JoinAsync(s, "dense.yard.example");
        JsonObject Dense(int turn)
        {
            var services = Enumerable.Range(0, 480).Select(i => Service($"d{turn}-{i}.yard.example")).ToArray();
            foreach (var service in services)
                service["looks"] = new JsonArray([.. Enumerable.Range(0, 50).Select(_ => (JsonNode)NoAnswer())]);
            return Report(services);
        }
        Assert.True((await SendAsync(dense, Dense(0))).IsDone);
        Assert.Equal("too-busy", (await SendAsync(dense, Dense(1))).Code);
        // Work is asked for all the same.
        Assert.True((await CallAsync(loud, "GET", "agent/work?wait=0")).IsDone);
    }

    [Fact]
    public async Task A_poll_and_a_report_that_says_nothing_new_write_nothing()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "calm.yard.example");
        Assert.True((await SendAsync(agent, Report(Service("calm.yard.example")))).IsDone);
        var log = new FileInfo(Path.Combine(world.Data, "beacon.db-wal"));
        var isStill = false;
        // The service may have something of its own to write, but not each time.
        for (var attempt = 0; attempt < 3 && !isStill; attempt++)
        {
            log.Refresh();
            var before = (log.Length, log.LastWriteTimeUtc);
            for (var i = 0; i < 30; i++)
            {
                Assert.True((await SendAsync(agent, Report(Service("calm.yard.example")))).IsDone);
                Assert.True((await CallAsync(agent, "GET", "agent/work?wait=0")).IsDone);
            }
            log.Refresh();
            isStill = before == (log.Length, log.LastWriteTimeUtc);
        }
        Assert.True(isStill, "reports that say nothing new were written down");
        // It is there all the same, and what is new is taken.
        var host = (await CallAsync(world.Robin, "GET", "hosts/calm.yard.example")).Json!["host"]!;
        Assert.True(host["online"]!.GetValue<bool>());
        Assert.True(DateTimeOffset.UtcNow - host["lastSeen"]!.GetValue<DateTimeOffset>() < TimeSpan.FromSeconds(20));
        Assert.True((await SendAsync(agent, Report(Service("calm.yard.example"), Service("new.yard.example")))).IsDone);
        Assert.Contains("new.yard.example", (await CallAsync(world.Robin, "GET", "hosts/calm.yard.example")).ToString());
    }

    [Fact]
    public async Task Lists_find_by_host_and_are_one_line_a_row_in_a_pipe()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "depot.yard.example");
        Assert.True((await SendAsync(agent, Report(Service("first.yard.example"), Service("*.second.yard.example")))).IsDone);
        var home = world.Home();
        Assert.Contains(
            "host with several services: *.second.yard.example, first.yard.example.",
            world.Beacon(home, "look", "depot").Error
        );
        var lines = world.Beacon(home, "service", "list", "depot").Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(["depot/*.second.yard.example", "depot/first.yard.example"], lines.Select(l => l.Split('\t')[0]));
        Assert.All(lines, l => Assert.Equal(4, l.Split('\t').Length));
        // Nothing is told apart from something: by the output, and by the word beside it.
        var nothing = world.Beacon(home, "service", "list", "nowhere");
        Assert.Equal(("", "Nothing matches \"nowhere\".\n"), (nothing.Output, nothing.Error));
        Assert.Equal("Nothing matches \"nowhere\".\n", world.Beacon(home, "host", "list", "nowhere").Error);
        Assert.Equal("Nothing matches \"nowhere\".\n", world.Beacon(home, "cert", "list", "nowhere").Error);
        var hosts = world.Beacon(home, "host", "list", "depot").Output;
        Assert.Matches(@"^depot\.yard\.example\t.*\t\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ\t", hosts);
        Assert.EndsWith("\n", hosts);
        var look = world.Beacon(home, "look", "nowhere.invalid");
        Assert.DoesNotContain("known No", look.Output + look.Error);
    }

    [Fact]
    public async Task A_lowest_version_is_ordered_of_ones_own_and_where_lists_are_fetched_nobody_is_sent_to_TLS()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "lists.yard.example");
        Assert.True((await SendAsync(agent, Report(Service("lists.yard.example"), Service("localhost")))).IsDone);
        var lists = await CallAsync(world.Robin, "PUT", "services/lists.yard.example/localhost/tls-required");
        Assert.Equal("wrong-state", lists.Code);
        Assert.Contains("fetch revocation lists", lists.Detail);
        // The versions of TLS do not concern who comes without it.
        const string Path = "services/lists.yard.example/localhost/lowest-version";
        Assert.Equal(HttpStatusCode.Forbidden, (await CallAsync(world.Finch, "PUT", Path, """{"lowest":"tls13"}""")).Status);
        Assert.Equal("input-invalid", (await CallAsync(world.Robin, "PUT", Path, """{"lowest":"tls10"}""")).Code);
        var ordered = await CallAsync(world.Robin, "PUT", Path, """{"lowest":"tls13"}""");
        Assert.True(ordered.IsDone, ordered.ToString());
        var journal = (await CallAsync(world.Robin, "GET", "journal?search=localhost&take=5")).ToString();
        Assert.Contains("service.tls-raise-ordered", journal);
    }

    [Fact]
    public async Task The_service_looks_itself_for_those_who_keep_hosts()
    {
        var door = world.Robin.BaseAddress!.Authority;
        var own = world.Beacon(world.Home(), "look", door, "--from-service");
        Assert.Contains("seen from the service", own.Output);
        Assert.Contains("takes TLS 1.2, TLS 1.3", System.Text.RegularExpressions.Regex.Replace(own.Output, " +", " "));
        var nowhere = world.Beacon(world.Home(), "look", "localhost:1", "--from-service");
        Assert.Contains("connection refused", nowhere.Output);
        Assert.Equal("", nowhere.Error);
        var both = world.Beacon(world.Home(), "look", door, "--from-service", "--from", "web01");
        Assert.Contains("exclude each other", both.Error);
        // What is mistyped behind an option of several words is not one of them.
        var mistyped = world.Beacon(world.Home(), "request", "new", "--host", "web01", "--name", "a.yard.example", "--service", "x");
        Assert.Contains("--service is no option of this command", mistyped.Error);
        var refused = await CallAsync(
            world.Finch,
            "POST",
            "looks/from-service",
            $$"""{"address":"{{door}}","serverName":null,"from":null}"""
        );
        Assert.Equal(HttpStatusCode.Forbidden, refused.Status);
        Assert.Equal(HttpStatusCode.Forbidden, (await CallAsync(world.Jay, "POST", "looks/from-service", "{}")).Status);
    }

    [Theory]
    [InlineData("depot.yard.example", "depot.yard.example")]
    [InlineData("*.yard.example", "'*.yard.example'")]
    [InlineData("it's", "'it'\\''s'")]
    [InlineData("a b; rm -rf /", "'a b; rm -rf /'")]
    [InlineData("", "''")]
    public void A_suggested_command_is_quoted_as_a_shell_needs_it(string word, string quoted)
    {
        Assert.Equal($"beacon cert show {quoted}", ShellCommand.Of($"beacon cert show {word}"));
        Assert.Equal(word + "\n", Programs.Run("sh", ["-c", $"printf '%s\\n' {ShellCommand.Quoted(word)}"]).Output);
    }

    [Fact]
    public async Task An_order_of_a_host_that_is_not_known_to_a_reporter_changes_nothing()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "lone.yard.example");
        var result = await CallAsync(agent, "POST", "agent/orders/999999/result", """{"done":true,"steps":[]}""");
        Assert.Equal(HttpStatusCode.NotFound, result.Status);
    }
}
