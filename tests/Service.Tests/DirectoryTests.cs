using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The directory file; see <see cref="PlainDirectoryTests"/> for LDAP, and Domain.Tests for the domain's own.</summary>
public sealed class DirectoryTests
{
    private const string Rail = """
        computers:
          web07:
            names: [web07.thistledown.example]
            principals: [HOST/web07, HTTP/shop.thistledown.example, HTTP/shop.thistledown.example:8443]
          mail01: { names: [mail01.thistledown.example] }
        people: { jay: }
        groups:
          web-servers: [WEB07$, all-servers]
          all-servers: [web-servers]
          web-team: [jay]
        """;

    private static async Task<BeaconProblem> AwayAsync(string yaml)
    {
        using var s = new Scratch();
        return await Assert.ThrowsAsync<BeaconProblem>(() =>
            new EmbeddedDirectory(s.File("d.yaml", yaml)).ComputerOfAccountAsync("web07$", CancellationToken.None)
        );
    }

    [Fact]
    public async Task A_file_says_who_is_in_what_and_is_read_again()
    {
        using var s = new Scratch();
        var path = s.File("d.yaml", Rail);
        var d = new EmbeddedDirectory(path);
        var web07 = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
        // Groups in a circle are each taken once.
        Assert.Equal(["all-servers", "web-servers"], web07.Groups.Select(g => g.Name));
        Assert.Equal("HTTP/shop.thistledown.example", DirectoryBook.ServiceNames(web07)["shop.thistledown.example"]);
        Assert.Equal("WEB07$", Assert.Single(await d.ComputersOfNameAsync("web07.thistledown.example", CancellationToken.None)).Account);
        var owners = await d.OwnersAsync(
            ["shop.thistledown.example", "mail01.thistledown.example", "nobody.example"],
            CancellationToken.None
        );
        Assert.Equal(["MAIL01$", "WEB07$"], owners.SelectMany(o => o.Value).Order());
        Assert.Equal("web-team", Assert.Single((await d.PersonAsync("Jay", CancellationToken.None))!.Groups).Name);
        File.WriteAllText(path, Rail.Replace("[jay]", "[jay, wren]"));
        File.SetLastWriteTimeUtc(path, DateTime.UtcNow.AddSeconds(5));
        Assert.NotNull(await d.PersonAsync("wren", CancellationToken.None));
    }

    [Theory]
    [InlineData("", "empty")]
    [InlineData("computers: [a, b]", "line 1")]
    [InlineData("computers:\n  web07: { adresses: [a] }", "adresses")]
    [InlineData("servers: {}", "servers")]
    [InlineData("groups:\n  web: web07", "line 2")]
    [InlineData("groups: {web: [[a]]}", "not a name")]
    [InlineData("groups: {web: [", "line")]
    [InlineData("computers: { web07: {}, WEB07$: {} }", "twice")]
    [InlineData("groups: { Web: [a], web: [b] }", "twice")]
    [InlineData("a: &a [*a]", "")]
    public async Task A_file_that_makes_no_sense_is_away_with_the_place(string yaml, string said)
    {
        var p = await AwayAsync(yaml);
        Assert.Equal(ProblemCode.DirectoryAway, p.Code);
        Assert.Contains(said, p.Message);
    }

    [Fact]
    public async Task With_a_file_groups_give_zones_and_roles_and_a_new_membership_is_said()
    {
        var world = new AttackedWorld();
        using var s = new Scratch();
        var path = s.File("d.yaml", Rail);
        world.Settings["BEACON_DIRECTORY"] = path;
        world.Settings["BEACON_DNS"] = "none";
        world.Settings["BEACON_ZONES"] = AttackedWorld.Zones + ";apps.thistledown.example=directory:shop-team";
        world.Settings["BEACON_ROLES"] = "auditors=web-team";
        await ((IAsyncLifetime)world).InitializeAsync();
        try
        {
            // web-team of the file makes jay an auditor; a group there that is called administrators makes nobody one.
            Assert.True((await CallAsync(world.Jay, "GET", "people")).IsDone);
            Change(path, Rail + "\n  shop-team: [finch]\n  administrators: [jay]\n");
            await CallAsync(world.Jay, "POST", "directory/refresh", "{}");
            Assert.Equal("not-allowed", (await CallAsync(world.Jay, "POST", "consents/1", "{}")).Code);
            var csr = Csrs.Make(s, "DNS:a.apps.thistledown.example");
            async Task<(string Verdict, string Warnings)> PreviewAsync()
            {
                var p = await CallAsync(world.Jay, "POST", "requests/preview", Wish(csr).ToJsonString());
                Assert.True(p.IsDone, p.ToString());
                return (p.Json!["verdicts"]![0]!["reason"]!.GetValue<string>(), p.Json["warnings"]!.ToJsonString());
            }
            Assert.Equal("zone-of-others", (await PreviewAsync()).Verdict);
            Change(path, Rail + "\n  shop-team: [finch, jay]\n");
            // What was said some seconds ago stands; that it has changed is seen when somebody is refused by it.
            await Task.Delay(5500);
            var (verdict, warnings) = await PreviewAsync();
            Assert.Equal("zone-of-others", verdict);
            Assert.Contains("jay joined", warnings);
            Assert.Equal("zone-held", (await PreviewAsync()).Verdict);
            // A file that cannot be read grants nothing; administrators come in and see why.
            Change(path, "groups: [");
            await CallAsync(world.Robin, "POST", "directory/refresh", "{}");
            Assert.Equal("directory-away", (await CallAsync(world.Robin, "POST", "requests/preview", Wish(csr).ToJsonString())).Code);
            var state = await CallAsync(world.Robin, "GET", "directory");
            Assert.Contains("cannot be read", state.Json!["away"]!["message"]!.GetValue<string>());
        }
        finally
        {
            await world.DisposeAsync();
        }
    }

    private static void Change(string path, string text)
    {
        var before = File.GetLastWriteTimeUtc(path);
        File.WriteAllText(path, text);
        File.SetLastWriteTimeUtc(path, before.AddSeconds(1));
    }
}
