using System.Net;
using System.Text.Json;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Names;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Who trusts what, told by agents and changed by people: sets are asked for once, nothing is believed that does not fit, and nobody has clients trust whom no authority keeper vouched for.</summary>
public sealed class TrustTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static byte[] Root(Scratch s, string name)
    {
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s[name + ".key"]} -outform DER -out {s[name]} -days 300 -subj /CN={name} -addext basicConstraints=critical,CA:TRUE"
        );
        return File.ReadAllBytes(s[name]);
    }

    private static FoundTrustStore Store(
        string path,
        IReadOnlyList<byte[]> anchors,
        TrustKind kind = TrustKind.System,
        bool letsIn = false,
        params MarkedAnchor[] marks
    ) => new(kind, path, "programs", letsIn, anchors.Count, AnchorDigest.Of(anchors.Select(a => Thumbprint.Of(a).Hex)), marks, null);

    private static async Task ReportAsync(HttpClient agent, params FoundTrustStore[] stores)
    {
        var report = new AgentReport("0.2", DateTimeOffset.UtcNow, [], [], [], null) { Trust = stores };
        var answer = await CallAsync(agent, "POST", "agent/report", JsonSerializer.Serialize(report, BeaconJson.Default.AgentReport));
        Assert.True(answer.IsDone, answer.ToString());
    }

    private static async Task<List<Order>> WorkAsync(HttpClient agent) =>
        [.. (await CallAsync(agent, "GET", "agent/work?wait=0")).Json.Deserialize(BeaconJson.Default.OrderList)!.Orders];

    private static async Task AnswerAsync(HttpClient agent, long order, IReadOnlyList<byte[]>? anchors = null, ProblemInfo? problem = null)
    {
        var result = new OrderResult(problem is null, problem, [], null, null)
        {
            Anchors = anchors?.Select(Convert.ToBase64String).ToList(),
        };
        var answer = await CallAsync(
            agent,
            "POST",
            $"agent/orders/{order}/result",
            JsonSerializer.Serialize(result, BeaconJson.Default.OrderResult)
        );
        Assert.True(answer.IsDone, answer.ToString());
    }

    /// <summary>A host that has told all of its stores.</summary>
    private async Task<HttpClient> ToldAsync(
        Scratch s,
        string host,
        string owner,
        IReadOnlyList<byte[]> anchors,
        params FoundTrustStore[] stores
    )
    {
        var (agent, _) = await world.JoinAsync(s, host, owner);
        await ReportAsync(agent, stores);
        foreach (var o in await WorkAsync(agent))
            await AnswerAsync(agent, o.Id, anchors);
        return agent;
    }

    private async Task<List<TrustStoreInfo>> StoresAsync(string query) =>
        [.. (await CallAsync(world.Finch, "GET", "trust/stores?" + query)).Json.Deserialize(BeaconJson.Default.PageTrustStoreInfo)!.Items];

    private async Task<AnchorInfo> AnchorAsync(string called) =>
        (await CallAsync(world.Finch, "GET", "trust/anchors/" + called)).Json.Deserialize(BeaconJson.Default.AnchorDetail)!.Anchor;

    private static string Change(string act, string anchor, string? stores = null, string? hosts = null, string reason = "a test") =>
        $$"""{"act":"{{act}}","anchor":"{{anchor}}","stores":{{stores ?? "null"}},"hosts":{{hosts ?? "null"}},"kind":null,"reason":"{{reason}}"}""";

    [Fact]
    public async Task A_set_is_asked_for_once_and_counted_for_all_that_have_it()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "kestrel-root"), Root(s, "linnet-root")];
        var agent = await ToldAsync(s, "first.branch.example", "jay", roots, Store("/", roots));
        var (second, _) = await world.JoinAsync(s, "second.branch.example", "jay");
        await ReportAsync(second, Store("/", roots));
        Assert.Empty(await WorkAsync(second));
        var kestrel = Thumbprint.Of(roots[0]).Hex;
        Assert.Equal((2, 0, false), (await AnchorAsync(kestrel) is var a ? (a.TrustedBy, a.DistrustedBy, a.Ours) : default));
        Assert.Equal("CN=kestrel-root", (await AnchorAsync(kestrel[..8])).Subject);
        Assert.Equal(2, (await StoresAsync($"anchor={kestrel}&standing=trusted")).Count);
        // One of them takes it out: its set is another one, and asked for.
        await ReportAsync(agent, Store("/", [roots[1]]));
        Assert.Equal(OrderKind.TellTrust, Assert.Single(await WorkAsync(agent)).Kind);
        Assert.Equal(AnchorStanding.NotKnown, Assert.Single(await StoresAsync($"anchor={kestrel}&host=first")).Standing);
        await AnswerAsync(agent, (await WorkAsync(agent))[0].Id, [roots[1]]);
        Assert.Equal(AnchorStanding.Lacking, Assert.Single(await StoresAsync($"anchor={kestrel}&host=first")).Standing);
        Assert.Equal(1, (await AnchorAsync(kestrel)).TrustedBy);
        // A host that goes takes what it trusted along.
        Assert.True((await CallAsync(world.Robin, "DELETE", "hosts/second.branch.example")).IsDone);
        Assert.Equal(HttpStatusCode.NotFound, (await CallAsync(world.Finch, "GET", "trust/anchors/" + kestrel)).Status);
    }

    [Fact]
    public async Task An_anchor_that_is_distrusted_everywhere_can_be_trusted_again()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "dunlin-root"), Root(s, "knot-root")];
        var agent = await ToldAsync(s, "only.branch.example", "robin", roots, Store("/", roots));
        var dunlin = Thumbprint.Of(roots[0]).Hex;
        await ReportAsync(agent, Store("/", [roots[1]], TrustKind.System, letsIn: false, new MarkedAnchor(dunlin, TrustMark.Distrusted)));
        Assert.Equal((0, 1), (await AnchorAsync(dunlin) is var a ? (a.TrustedBy, a.DistrustedBy) : default));
        var again = await CallAsync(world.Robin, "POST", "trust/changes", Change("trust-again", dunlin));
        Assert.Single(again.Json!["orders"]!.AsArray());
        var order = (await WorkAsync(agent)).Single(o => o.Kind == OrderKind.Trust);
        Assert.Equal(Convert.ToBase64String(roots[0]), order.Trust!.Anchor);
        // What nothing speaks of any more is forgotten.
        await ReportAsync(agent, Store("/", [roots[1]]));
        Assert.Equal(HttpStatusCode.NotFound, (await CallAsync(world.Finch, "GET", "trust/anchors/" + dunlin)).Status);
    }

    [Fact]
    public async Task A_set_that_was_forgotten_is_asked_for_again_and_a_silent_host_does_not_keep_others_waiting()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "pipit-root"), Root(s, "serin-root")];
        var agent = await ToldAsync(s, "back.branch.example", "jay", roots, Store("/", roots));
        await ReportAsync(agent, Store("/", [roots[0]]));
        await AnswerAsync(agent, Assert.Single(await WorkAsync(agent)).Id, [roots[0]]);
        await ReportAsync(agent, Store("/", roots));
        await AnswerAsync(agent, Assert.Single(await WorkAsync(agent)).Id, roots);
        Assert.Equal(2, Assert.Single(await StoresAsync("host=back")).Anchors);
        Assert.Equal(AnchorStanding.Trusted, Assert.Single(await StoresAsync("host=back&anchor=" + Thumbprint.Of(roots[1]).Hex)).Standing);

        // Asked first, it says nothing; the other one's reports go on being taken, and it has the set when somebody tells it.
        byte[][] later = [Root(s, "twite-root")];
        var (silent, _) = await world.JoinAsync(s, "silent.branch.example", "jay");
        await ReportAsync(silent, Store("/", later));
        await ReportAsync(agent, Store("/", later));
        Assert.Empty(await WorkAsync(agent));
        await AnswerAsync(silent, Assert.Single(await WorkAsync(silent)).Id, later);
        Assert.Equal(AnchorStanding.Trusted, Assert.Single(await StoresAsync("host=back&anchor=" + Thumbprint.Of(later[0]).Hex)).Standing);
    }

    [Fact]
    public async Task What_an_agent_says_counts_for_the_set_that_it_named_alone()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "merlin-root")];
        var (agent, _) = await world.JoinAsync(s, "liar.branch.example", "jay");
        await ReportAsync(agent, Store("/", roots));
        var order = Assert.Single(await WorkAsync(agent));
        await AnswerAsync(agent, order.Id, [Root(s, "other-root")]);
        Assert.Equal(AnchorStanding.NotKnown, Assert.Single(await StoresAsync("host=liar&anchor=root")).Standing);
        Assert.Equal(HttpStatusCode.NotFound, (await CallAsync(world.Finch, "GET", "trust/anchors/" + Thumbprint.Of(roots[0]).Hex)).Status);
        // Stores without end, and names without end, are not kept.
        await ReportAsync(agent, [.. Enumerable.Range(0, 300).Select(i => Store("/" + i, [])), Store("/" + new string('x', 600), [])]);
        Assert.Equal(50, (await CallAsync(world.Finch, "GET", "trust/stores?host=liar&take=500")).Json!["items"]!.AsArray().Count);
    }

    [Fact]
    public async Task Our_root_is_pushed_to_who_lacks_it_once_and_by_who_keeps_the_host()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "osprey-root")];
        var agent = await ToldAsync(
            s,
            "hall.branch.example",
            "robin",
            roots,
            Store("/", roots),
            Store("/etc/clients.pem", roots, TrustKind.File, letsIn: true)
        );
        var numbers = await StoresAsync("host=hall");
        var hall = """["hall"]""";
        var plan = (await CallAsync(world.Robin, "POST", "trust/plan", Change("push", "root", hosts: hall))).Json.Deserialize(
            BeaconJson.Default.TrustPlan
        )!;
        // What lets clients in is not changed along with what says whom to trust.
        Assert.Equal(("/", 1), (Assert.Single(plan.Stores).Path, plan.Count));
        Assert.Empty(await WorkAsync(agent));
        foreach (var http in new[] { world.Jay, world.Finch, world.Wren })
            Assert.Equal(
                HttpStatusCode.Forbidden,
                (await CallAsync(http, "POST", "trust/changes", Change("push", "root", hosts: hall))).Status
            );
        Assert.Contains(
            "reason",
            (await CallAsync(world.Robin, "POST", "trust/changes", Change("push", "root", hosts: hall, reason: " "))).Detail
        );
        var ordered = await CallAsync(world.Robin, "POST", "trust/changes", Change("push", "root", hosts: hall));
        Assert.True(ordered.IsDone, ordered.ToString());
        Assert.Single(ordered.Json!["orders"]!.AsArray());
        Assert.Empty(
            (await CallAsync(world.Robin, "POST", "trust/changes", Change("push", "root", hosts: hall))).Json!["orders"]!.AsArray()
        );
        var order = Assert.Single(await WorkAsync(agent));
        Assert.Equal((OrderKind.Trust, TrustAct.Push), (order.Kind, order.Trust!.Act));
        await AnswerAsync(agent, order.Id, problem: new("cannot-write", "The disk is full.", "Free some space."));
        Assert.Equal("The disk is full.", (await StoresAsync("host=hall"))[0].Problem!.Message);
        Assert.Contains("trust.failed", await world.JournalAsync("hall.branch.example"));

        var clients = numbers.Single(n => n.LetsIn).Id;
        var letsIn = (await CallAsync(world.Robin, "POST", "trust/plan", Change("push", "root", $"[{clients}]"))).Json.Deserialize(
            BeaconJson.Default.TrustPlan
        )!;
        Assert.Contains(letsIn.Consequences, c => c.Contains("may come in there afterwards"));
    }

    [Fact]
    public async Task Who_keeps_hosts_does_not_decide_who_may_vouch_for_servers()
    {
        using var s = new Scratch();
        byte[][] roots = [Root(s, "shrike-root"), Root(s, "wagtail-root")];
        await ToldAsync(s, "one.branch.example", "robin", roots, Store("/", roots));
        await ToldAsync(s, "two.branch.example", "robin", [roots[1]], Store("/", [roots[1]]));
        var shrike = Thumbprint.Of(roots[0]).Hex;
        var refused = await CallAsync(world.Robin, "POST", "trust/changes", Change("push", shrike, hosts: """["two"]"""));
        Assert.Equal(HttpStatusCode.Forbidden, refused.Status);
        Assert.Contains("neither a root of ours", refused.Detail);
        var distrusted = await CallAsync(world.Robin, "POST", "trust/changes", Change("distrust", shrike, hosts: """["one","two"]"""));
        Assert.Single(distrusted.Json!["orders"]!.AsArray());
        Assert.Contains("trust.ended", await world.JournalAsync("shrike-root"));
        foreach (
            var (anchor, code) in new[]
            {
                ("zz", HttpStatusCode.BadRequest),
                ("00000000", HttpStatusCode.NotFound),
                ("' or 1=1", HttpStatusCode.BadRequest),
            }
        )
            Assert.Equal(code, (await CallAsync(world.Robin, "POST", "trust/plan", Change("distrust", anchor))).Status);
    }

    [Fact]
    public async Task Each_store_has_its_own_cause_for_a_refusal()
    {
        using var s = new Scratch();
        var (root, der) = (Root(s, "plover-root"), s["leaf.der"]);
        Programs.OpenSsl(
            $"req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["leaf.key"]} -out {s["leaf.csr"]} -subj /CN=x"
        );
        s.File("leaf.ext", "subjectAltName=DNS:shop.example\nextendedKeyUsage=serverAuth\n");
        Programs.OpenSsl(
            $"x509 -req -in {s["leaf.csr"]} -CA {s["plover-root"]} -CAform DER -CAkey {s["plover-root.key"]} -set_serial 0x7711 -days 30 -extfile {s["leaf.ext"]} -outform DER -out {der}"
        );
        byte[][] others = [Root(s, "stint-root")];
        var agent = await ToldAsync(
            s,
            "asker.branch.example",
            "jay",
            others,
            Store("/", others),
            Store("/told", others, TrustKind.Java, letsIn: false, new MarkedAnchor(Thumbprint.Of(root).Hex, TrustMark.Distrusted))
        );
        await ReportAsync(
            agent,
            Store("/", others),
            Store("/told", others, TrustKind.Java, letsIn: false, new MarkedAnchor(Thumbprint.Of(root).Hex, TrustMark.Distrusted)),
            Store("/has", [root], TrustKind.File)
        );
        await AnswerAsync(agent, Assert.Single(await WorkAsync(agent)).Id, [root]);
        var asked = CallAsync(
            world.Jay,
            "POST",
            "trust/why",
            """{"host":"asker","address":"shop.example:443","serverName":null,"protocol":null,"store":null}"""
        );
        List<Order> work = [];
        await RunningHost.UntilAsync(async () => (work = await WorkAsync(agent)).Count > 0);
        var look = new LookReport(
            "shop.example",
            443,
            "shop.example",
            DateTimeOffset.UtcNow,
            LookOutcome.Served,
            "",
            "tls1.3",
            [Convert.ToBase64String(File.ReadAllBytes(der))]
        );
        var result = new OrderResult(true, null, [], [look], null);
        await CallAsync(
            agent,
            "POST",
            $"agent/orders/{work[0].Id}/result",
            JsonSerializer.Serialize(result, BeaconJson.Default.OrderResult)
        );
        var answer = (await asked).Json.Deserialize(BeaconJson.Default.WhyAnswer)!;
        var by = answer.Verdicts.ToDictionary(v => v.Store.Path);
        Assert.True(by["/has"].Accepted, by["/has"].Cause);
        Assert.StartsWith("The store lacks CN=plover-root", by["/"].Cause);
        Assert.StartsWith("The store was told to distrust CN=plover-root", by["/told"].Cause);
        Assert.Contains("beacon trust again", by["/told"].Cure);
        Assert.Equal(
            HttpStatusCode.Forbidden,
            (await CallAsync(world.Finch, "POST", "trust/why", """{"host":"asker","address":"x"}""")).Status
        );
    }
}
