using System.Net;
using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Lists are read a page at a time, narrowed and sorted by the service, in the API and by the client.</summary>
public sealed class ListTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static JsonObject Service(string name, string connector = "nginx", string outcome = "plain-only") =>
        new()
        {
            ["connector"] = connector,
            ["name"] = name,
            ["names"] = new JsonArray(name),
            ["endpoints"] = new JsonArray(
                new JsonObject
                {
                    ["address"] = "192.0.2.1",
                    ["port"] = 443,
                    ["tls"] = true,
                    // A word of a newer agent.
                    ["protocol"] = "carrier-pigeon",
                }
            ),
            ["places"] = new JsonArray("/etc/x:1"),
            ["looks"] = new JsonArray(
                new JsonObject
                {
                    ["address"] = "192.0.2.1",
                    ["port"] = 443,
                    ["serverName"] = name,
                    ["at"] = DateTimeOffset.UtcNow.ToString("O"),
                    ["outcome"] = outcome,
                    ["message"] = "",
                    ["chain"] = new JsonArray(),
                }
            ),
        };

    private async Task<string> HostAsync(Scratch s, string name, params JsonObject[] services)
    {
        var (agent, _) = await world.JoinAsync(s, name);
        var report = new JsonObject
        {
            ["agentVersion"] = "0.2",
            ["at"] = DateTimeOffset.UtcNow.ToString("O"),
            ["addresses"] = new JsonArray(),
            ["services"] = new JsonArray([.. services]),
            ["entries"] = new JsonArray(),
        };
        var answer = await CallAsync(agent, "POST", "agent/report", report.ToJsonString());
        Assert.True(answer.IsDone, answer.ToString());
        return name;
    }

    private async Task<(List<string> Names, string? Next)> PageAsync(string path)
    {
        var answer = await CallAsync(world.Robin, "GET", path);
        Assert.True(answer.IsDone, answer.ToString());
        var items = answer.Json!["items"]!.AsArray();
        return ([.. items.Select(i => i!["name"]!.GetValue<string>())], answer.Json["next"]?.GetValue<string>());
    }

    [Fact]
    public async Task Every_row_comes_once_over_all_pages()
    {
        using var s = new Scratch();
        foreach (var host in new[] { "p1.pages.example", "p2.pages.example" })
            await HostAsync(s, host, [.. Enumerable.Range(0, 5).Select(i => Service($"s{i}.{host}"))]);
        var (all, next) = (new List<string>(), "");
        do
        {
            var page = await PageAsync($"services?search=pages.example&take=3&after={Uri.EscapeDataString(next)}");
            Assert.InRange(page.Names.Count, 0, 3);
            all.AddRange(page.Names);
            next = page.Next ?? "";
        } while (next.Length > 0);
        Assert.Equal(10, all.Count);
        // By host, then by name.
        Assert.Equal(all.OrderBy(n => n.Split('.')[1]).ThenBy(n => n, StringComparer.Ordinal).Distinct(), all);
        var hosts = await PageAsync("hosts?search=pages.example&take=1");
        Assert.Equal(["p1.pages.example"], hosts.Names);
        Assert.Equal(["p2.pages.example"], (await PageAsync($"hosts?search=pages.example&take=1&after={hosts.Next}")).Names);
        // A host is found by what runs on it.
        Assert.Equal(["p2.pages.example"], (await PageAsync("hosts?search=s3.p2.pages")).Names);
    }

    [Theory]
    [InlineData("hosts?serch=web", "serch", "search, state, sort, after, take")]
    [InlineData("services?issuer=issuing", "issuer", "search, state, host, connector")]
    [InlineData("certificates?Search=x&hots=web01", "hots", "profile")]
    [InlineData("journal?actor=robin", "actor", "before")]
    [InlineData("requests?sort=at", "sort", "state")]
    [InlineData("profiles?x=1", "x", "none")]
    [InlineData("hosts/nowhere.example?host=1", "host", "none")]
    public async Task A_mistyped_filter_does_not_list_everything(string path, string unknown, string known)
    {
        var answer = await CallAsync(world.Robin, "GET", path);
        Assert.Equal(HttpStatusCode.BadRequest, answer.Status);
        Assert.Contains($"no parameter \"{unknown}\"", answer.Detail);
        Assert.Contains(known, answer.ToString());
    }

    [Fact]
    public async Task A_list_is_narrowed_by_state_host_and_kind()
    {
        using var s = new Scratch();
        await HostAsync(
            s,
            "narrow.example",
            Service("a.narrow.example"),
            Service("postfix", "postfix"),
            Service("b.narrow.example", outcome: "no-answer")
        );
        // An outcome of a newer agent spoils nothing.
        await HostAsync(s, "narrower.example", Service("c.narrower.example", outcome: "smoke-signals"));
        Assert.Contains("agents are newer", (await CallAsync(world.Robin, "GET", "hosts/narrower.example")).ToString());
        Assert.Equal(["a.narrow.example", "postfix"], (await PageAsync("services?host=narrow.example&state=plain-only")).Names);
        Assert.Equal(["b.narrow.example"], (await PageAsync("services?host=narrow&state=no-answer")).Names);
        Assert.Equal(["postfix"], (await PageAsync("services?host=narrow.example&connector=postfix")).Names);
        Assert.Empty((await PageAsync("services?host=narrow.example&state=accepted")).Names);
        Assert.Empty((await PageAsync("services?host=narrow.example&sort=ends")).Names);
        Assert.Empty((await PageAsync("services?host=narrow.example&endsBefore=2099-01-01T00:00:00Z")).Names);
        Assert.Equal(["narrow.example"], (await PageAsync("hosts?search=narrow.example&state=connected")).Names);
        // What is not there is told with what it may have been.
        foreach (
            var (path, near) in new[]
            {
                ("hosts/NARR", "narrow.example or narrower.example?"),
                ("services/narrow.example/web", "a.narrow.example, b.narrow.example or postfix?"),
                ("services/narrower.example/c", "c.narrower.example?"),
                ("certificates/beacon", "beacond@system?"),
            }
        )
            Assert.Contains($"Did you mean {near}", (await CallAsync(world.Robin, "GET", path)).ToString());
        Assert.Empty((await PageAsync("hosts?search=narrow.example&state=away")).Names);
        var lines = world
            .Beacon(world.Home(), "service", "list", "--host", "narrow", "--state", "plain-only")
            .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(["narrow/a.narrow.example", "narrow/postfix"], lines.Select(l => l.Split('\t')[0]));
        var one = world.Beacon(world.Home(), "host", "list", "narrow", "--most", "1", "--json");
        Assert.Single(JsonNode.Parse(one.Output)!.AsArray());
    }

    [Fact]
    public async Task Certificates_are_paged_narrowed_and_sorted_by_the_service()
    {
        using var s = new Scratch();
        foreach (var name in new[] { "c1", "c2", "c3" })
        {
            var csr = EstTests.Make(s, $"DNS:{name}.thistledown.example").Csr;
            var (status, body) = EstTests.Enrol(world, s, csr);
            Assert.True(status == "200", body);
        }
        await HostAsync(s, "c4.thistledown.example", Service("c4.thistledown.example"));
        var waits = new JsonObject { ["host"] = "c4", ["names"] = new JsonArray("c4.thistledown.example") };
        Assert.True((await CallAsync(world.Robin, "POST", "requests", waits.ToJsonString())).IsDone);

        async Task<List<string>> OfAsync(string query)
        {
            var (names, next) = (new List<string>(), "");
            do
            {
                var answer = await CallAsync(world.Robin, "GET", $"certificates?search=thistledown&take=2&after={next}&{query}");
                Assert.True(answer.IsDone, answer.ToString());
                names.AddRange(answer.Json!["items"]!.AsArray().Select(i => i!["name"]!.GetValue<string>().Split('.')[0]));
                next = answer.Json["next"]?.GetValue<string>() ?? "";
            } while (next.Length > 0);
            return [.. names.Where(n => n is "c1" or "c2" or "c3" or "c4")];
        }

        var hold = await CallAsync(
            world.Robin,
            "POST",
            "certificates/c3.thistledown.example@robin/revoke",
            """{"reason":"certificate-hold"}"""
        );
        Assert.True(hold.IsDone, hold.ToString());
        Assert.Equal(["c1", "c2", "c3", "c4"], await OfAsync(""));
        Assert.Equal(["c3", "c1", "c2", "c4"], await OfAsync("sort=severity"));
        // What waits for its first edition has no end and no renewal yet.
        Assert.Equal(["c1", "c2", "c3"], (await OfAsync("sort=ends")).Order());
        Assert.Empty(await OfAsync("sort=renewal"));
        Assert.Empty(await OfAsync("state=not-issued-yet"));
        Assert.Equal(["c3"], await OfAsync("state=on-hold"));
        Assert.Equal(["c3"], await OfAsync("state=needs-a-hand"));
        Assert.Equal(["c1", "c2", "c3"], await OfAsync("state=handed-out"));
        Assert.Equal(["c4"], await OfAsync("state=automatic"));
        Assert.Equal(["c1", "c2", "c3"], await OfAsync("issuer=issuing"));
        Assert.Equal(["c1", "c2", "c3", "c4"], await OfAsync("profile=server"));
        Assert.Empty(await OfAsync("profile=device"));
        Assert.Equal(["c4"], await OfAsync("host=c4"));
        Assert.Empty(await OfAsync("endsBefore=2026-01-01T00:00:00Z"));
        Assert.Equal(["c1", "c2", "c3"], await OfAsync("endsBefore=2099-01-01T00:00:00Z&sort=name"));
        var lines = world.Beacon(world.Home(), "cert", "list", "--state", "on-hold", "--sort", "severity").Output;
        Assert.Contains("c3.thistledown.example", lines);
        Assert.DoesNotContain("c1.thistledown.example", lines);
    }

    [Fact]
    public async Task A_name_that_a_certificate_lacks_needs_a_word_before_it_is_bound()
    {
        using var s = new Scratch();
        var service = Service("front.thistledown.example");
        service["names"] = new JsonArray("front.thistledown.example", "www.front.thistledown.example", "old.front.thistledown.example");
        await HostAsync(s, "front.thistledown.example", service);
        JsonObject Wish(params string[] leaveOut) =>
            new()
            {
                ["host"] = "front",
                ["names"] = new JsonArray("front.thistledown.example", "www.front.thistledown.example"),
                ["bindTo"] = new JsonArray("front.thistledown.example"),
                ["leaveOut"] = new JsonArray([.. leaveOut.Select(n => JsonValue.Create(n))]),
            };

        var preview = await CallAsync(world.Robin, "POST", "requests/preview", Wish().ToJsonString());
        Assert.Equal("old.front.thistledown.example", Assert.Single(preview.Json!["uncovered"]!.AsArray())!.GetValue<string>());
        var unsaid = await CallAsync(world.Robin, "POST", "requests", Wish().ToJsonString());
        Assert.Equal("names-not-covered", unsaid.Code);
        Assert.Contains("--leave-out old.front.thistledown.example", unsaid.ToString());
        Assert.Equal("names-not-covered", (await CallAsync(world.Robin, "POST", "requests", Wish("another.example").ToJsonString())).Code);
        var said = await CallAsync(world.Robin, "POST", "requests", Wish("old.front.thistledown.example").ToJsonString());
        Assert.True(said.IsDone, said.ToString());
    }

    [Theory]
    [InlineData("services?state=cheerful", "plain-only")]
    [InlineData("services?sort=colour", "name, ends")]
    [InlineData("certificates?state=cheerful", "needs-a-hand")]
    [InlineData("certificates?sort=colour", "severity")]
    [InlineData("certificates?issuer=somebody", "issuing")]
    [InlineData("hosts?state=cheerful", "connected")]
    [InlineData("hosts?sort=colour", "name, seen")]
    public async Task A_word_that_is_not_known_is_refused_with_those_that_are(string path, string word)
    {
        var answer = await CallAsync(world.Robin, "GET", path);
        Assert.Equal("input-invalid", answer.Code);
        Assert.Contains(word, answer.ToString());
    }

    [Theory]
    [InlineData("services?sort=ends&after=nowhere.example/nothing")]
    [InlineData("certificates?after=nowhere")]
    [InlineData("services?take=minus")]
    [InlineData("services?endsBefore=soon")]
    public async Task What_makes_no_sense_in_a_list_is_refused(string path)
    {
        var answer = await CallAsync(world.Robin, "GET", path);
        Assert.True(answer.Code == "input-invalid", answer.ToString());
    }
}
