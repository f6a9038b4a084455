using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>How somebody might come to a name that is not theirs: by spelling, by subject, by amending, renewing, repeating, racing. None is issued.</summary>
public sealed class NamesAttackTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static string Fresh(string zone = "branch.example") => $"n{Guid.NewGuid().ToString("N")[..8]}.{zone}";

    private async Task<List<string>> IssuedNamesAsync()
    {
        var all = await CallAsync(world.Robin, "GET", "certificates?take=200");
        return
        [
            .. all.Json!["items"]!
                .AsArray()
                .Where(c => c!["serial"] is not null)
                .SelectMany(c => c!["names"]!.AsArray().Select(n => n!.GetValue<string>())),
        ];
    }

    /// <summary>Asks by CSR and by host, under a name of one's own and with it added to a good name; nothing with it is issued or waits as granted.</summary>
    private async Task NeverAsync(Scratch s, string name)
    {
        var before = (await IssuedNamesAsync()).Count;
        var good = Fresh();
        foreach (
            var wish in new[] { Wish(Csrs.Make(s, $"DNS:{good}"), names: [name]), Wish(Csrs.Make(s, $"DNS:{good}"), names: [good, name]) }
        )
        {
            var (answer, state) = await AskAsync(world.Jay, wish);
            Assert.True(state is "refused" or "not taken" or "waiting-for-approval", $"{name}: {answer}");
        }
        var after = await IssuedNamesAsync();
        Assert.Equal(before, after.Count);
        if (!AttackedWorld.OfTheService.Contains(name))
            Assert.DoesNotContain(name, after);
    }

    /// <summary>The same in the CSR itself, where openssl can write it.</summary>
    private async Task NeverInCsrAsync(Scratch s, string names)
    {
        var (answer, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, names)));
        Assert.True(state is "refused" or "not taken" or "waiting-for-approval", $"{names}: {answer}");
    }

    [Theory]
    [InlineData("https://shop.branch.example", "Leave out the scheme, the port and the path.")]
    [InlineData("shop.branch.example/", "Leave out the scheme, the port and the path.")]
    [InlineData("shop.branch.example,www.branch.example", "give several names one by one")]
    public async Task A_first_name_that_is_none_is_told_for_what_it_is(string name, string cure)
    {
        using var s = new Scratch();
        var host = Fresh();
        var (agent, _) = await world.JoinAsync(s, host);
        using var _ = agent;
        var (answer, _) = await AskAsync(world.Robin, Wish(host: host, names: [name]));

        Assert.Equal("name-malformed", answer.Code);
        Assert.Contains(cure, answer.Json!["cure"]!.GetValue<string>());
    }

    [Fact]
    public async Task Others_names_in_every_spelling()
    {
        using var s = new Scratch();
        var victim = Fresh("yard.example");
        foreach (
            var name in new[]
            {
                victim, // another's
                victim.ToUpperInvariant(), // case
                victim + ".", // trailing dot
                "*.yard.example", // by wildcard
                "*." + victim,
                "yard.example",
                "branch.example.yard.example", // a zone's name inside
                "xbranch.example", // ends like the zone, is not in it
                "*.example",
                "*",
                "*.branch.example", // stands for the service
                "w*.branch.example", // partial wildcards
                "*.*.branch.example",
                "bra\u0441kets.yard.example", // a look-alike letter of another script
                "pay\u200B.yard.example", // an invisible character
                "\uFF59ard.example", // full width: maps to yard.example
                "yard\u3002example", // another full stop
                "xn--yard-.example",
                "a\0.branch.example", // NUL
                "a\n.branch.example",
                "a b.branch.example",
                "a/../b.branch.example",
                "a..branch.example",
                "localhost",
                "LOCALHOST.",
                "beacon.branch.example",
                "BEACON.branch.example.",
                "127.0.0.1",
                "0x7f.1",
                "2130706433",
                "::1",
                "::ffff:127.0.0.1",
                "::ffff:10.30.0.1",
                "169.254.169.254",
                "10.30.0.1", // no network of jay's
                "10.20.0.0/16",
                "fe80::1%eth0",
                "uri:https://branch.example",
                "email:robin@branch.example",
            }
        )
            await NeverAsync(s, name);
        foreach (
            var names in new[]
            {
                $"DNS:{victim}",
                $"DNS:{victim}.",
                "DNS:*.yard.example",
                "IP:127.0.0.1",
                "IP:10.30.0.1",
                "email:robin@yard.example",
                "URI:https://yard.example",
                $"DNS:{Fresh()},DNS:{victim}",
            }
        )
            await NeverInCsrAsync(s, names);
        // Only what is really its own comes, however it is spelled; twice is once.
        var own = Fresh();
        var (mine, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{own}"), names: [own.ToUpperInvariant(), own]));
        Assert.True(state == "issued", mine.ToString());
        Assert.Single(mine.Json!["verdicts"]!.AsArray());
    }

    [Fact]
    public async Task By_another_host_or_under_anothers_certificate()
    {
        using var s = new Scratch();
        var theirs = Fresh("yard.example");
        var (agent, _) = await world.JoinAsync(s, theirs, "group:yard");
        await ReportAsync(agent, [], [theirs]);
        // For another's host, by its whole and its short name; under another's certificate's name (--as).
        foreach (var host in new[] { theirs, theirs.Split('.')[0] })
            Assert.Equal("not taken", (await AskAsync(world.Jay, Wish(host: host, names: [theirs]))).State);
        var taken = (await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}")))).Answer.Json![
            "certificate"
        ]!.GetValue<string>();
        foreach (var certificate in new[] { taken, taken.ToUpperInvariant(), theirs, $"agent:{theirs}", "beacond@system" })
        {
            var (answer, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{Fresh()}"), certificate: certificate));
            Assert.True(state is "refused" or "not taken", $"{certificate}: {answer}");
        }
        // An alias that another's site has claims nothing for it, and takes nothing from its holder.
        var alias = Fresh();
        await ReportAsync(agent, [], [theirs, alias]);
        var (mine, waits) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{alias}")));
        Assert.True(waits is "waiting-for-approval" or "issued", mine.ToString());
        var (others, theirsWaits) = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{alias}")));
        Assert.Equal("waiting-for-approval", theirsWaits);
        // Whoever approves in general is not who holds the zone.
        var issued = (await IssuedNamesAsync()).Count(n => n == alias);
        var tried = await CallAsync(world.Wren, "POST", $"requests/{others.Json!["number"]}/approve", "{}");
        Assert.NotEqual("issued", tried.Json?["state"]?.GetValue<string>());
        Assert.Equal(issued, (await IssuedNamesAsync()).Count(n => n == alias));
    }

    [Fact]
    public async Task A_short_name_that_fits_two_hosts_is_none()
    {
        using var s = new Scratch();
        var label = $"n{Guid.NewGuid().ToString("N")[..8]}";
        foreach (var zone in new[] { "branch.example", "thistledown.example" })
            await world.JoinAsync(s, $"{label}.{zone}", "group:web");
        var (answer, state) = await AskAsync(world.Jay, Wish(host: label, names: [$"{label}.branch.example"]));
        Assert.Equal("not taken", state);
        Assert.Equal("name-ambiguous", answer.Code);
        Assert.Equal("name-ambiguous", (await CallAsync(world.Robin, "GET", $"hosts/{label}")).Code);
        Assert.Equal("name-ambiguous", (await CallAsync(world.Robin, "DELETE", $"hosts/{label}")).Code);
    }

    [Fact]
    public async Task Late_amended_renewed_or_withdrawn()
    {
        using var s = new Scratch();
        // A wildcard waits; meanwhile the requester loses the group: approval decides again.
        var wild = "*." + Fresh("yard.example");
        var (asked, state) = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{wild}")));
        Assert.True(state == "waiting-for-approval", asked.ToString());
        var number = asked.Json!["number"]!.GetValue<long>();
        // Amended to another's name: judged by the requester's zones, and it waits for who holds that one.
        var (other, _) = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:*.{Fresh("yard.example")}")));
        var amended = await CallAsync(
            world.Wren,
            "POST",
            $"requests/{other.Json!["number"]}/amend",
            """{"names":["x.branch.example"],"reason":"try"}"""
        );
        Assert.Equal("web", amended.Json!["verdicts"]![0]!["holders"]![0]!.GetValue<string>());
        await CallAsync(world.Wren, "POST", $"requests/{other.Json!["number"]}/approve", "{}");
        Assert.DoesNotContain("x.branch.example", await IssuedNamesAsync());
        var renewable = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}")));
        Assert.Equal("issued", renewable.State);
        var certificate = renewable.Answer.Json!["certificate"]!.GetValue<string>();

        Assert.True((await CallAsync(world.Robin, "PUT", "people/magpie/groups", """{"groups":["approvers"]}""")).IsDone);
        try
        {
            var approved = await CallAsync(world.Wren, "POST", $"requests/{number}/approve", "{}");
            Assert.NotEqual("issued", approved.Json?["state"]?.GetValue<string>());
            Assert.DoesNotContain(wild, await IssuedNamesAsync());
            // Nor renewed, nor asked for again; the session of before has the groups of now.
            Assert.False((await CallAsync(world.Magpie, "POST", $"certificates/{Uri.EscapeDataString(certificate)}/renew", "{}")).IsDone);
            Assert.Equal("not taken", (await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}")))).State);
        }
        finally
        {
            Assert.True((await CallAsync(world.Robin, "PUT", "people/magpie/groups", """{"groups":["yard"]}""")).IsDone);
        }

        // The profile forbids wildcards after it was asked for.
        var wild2 = "*." + Fresh("yard.example");
        var (again, waits) = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{wild2}")));
        Assert.True(waits == "waiting-for-approval", again.ToString());
        var yaml = (await CallAsync(world.Robin, "GET", "profiles/server/yaml")).Json!["yaml"]!.GetValue<string>();
        Assert.Contains("wildcards: true", yaml);
        await ImportAsync(yaml.Replace("wildcards: true", "wildcards: false"));
        var late = await CallAsync(world.Wren, "POST", $"requests/{again.Json!["number"]}/approve", "{}");
        Assert.NotEqual("issued", late.Json?["state"]?.GetValue<string>());
        Assert.DoesNotContain(wild2, await IssuedNamesAsync());
        await ImportAsync(yaml);

        // Withdrawn is withdrawn, even when it is approved at the same moment: never both.
        for (var i = 0; i < 5; i++)
        {
            var (one, _) = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:*.{Fresh("yard.example")}")));
            var path = $"requests/{one.Json!["number"]}";
            var both = await Task.WhenAll(
                CallAsync(world.Wren, "POST", path + "/approve", "{}"),
                CallAsync(world.Magpie, "POST", path + "/withdraw", "{}")
            );
            var end = await CallAsync(world.Robin, "GET", path);
            var ended = end.Json!["state"]!.GetValue<string>();
            Assert.True(ended is "issued" or "withdrawn" or "refused", end.ToString());
            var names = await IssuedNamesAsync();
            Assert.Equal(ended == "issued", names.Contains(one.Json["verdicts"]![0]!["name"]!.GetValue<string>()));
            Assert.Contains(both, b => b.IsDone);
        }
    }

    private async Task ImportAsync(string yaml)
    {
        var done = await CallAsync(world.Robin, "POST", "profiles/import", new JsonObject { ["yaml"] = yaml }.ToJsonString());
        Assert.True(done.IsDone, done.ToString());
    }

    [Fact]
    public async Task Two_at_once_for_one_certificate_are_one_owners()
    {
        using var s = new Scratch();
        for (var i = 0; i < 5; i++)
        {
            var name = $"race{Guid.NewGuid().ToString("N")[..8]}";
            var both = await Task.WhenAll(
                AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{Fresh()}"), certificate: name)),
                AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}"), certificate: name))
            );
            var certificates = both.Where(b => b.State == "issued").Select(b => b.Answer.Json!["certificate"]!.GetValue<string>()).ToList();
            Assert.NotEmpty(certificates);
            foreach (var c in certificates.Distinct())
            {
                var detail = await CallAsync(world.Robin, "GET", "certificates/" + Uri.EscapeDataString(c));
                var editions = detail.Json!["editions"]!.AsArray();
                // Whoever owns it, its editions are one person's: never one with jay's and magpie's names.
                Assert.Equal(certificates.Count(x => x == c), editions.Count);
                Assert.Single(editions);
            }
        }
    }

    [Fact]
    public async Task A_renewal_that_needs_approval_waits_and_is_approved()
    {
        using var s = new Scratch();
        // Approved once by people: what was approved survives, in either spelling of the address.
        foreach (var (asked, spelled) in new[] { ("2001:4DB8:0:0::0007", "2001:4db8::7"), ("10.30.0.9", "10.30.0.9") })
        {
            var name = Fresh();
            var (first, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{name}"), names: [name, "IP:" + asked]));
            Assert.True(state == "waiting-for-approval", first.ToString());
            Assert.True((await CallAsync(world.Wren, "POST", $"requests/{first.Json!["number"]}/approve", "{}")).IsDone);
            var certificate = first.Json["certificate"]!.GetValue<string>();
            Assert.Contains("ip:" + spelled, await IssuedNamesAsync());
            var (again, state2) = await AskAsync(
                world.Jay,
                Wish(Csrs.Make(s, $"DNS:{name}"), certificate: certificate, names: [name, spelled])
            );
            Assert.True(state2 == "issued", again.ToString());
            // For this certificate only.
            Assert.Equal(
                "waiting-for-approval",
                (await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{Fresh()}"), names: ["IP:" + spelled]))).State
            );
            // It stays jay's, whoever approved it.
            var detail = await CallAsync(world.Robin, "GET", "certificates/" + Uri.EscapeDataString(certificate));
            Assert.Contains("\"jay\"", detail.Json!.ToJsonString());
            Assert.DoesNotContain("\"owner\":\"wren\"", detail.Json.ToJsonString());
        }
    }
}
