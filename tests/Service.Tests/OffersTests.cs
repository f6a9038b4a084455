using System.Net;
using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What a thing says that its reader may not do is what is refused when they try, and nothing else is.</summary>
public sealed class OffersTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static Dictionary<string, string> Denied(JsonNode? of) =>
        of!["denied"]!
            .AsArray()
            .SelectMany(d =>
                d!["operations"]!.AsArray().Select(o => (Operation: o!.GetValue<string>(), Why: d["reason"]!.GetValue<string>()))
            )
            .ToDictionary(d => d.Operation, d => d.Why);

    /// <summary>Asks for what cannot be done in any case: only whether it is refused for who asks counts.</summary>
    private static async Task<bool> IsRefusedAsync(HttpClient who, string method, string path, string? json) =>
        await CallAsync(who, method, path, json) is { Status: HttpStatusCode.Forbidden, Code: "not-allowed" or "own-request" };

    [Fact]
    public async Task Who_may_what_is_said_beside_the_thing_and_holds()
    {
        using var s = new Scratch();
        var host = $"h{Guid.NewGuid().ToString("N")[..8]}.branch.example";
        var (agent, _) = await world.JoinAsync(s, host, "group:web");
        await ReportAsync(agent, [], [host]);
        var (asked, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:own.{host}")));
        Assert.True(state == "issued", asked.ToString());
        var certificate = asked.Json!["certificate"]!.GetValue<string>();

        var tries = new (string Operation, string Thing, Func<JsonNode, JsonNode?> Of, string Method, string Path, string? Json)[]
        {
            ("renewCertificate", $"certificates/{certificate}", n => n["certificate"], "POST", $"certificates/{certificate}/renew", null),
            (
                "changePolicy",
                $"certificates/{certificate}",
                n => n["certificate"],
                "PUT",
                $"certificates/{certificate}/policy",
                """{"after":0.5,"newKey":false,"automatic":true}"""
            ),
            (
                "revokeCertificate",
                $"certificates/{certificate}",
                n => n["certificate"],
                "POST",
                $"certificates/{certificate}/revoke",
                """{"reason":"no-such-reason","serial":null}"""
            ),
            (
                "bindService",
                $"services/{host}/{host}",
                n => n,
                "POST",
                $"services/{host}/{host}/binding",
                """{"certificate":"nothing","port":null}"""
            ),
            ("removeHost", $"hosts/{host}", n => n["host"], "DELETE", "hosts/nowhere.branch.example", null),
        };
        foreach (var (who, name) in new[] { (world.Robin, "robin"), (world.Jay, "jay"), (world.Magpie, "magpie"), (world.Finch, "finch") })
        foreach (var t in tries)
        {
            var thing = await CallAsync(who, "GET", t.Thing);
            Assert.True(thing.IsDone, thing.ToString());
            var said = Denied(t.Of(thing.Json!)).ContainsKey(t.Operation);
            var refused = await IsRefusedAsync(who, t.Method, t.Path, t.Json);
            Assert.True(said == refused, $"{name} {t.Operation}: said {said}, refused {refused}");
        }

        // Why is said as whoever is refused reads it.
        var magpies = await CallAsync(world.Magpie, "GET", $"certificates/{certificate}");
        Assert.Contains("belongs to jay", Denied(magpies.Json!["certificate"])["renewCertificate"]);
        var inList = await CallAsync(world.Magpie, "GET", $"services?search={host}");
        Assert.Contains("belongs to the group web", Denied(inList.Json!["items"]![0])["bindService"]);
    }

    [Fact]
    public async Task Nobody_is_offered_to_decide_their_own_request()
    {
        using var s = new Scratch();
        // A wildcard waits for a person.
        var (asked, state) = await AskAsync(
            world.Robin,
            Wish(Csrs.Make(s, $"DNS:*.{Guid.NewGuid().ToString("N")[..6]}.thistledown.example"))
        );
        Assert.True(state == "waiting-for-approval", asked.ToString());
        var number = asked.Json!["number"]!.GetValue<long>();
        var own = await CallAsync(world.Robin, "GET", $"requests/{number}");
        Assert.Contains("your own", Denied(own.Json)["approveRequest"]);
        Assert.DoesNotContain("withdrawRequest", Denied(own.Json).Keys);
        var others = await CallAsync(world.Magpie, "GET", $"requests/{number}");
        Assert.Contains("withdrawRequest", Denied(others.Json).Keys);
        Assert.Contains("approveRequest", Denied(others.Json).Keys);
    }

    [Fact]
    public async Task A_session_says_what_its_groups_do_not_allow()
    {
        async Task<Dictionary<string, string>> SessionOf(HttpClient who) => Denied((await CallAsync(who, "GET", "session")).Json);
        Assert.Empty(await SessionOf(world.Robin));
        var jays = await SessionOf(world.Jay);
        Assert.Contains("inviteHost", jays.Keys);
        Assert.DoesNotContain("submitRequest", jays.Keys);
        var finchs = await SessionOf(world.Finch);
        Assert.Contains("submitRequest", finchs.Keys);
        Assert.DoesNotContain("listCertificates", finchs.Keys);
        Assert.DoesNotContain("agentReport", finchs.Keys);
    }

    [Fact]
    public async Task A_state_that_there_is_not_is_said_with_those_that_there_are()
    {
        foreach (var list in new[] { "requests", "certificates", "hosts", "services" })
        {
            var answer = await CallAsync(world.Robin, "GET", $"{list}?state=no-such");
            Assert.True(answer.Status == HttpStatusCode.BadRequest, $"{list}: {answer}");
            Assert.Contains("Use one of", answer.Json!["cure"]!.GetValue<string>());
        }
    }
}
