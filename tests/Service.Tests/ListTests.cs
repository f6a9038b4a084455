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
        Assert.Empty((await PageAsync("hosts?search=narrow.example&state=away")).Names);
        var lines = world
            .Beacon(world.Home(), "service", "list", "--host", "narrow", "--state", "plain-only")
            .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(["narrow/a.narrow.example", "narrow/postfix"], lines.Select(l => l.Split('\t')[0]));
        var one = world.Beacon(world.Home(), "host", "list", "narrow", "--most", "1", "--json");
        Assert.Single(JsonNode.Parse(one.Output)!.AsArray());
    }

    [Theory]
    [InlineData("services?state=cheerful", "plain-only")]
    [InlineData("services?sort=colour", "name, ends")]
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
    [InlineData("services?take=minus")]
    [InlineData("services?endsBefore=soon")]
    public async Task What_makes_no_sense_in_a_list_is_refused(string path)
    {
        var answer = await CallAsync(world.Robin, "GET", path);
        Assert.True(answer.Code == "input-invalid", answer.ToString());
    }
}
