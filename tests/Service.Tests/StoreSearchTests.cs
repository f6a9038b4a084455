using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Who has this certificate, this key, this issuer: over all hosts, by what their agents report.</summary>
public sealed class StoreSearchTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static JsonObject Entry(string certificate, char mark, string issuer, bool live = true) =>
        new()
        {
            ["certificate"] = certificate,
            ["serial"] = new string(mark, 32),
            ["thumbprint"] = new string(mark, 64).ToLowerInvariant(),
            ["notAfter"] = "2027-03-01T00:00:00Z",
            ["live"] = live,
            ["key"] = "0" + new string(mark, 63).ToLowerInvariant(),
            ["issuer"] = issuer,
        };

    private static async Task ReportAsync(HttpClient agent, params JsonObject[] entries)
    {
        var report = new JsonObject
        {
            ["agentVersion"] = "0.2.0",
            ["at"] = DateTimeOffset.UtcNow.ToString("o"),
            ["addresses"] = new JsonArray(),
            ["services"] = new JsonArray(),
            ["entries"] = new JsonArray([.. entries]),
            ["problem"] = null,
        };
        var told = await CallAsync(agent, "POST", "agent/report", report.ToJsonString());
        Assert.True(told.IsDone, told.ToString());
    }

    private async Task<List<string>> FindAsync(string query)
    {
        var page = await CallAsync(world.Finch, "GET", "store?" + query);
        Assert.True(page.IsDone, page.ToString());
        return [.. page.Json!["items"]!.AsArray().Select(e => $"{e!["host"]!.GetValue<string>().Split('.')[0]}/{e["certificate"]}")];
    }

    [Fact]
    public async Task The_fleet_is_searched_for_a_certificate_a_key_an_issuer()
    {
        using var s = new Scratch();
        var (one, _) = await world.JoinAsync(s, "s1.branch.example");
        var (two, _) = await world.JoinAsync(s, "s2.branch.example");
        const string Ours = "CN=Thistledown Rail Issuing,O=Thistledown Rail";
        await ReportAsync(one, Entry("shop.branch.example", 'A', Ours), Entry("shop.branch.example", 'B', Ours, live: false));
        await ReportAsync(two, Entry("shop.branch.example", 'C', "CN=Old Office"), Entry("stations.branch.example", 'D', Ours));

        Assert.Equal(["s1/shop.branch.example"], await FindAsync("search=" + new string('a', 64)));
        Assert.Equal(["s2/shop.branch.example"], await FindAsync("search=0" + new string('c', 63)));
        Assert.Equal(["s2/stations.branch.example"], await FindAsync("search=" + string.Join(':', Enumerable.Repeat("dd", 16))));
        Assert.Equal(3, (await FindAsync("search=shop")).Count);
        Assert.Equal(2, (await FindAsync("search=shop&inUse=true")).Count);
        Assert.Equal(["s2/shop.branch.example"], await FindAsync("issuer=Old%20Office"));
        Assert.Equal(3, (await FindAsync("issuer=Thistledown%20Rail%20Issuing")).Count);
        Assert.Equal(2, (await FindAsync("host=s2")).Count);
        Assert.Empty(await FindAsync("search=zzz"));
        Assert.Empty(await FindAsync("endsBefore=2027-01-01T00:00:00Z"));
        Assert.Empty(await FindAsync("search=%25"));

        // Page by page, each once.
        var first = await CallAsync(world.Finch, "GET", "store?take=3");
        var rest = await CallAsync(world.Finch, "GET", $"store?take=3&after={first.Json!["next"]}");
        Assert.Equal((3, 1), (first.Json["items"]!.AsArray().Count, rest.Json!["items"]!.AsArray().Count));

        // What an agent has no more is nobody's; a removed host has nothing.
        await ReportAsync(two, Entry("stations.branch.example", 'D', Ours));
        Assert.Equal(["s2/stations.branch.example"], await FindAsync("host=s2"));
        Assert.True((await CallAsync(world.Robin, "DELETE", "hosts/s1.branch.example")).IsDone);
        Assert.Single(await FindAsync(""));
    }
}
