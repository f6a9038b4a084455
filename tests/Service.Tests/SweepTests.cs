using System.Net;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Service.Tests.AttackedWorld;
using static OrderlyBeacon.Service.Tests.RunningHost;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A real agent looks over a network in which a real nginx serves what we look after and what nobody does.</summary>
public sealed class SweepTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private const int Tls = 9443;

    private async Task<SweepDetail> EndedAsync(long number)
    {
        SweepDetail? now = null;
        await UntilAsync(async () =>
        {
            now = (await CallAsync(world.Finch, "GET", $"sweeps/{number}")).Json.Deserialize(BeaconJson.Default.SweepDetail)!;
            return now.Sweep.State != SweepState.Running;
        });
        return now!;
    }

    private async Task<List<SweepFindingInfo>> FindingsAsync(long number, string query) =>
        [
            .. (await CallAsync(world.Finch, "GET", $"sweeps/{number}/findings?{query}"))
                .Json.Deserialize(BeaconJson.Default.PageSweepFindingInfo)!
                .Items,
        ];

    private async Task<long> StartAsync(string wish)
    {
        var started = await CallAsync(world.Robin, "POST", "sweeps", wish);
        Assert.True(started.IsDone, started.ToString());
        return started.Json!["number"]!.GetValue<long>();
    }

    /// <summary>Serves a pair at each address.</summary>
    private static void ServeAll(Scratch s, params (string Address, string Certificate, string Key)[] sites)
    {
        var servers = sites.Select(x =>
            $"server {{ listen {x.Address}:{Tls} ssl; ssl_certificate '{x.Certificate}'; ssl_certificate_key '{x.Key}'; return 200; }}"
        );
        File.WriteAllText(
            s["nginx.conf"],
            $"{(Environment.UserName == "root" ? "user root;" : "")} pid {s["nginx.pid"]}; error_log {s["error.log"]}; events {{}} http {{ access_log off; {string.Join("\n", servers)} }}"
        );
        var (code, _, error) = Programs.Run("/usr/sbin/nginx", ["-e", s["error.log"], "-p", s.Path, "-c", s["nginx.conf"]]);
        Assert.True(code == 0, error);
    }

    private static (string, string) SelfSigned(Scratch s, string name)
    {
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s[name + ".key"]} -out {s[name + ".pem"]} -days 20 -subj /CN={name} -addext subjectAltName=DNS:{name}"
        );
        return (s[name + ".pem"], s[name + ".key"]);
    }

    [Fact]
    public async Task What_nobody_looks_after_is_found_and_said_how_to_take_it_over()
    {
        using var s = new Scratch();
        await using var host = await new RunningHost(world, s, "scout.branch.example").StartAsync("jay");
        var (asked, _) = await AskAsync(world.Jay, Wish(host: host.Name, names: ["ours.branch.example"]));
        Assert.True(asked.IsDone, asked.ToString());
        var pair = Path.Combine(host.Store, "in-use", "ours.branch.example");
        await UntilAsync(() => Task.FromResult(Directory.Exists(pair)));
        var (certificate, key) = (
            Directory.GetFiles(pair, "*.pem", SearchOption.AllDirectories).First(f => File.ReadAllText(f).Contains("BEGIN CERTIFICATE")),
            Directory.GetFiles(pair, "*.pem", SearchOption.AllDirectories).First(f => File.ReadAllText(f).Contains("PRIVATE KEY"))
        );
        var (theirs, theirKey) = SelfSigned(s, "printer.branch.example");
        ServeAll(s, ("127.90.0.3", certificate, key), ("127.90.0.5", theirs, theirKey));
        try
        {
            var number = await StartAsync(
                $$"""{"networks":["127.90.0.0/28"],"ports":[{{Tls}},9444,{{world.Port}}],"from":"{{host.Name}}"}"""
            );
            var detail = await EndedAsync(number);
            Assert.Equal((SweepState.Done, 48L, 48L), (detail.Sweep.State, detail.Sweep.Total, detail.Sweep.Tried));
            Assert.Equal((2, 2, 1), (detail.Sweep.Answering, detail.Sweep.Serving, detail.Sweep.Unmanaged));
            Assert.Equal(("CN=printer.branch.example", 1), (Assert.Single(detail.Groups).Issuer, detail.Groups[0].Count));
            var nobodys = Assert.Single(await FindingsAsync(number, "managed=false&sort=ends"));
            Assert.Equal(("127.90.0.5", "self-signed"), (nobodys.Address, nobodys.State));
            Assert.Contains("beacon host invite", nobodys.TakeOver);
            var managed = Assert.Single(await FindingsAsync(number, "managed=true"));
            Assert.Equal(("127.90.0.3", "accepted", "ours.branch.example"), (managed.Address, managed.State, managed.Managed));
            Assert.Empty(await FindingsAsync(number, "search=nothing-like-it"));
            Assert.Equal(HttpStatusCode.Conflict, (await CallAsync(world.Robin, "POST", $"sweeps/{number}/stop")).Status);
        }
        finally
        {
            Programs.Run("kill", [File.ReadAllText(s["nginx.pid"]).Trim()]);
        }
    }

    [Theory]
    [InlineData("127.92.0.0/30", "127.92.0.0/30 is not within")]
    [InlineData("127.90.0.0/21", "127.90.0.0/21 is not within")]
    [InlineData("127.91.0.6", "127.91.0.6/32 is not within")]
    [InlineData("127.0.0.1", "127.0.0.1/32 is not within")]
    public async Task Nobody_looks_beyond_what_is_permitted(string network, string why)
    {
        var refused = await CallAsync(world.Robin, "POST", "sweeps", $$"""{"networks":["{{network}}"],"ports":[1]}""");
        Assert.Equal(HttpStatusCode.Forbidden, refused.Status);
        Assert.Contains(why, refused.Detail);
    }

    [Fact]
    public async Task Only_who_keeps_hosts_looks_over_networks()
    {
        foreach (var http in new[] { world.Jay, world.Finch, world.Wren })
            Assert.Equal(HttpStatusCode.Forbidden, (await CallAsync(http, "POST", "sweeps", """{"networks":["127.90.0.1"]}""")).Status);
        Assert.Equal(HttpStatusCode.Forbidden, (await CallAsync(world.Jay, "POST", "sweeps/1/stop")).Status);
        Assert.Equal(HttpStatusCode.NotFound, (await CallAsync(world.Robin, "GET", "sweeps/4711")).Status);
    }

    [Fact]
    public async Task A_sweep_can_be_stopped_and_one_host_does_one_at_a_time()
    {
        using var s = new Scratch();
        await using var host = await new RunningHost(world, s, "ranger.branch.example").StartAsync("jay");
        var number = await StartAsync($$"""{"networks":["127.90.0.0/22"],"from":"{{host.Name}}"}""");
        var twice = await CallAsync(world.Robin, "POST", "sweeps", $$"""{"networks":["127.90.0.1"],"from":"{{host.Name}}"}""");
        Assert.Contains("already", twice.Detail);
        await UntilAsync(async () =>
            (await CallAsync(world.Robin, "GET", $"sweeps/{number}")).Json!["sweep"]!["tried"]!.GetValue<long>() > 0
        );
        var stopped = await CallAsync(world.Robin, "POST", $"sweeps/{number}/stop");
        Assert.Equal("stopped", stopped.Json!["state"]!.GetValue<string>());
        Assert.InRange(stopped.Json!["tried"]!.GetValue<long>(), 1, stopped.Json!["total"]!.GetValue<long>() - 1);
        // The host is free for the next; the part that was under way comes to nothing.
        var next = await StartAsync($$"""{"networks":["127.91.0.7"],"ports":[1],"from":"{{host.Name}}"}""");
        Assert.Equal(SweepState.Done, (await EndedAsync(next)).Sweep.State);
        Assert.Equal(stopped.Json!["tried"]!.GetValue<long>(), (await EndedAsync(number)).Sweep.Tried);
    }

    private static string Met(string address, int port) =>
        $$"""{"address":"{{address}}","port":{{port}},"serverName":"x","at":"{{DateTimeOffset.UtcNow:O}}","outcome":"plain-only","message":"","protocol":null,"chain":["no certificate"]}""";

    [Fact]
    public async Task An_agent_says_what_it_met_where_it_was_sent_and_nowhere_else()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "liar.branch.example", "jay");
        var number = await StartAsync("""{"networks":["127.91.0.7"],"ports":[1,2],"from":"liar.branch.example"}""");
        var orders = (await CallAsync(agent, "GET", "agent/work?wait=0")).Json!["orders"]!.AsArray();
        var order = Assert.Single(orders, o => o!["kind"]!.GetValue<string>() == "sweep")!["id"]!.GetValue<long>();
        string[] looks = [Met("127.91.0.7", 2), Met("127.91.0.8", 2), Met("127.91.0.7", 3), Met("everywhere", 1)];
        var result = $$"""{"done":true,"problem":null,"steps":[],"looks":[{{string.Join(',', looks)}}],"plan":null}""";
        Assert.True((await CallAsync(agent, "POST", $"agent/orders/{order}/result", result)).IsDone);
        var detail = await EndedAsync(number);
        Assert.Equal((SweepState.Done, 2L, 1, 0), (detail.Sweep.State, detail.Sweep.Tried, detail.Sweep.Answering, detail.Sweep.Serving));
        Assert.Equal(
            ("127.91.0.7", 2, null),
            Assert.Single((await FindingsAsync(number, "")).Select(f => (f.Address, f.Port, f.TakeOver)))
        );
        // Said once more, it is taken once.
        await CallAsync(agent, "POST", $"agent/orders/{order}/result", result);
        Assert.Single(await FindingsAsync(number, ""));
    }

    [Fact]
    public async Task An_agent_that_cannot_look_ends_it_with_its_words()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "elder.branch.example", "jay");
        var number = await StartAsync("""{"networks":["127.91.0.7"],"ports":[1],"from":"elder.branch.example"}""");
        var order = (await CallAsync(agent, "GET", "agent/work?wait=0")).Json!["orders"]![0]!["id"]!.GetValue<long>();
        const string NotKnown =
            """{"done":false,"problem":{"code":"configuration-unsupported","message":"This agent does not know orders of that kind.","cure":"Update the agent."},"steps":[],"looks":null,"plan":null}""";
        Assert.True((await CallAsync(agent, "POST", $"agent/orders/{order}/result", NotKnown)).IsDone);
        var sweep = (await EndedAsync(number)).Sweep;
        Assert.Equal((SweepState.Failed, "Update the agent."), (sweep.State, sweep.Problem!.Cure));
    }
}
