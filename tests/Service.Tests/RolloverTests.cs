using System.Text.Json;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A service beside a real name server, one of whose zones it may change.</summary>
public sealed class RecordsWorld : AttackedWorld
{
    internal NameServer Names { get; } = new();

    public RecordsWorld()
    {
        Settings["BEACON_DNS"] = Names.Server;
        Settings["BEACON_DNSUPDATES"] = $"branch.example={Names.Server},{NameServer.KeyName},{Names.KeyFile}";
    }

    public override async ValueTask DisposeAsync()
    {
        await base.DisposeAsync();
        Names.Dispose();
    }
}

/// <summary>A certificate's next key where TLSA records speak of it: the record first, then the wait, then the key, then the end of the old record (RFC 7671, section 8.1).</summary>
public sealed class RolloverTests(RecordsWorld world) : IClassFixture<RecordsWorld>
{
    private const int Port = 25;

    /// <summary>A mail host, played: what its agent says and does is said here.</summary>
    private sealed record MailHost(RecordsWorld World, Scratch S, HttpClient Owner, HttpClient Agent, string Zone)
    {
        public string Name => $"mail.{Zone}";
        public string Owned => $"_{Port}._tcp.{Name}";
        public string Certificate => Name;

        public async Task<List<Order>> WorkAsync() =>
            [.. (await CallAsync(Agent, "GET", "agent/work?wait=0")).Json.Deserialize(BeaconJson.Default.OrderList)!.Orders];

        public async Task<Order> OrderAsync(OrderKind kind)
        {
            Order? found = null;
            await RunningHost.UntilAsync(async () => (found = (await WorkAsync()).FirstOrDefault(o => o.Kind == kind)) is not null);
            return found!;
        }

        public async Task EndAsync(long order, string? csr = null, ProblemInfo? problem = null)
        {
            var result = new OrderResult(problem is null, problem, [], null, null) { Csr = csr };
            var text = JsonSerializer.Serialize(result, BeaconJson.Default.OrderResult);
            var answer = await CallAsync(Agent, "POST", $"agent/orders/{order}/result", text);
            Assert.True(answer.IsDone, answer.ToString());
        }

        public async Task<CertificateInfo> CertificateAsync() =>
            (await CallAsync(Owner, "GET", "certificates/" + Certificate))
                .Json.Deserialize(BeaconJson.Default.CertificateDetail)!
                .Certificate;

        public async Task<RolloverInfo> StepAsync(RolloverStep step, Func<RolloverInfo, bool>? also = null)
        {
            RolloverInfo? seen = null;
            await RunningHost.UntilAsync(async () =>
                (seen = (await CertificateAsync()).Rollover) is { } r && r.Step == step && also?.Invoke(r) != false
            );
            return seen!;
        }

        public Task EndedAsync() => RunningHost.UntilAsync(async () => (await CertificateAsync()).Rollover is null);

        /// <summary>The digest of a key, worked out by openssl.</summary>
        public static string Digest(string csr)
        {
            var key = Programs.OpenSsl("req -noout -pubkey", System.Text.Encoding.ASCII.GetBytes(csr));
            var der = Armor.Read(System.Text.Encoding.ASCII.GetBytes(key)).Blocks.Single().Der;
            return Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(der));
        }

        public string Csr() => Csrs.Make(S, "DNS:" + Name);

        /// <summary>Requested and served, when DNS says nothing of it yet; then its record is published as its owner would.</summary>
        public async Task<string> FirstAsync()
        {
            var wish = Wish(host: $"host.{Zone}", certificate: Certificate, names: Name);
            wish["bindTo"] = new JsonArray("postfix");
            var (asked, state) = await AskAsync(Owner, wish);
            Assert.True(state == "waiting-for-host", asked.ToString());
            var order = await OrderAsync(OrderKind.Obtain);
            var csr = Csr();
            var edition = await CallAsync(Agent, "POST", $"agent/orders/{order.Id}/csr", new JsonObject { ["csr"] = csr }.ToJsonString());
            Assert.True(edition.IsDone, edition.ToString());
            await EndAsync(order.Id);
            World.Names.Change(Zone, $"add {Owned} {NameServer.Life} TLSA 3 1 1 {Digest(csr)}");
            return Digest(csr);
        }

        public Task<Answer> RenewAsync() => CallAsync(Owner, "POST", $"certificates/{Certificate}/renew");
    }

    private async Task<MailHost> JoinedAsync(Scratch s, string zone, HttpClient owner, string group)
    {
        var (agent, _) = await world.JoinAsync(s, "host." + zone, group);
        var door = new EndpointInfo("127.0.0.9", Port, false) { Protocol = ProbeProtocol.Smtp };
        var found = new FoundService("postfix", "postfix", [$"mail.{zone}"], [door], ["/etc/postfix/main.cf"], null, null, []);
        var report = new AgentReport("0.2", DateTimeOffset.UtcNow, ["127.0.0.9"], [found], [], null);
        var answer = await CallAsync(agent, "POST", "agent/report", JsonSerializer.Serialize(report, BeaconJson.Default.AgentReport));
        Assert.True(answer.IsDone, answer.ToString());
        return new(world, s, owner, agent, zone);
    }

    private List<string> Records(MailHost host) => world.Names.Records(host.Owned);

    private static string Record(string digest) => $"3 1 1 {digest}";

    [Fact]
    public async Task The_record_comes_before_the_key_and_the_old_one_goes_after_it()
    {
        using var s = new Scratch();
        var host = await JoinedAsync(s, "branch.example", world.Jay, "jay");
        var old = await host.FirstAsync();
        await RenewedAsync(host, old);
        await AFailedSwapKeepsBothAsync(host);
        await AWithdrawnKeyGoesAgainAsync(host);
        await ANameServerThatIsAwayIsWaitedForAsync(host);
        var log = await world.JournalAsync(host.Certificate);
        foreach (var word in new[] { "begun", "added", "waits", "removed", "ended", "dropped" })
            Assert.Contains("rollover." + word, log);
    }

    private async Task RenewedAsync(MailHost host, string old)
    {
        Assert.True((await host.RenewAsync()).IsDone);
        var prepare = await host.OrderAsync(OrderKind.Prepare);
        var csr = host.Csr();
        var next = MailHost.Digest(csr);
        await host.EndAsync(prepare.Id, csr);
        await RunningHost.UntilAsync(() => Task.FromResult(Records(host).Count == 2));
        var seen = DateTimeOffset.UtcNow;
        Assert.Equal(new[] { Record(old), Record(next) }.Order(), Records(host).Order());
        var waiting = await host.StepAsync(RolloverStep.Waiting);
        Assert.True(waiting.Until >= seen.AddSeconds(NameServer.Life - 1), $"{seen:O} {waiting}");
        Assert.Equal("waiting for DNS", (await host.CertificateAsync()).State);
        Assert.DoesNotContain(await host.WorkAsync(), o => o.Kind == OrderKind.Complete);
        // It was killed while it waited.
        world.KillHard();
        await world.StartAsync();
        var complete = await host.OrderAsync(OrderKind.Complete);
        Assert.True(DateTimeOffset.UtcNow >= waiting.Until);
        Assert.Equal(prepare.Id, complete.Prepared);
        var leaf = X509.Read(Armor.Read(System.Text.Encoding.ASCII.GetBytes(complete.Chain!)).Blocks[0].Der);
        Assert.Equal(next, leaf.PublicKey.Fingerprint());
        // Until it is served, both are there.
        Assert.Equal(2, Records(host).Count);
        await host.EndAsync(complete.Id);
        await host.EndedAsync();
        Assert.Equal([Record(next)], Records(host));
        Assert.Equal("serving", (await host.CertificateAsync()).State);
    }

    private async Task AFailedSwapKeepsBothAsync(MailHost host)
    {
        var before = Assert.Single(Records(host));
        Assert.True((await host.RenewAsync()).IsDone);
        var csr = host.Csr();
        await host.EndAsync((await host.OrderAsync(OrderKind.Prepare)).Id, csr);
        var complete = await host.OrderAsync(OrderKind.Complete);
        await host.EndAsync(complete.Id, problem: new("swap-undone", "The server refused it.", "Look into its log."));
        Assert.Equal(2, Records(host).Count);
        Assert.Equal("renewal failed", (await host.CertificateAsync()).State);
        // Tried again, it is the same edition: nothing is waited for a second time.
        Assert.True((await host.RenewAsync()).IsDone);
        await host.EndAsync((await host.OrderAsync(OrderKind.Bind)).Id);
        await host.EndedAsync();
        Assert.Equal([Record(MailHost.Digest(csr))], Records(host));
        Assert.DoesNotContain(before, Records(host));
    }

    private async Task AWithdrawnKeyGoesAgainAsync(MailHost host)
    {
        var before = Assert.Single(Records(host));
        Assert.True((await host.RenewAsync()).IsDone);
        var prepare = await host.OrderAsync(OrderKind.Prepare);
        await host.EndAsync(prepare.Id, host.Csr());
        await RunningHost.UntilAsync(() => Task.FromResult(Records(host).Count == 2));
        var again = await host.RenewAsync();
        Assert.Equal("wrong-state", again.Code);
        Assert.Contains("waits until DNS speaks of it", again.Detail);
        var orders = await CallAsync(world.Robin, "GET", $"orders/{prepare.Id}");
        var waiting = await CallAsync(world.Jay, "GET", $"requests/{orders.Json!["request"]}");
        Assert.True(waiting.Json!["waitsForDns"]!.GetValue<bool>());
        Assert.True((await CallAsync(world.Jay, "POST", $"requests/{orders.Json!["request"]}/withdraw")).IsDone);
        await host.EndedAsync();
        Assert.Equal([before], Records(host));
        var left = await host.CertificateAsync();
        Assert.Equal("serving", left.State);
        Assert.DoesNotContain(await host.WorkAsync(), o => o.Kind == OrderKind.Complete);
    }

    private async Task ANameServerThatIsAwayIsWaitedForAsync(MailHost host)
    {
        var before = Assert.Single(Records(host));
        world.Names.Stop();
        Assert.True((await host.RenewAsync()).IsDone);
        var csr = host.Csr();
        await host.EndAsync((await host.OrderAsync(OrderKind.Prepare)).Id, csr);
        var stuck = await host.StepAsync(RolloverStep.Adding, r => r.Problem is not null);
        Assert.Contains(host.Owned, stuck.Problem);
        world.Names.Start();
        await host.RenewAsync();
        var complete = await host.OrderAsync(OrderKind.Complete);
        await host.EndAsync(complete.Id);
        await host.EndedAsync();
        Assert.Equal([Record(MailHost.Digest(csr))], Records(host));
        Assert.DoesNotContain(before, Records(host));
    }

    [Fact]
    public async Task Where_the_zone_is_changed_by_hand_it_says_what_to_add_and_waits()
    {
        using var s = new Scratch();
        var host = await JoinedAsync(s, "yard.example", world.Magpie, "magpie");
        var old = await host.FirstAsync();
        // Somebody else's, beside it.
        world.Names.Change(host.Zone, $"add {host.Owned} {NameServer.Life} TLSA 3 1 1 {new string('a', 64)}");
        Assert.True((await host.RenewAsync()).IsDone);
        var csr = host.Csr();
        var next = MailHost.Digest(csr);
        await host.EndAsync((await host.OrderAsync(OrderKind.Prepare)).Id, csr);
        var adding = await host.StepAsync(RolloverStep.Adding, r => r.ToDo.Count > 0);
        var line = Assert.Single(adding.ToDo);
        Assert.Equal($"{host.Owned}. {NameServer.Life} IN TLSA 3 1 1 {next}", line.Line);
        Assert.True(line.ByHand);
        Assert.Contains(new string('a', 64), Assert.Single(adding.Foreign));
        var listed = await CallAsync(world.Magpie, "GET", "certificates?state=records-to-add");
        Assert.Contains(host.Certificate, listed.Json!.ToJsonString());
        var today = (await CallAsync(world.Robin, "GET", "today")).Json!.ToJsonString();
        Assert.Contains("records-to-add", today);
        Assert.Contains(next, today);
        // Who may do nothing with it cannot hurry it either.
        const string hurry = "certificates/mail.yard.example/rollover/skip";
        Assert.Equal("not-allowed", (await CallAsync(world.Jay, "POST", hurry, "{\"reason\":\"now\"}")).Code);
        // Nothing that was not waited out is put in.
        Assert.DoesNotContain(await host.WorkAsync(), o => o.Kind == OrderKind.Complete);
        world.Names.Change(host.Zone, $"add {line.Line.Replace(" IN ", " ")}");
        // Whoever has added it says so, and DNS is asked at once.
        await host.RenewAsync();
        var complete = await host.OrderAsync(OrderKind.Complete);
        await host.EndAsync(complete.Id);
        var removing = await host.StepAsync(RolloverStep.Removing, r => r.ToDo.Count > 0);
        var gone = Assert.Single(removing.ToDo);
        Assert.Equal((Record(old), false), (gone.Record, gone.IsAdded));
        Assert.Contains("records-to-remove", (await CallAsync(world.Robin, "GET", "today")).Json!.ToJsonString());
        world.Names.Change(host.Zone, $"delete {host.Owned} TLSA {gone.Record}");
        await host.EndedAsync();
        Assert.Equal(new[] { Record(next), Record(new string('a', 64)) }.Order(), Records(host).Order());
        await HurriedAsync(host, hurry, next);
    }

    /// <summary>Nobody can change the zone, and it cannot wait: a person's word, with a reason. DNS is asked for afterwards.</summary>
    private async Task HurriedAsync(MailHost host, string hurry, string old)
    {
        Assert.Equal("wrong-state", (await CallAsync(world.Magpie, "POST", hurry, "{\"reason\":\"now\"}")).Code);
        Assert.True((await host.RenewAsync()).IsDone);
        var csr = host.Csr();
        await host.EndAsync((await host.OrderAsync(OrderKind.Prepare)).Id, csr);
        await host.StepAsync(RolloverStep.Adding, r => r.ToDo.Count > 0);
        Assert.Equal("input-invalid", (await CallAsync(world.Magpie, "POST", hurry, "{\"reason\":\" \"}")).Code);
        Assert.True((await CallAsync(world.Magpie, "POST", hurry, "{\"reason\":\"the registrar is closed\"}")).IsDone);
        await host.EndAsync((await host.OrderAsync(OrderKind.Complete)).Id);
        var left = await host.StepAsync(RolloverStep.Removing, r => r.ToDo.Count == 2);
        Assert.Equal([(Record(MailHost.Digest(csr)), true), (Record(old), false)], left.ToDo.Select(t => (t.Record, t.IsAdded)));
        Assert.Contains("does not speak of it yet", (await CallAsync(world.Robin, "GET", "today")).Json!.ToJsonString());
        Assert.Contains("the registrar is closed", await world.JournalAsync(host.Certificate));
    }

    /// <summary>Whoever may have a name certified makes an alias of its records: they lead to somebody else's.</summary>
    [Fact]
    public async Task An_alias_brings_no_key_into_the_records_of_others()
    {
        using var s = new Scratch();
        const string name = "alias.branch.example",
            theirs = "_25._tcp.theirs.branch.example";
        var before = Record(new string('c', 64));
        world.Names.Change("branch.example", $"add {theirs} 2 TLSA {before}\nadd _25._tcp.{name} 2 CNAME {theirs}");
        var (agent, _) = await world.JoinAsync(s, "sly.branch.example", "jay");
        var host = new MailHost(world, s, world.Jay, agent, "branch.example");
        var door = new EndpointInfo("127.0.0.9", Port, false) { Protocol = ProbeProtocol.Smtp };
        var found = new FoundService("postfix", "postfix", [name], [door], ["/etc/postfix/main.cf"], null, null, []);
        var report = new AgentReport("0.2", DateTimeOffset.UtcNow, ["127.0.0.9"], [found], [], null);
        Assert.True(
            (await CallAsync(agent, "POST", "agent/report", JsonSerializer.Serialize(report, BeaconJson.Default.AgentReport))).IsDone
        );
        var wish = Wish(host: "sly.branch.example", certificate: name, names: name);
        wish["bindTo"] = new JsonArray("postfix");
        var (asked, state) = await AskAsync(world.Jay, wish);
        Assert.True(state == "waiting-for-host", asked.ToString());
        var prepare = await host.OrderAsync(OrderKind.Prepare);
        await host.EndAsync(prepare.Id, Csrs.Make(s, "DNS:" + name));
        RolloverInfo? rollover = null;
        await RunningHost.UntilAsync(async () =>
            (
                rollover = (await CallAsync(world.Jay, "GET", "certificates/" + name))
                    .Json.Deserialize(BeaconJson.Default.CertificateDetail)!
                    .Certificate.Rollover
            )
                is { ToDo.Count: > 0 }
        );
        var toDo = Assert.Single(rollover!.ToDo);
        Assert.Equal((theirs, true), (toDo.Owner, toDo.ByHand));
        Assert.Contains("may be somebody else's", rollover.Problem);
        Assert.Equal([before], world.Names.Records(theirs));
        Assert.True((await CallAsync(world.Jay, "POST", $"requests/{asked.Json!["number"]}/withdraw")).IsDone);
        var records = await CallAsync(world.Finch, "GET", "services/sly.branch.example/postfix/records");
        Assert.Equal("mismatch", records.Json![0]!["standing"]!.GetValue<string>());
    }

    [Fact]
    public async Task A_service_that_is_bound_by_hand_is_not_given_what_DNS_denies()
    {
        using var s = new Scratch();
        var (agent, _) = await world.JoinAsync(s, "bench.branch.example", "jay");
        var door = new EndpointInfo("127.0.0.9", 465, true);
        var found = new FoundService("dovecot", "dovecot", ["other.branch.example"], [door], ["/etc/dovecot.conf"], null, null, []);
        var report = new AgentReport("0.2", DateTimeOffset.UtcNow, ["127.0.0.9"], [found], [], null);
        Assert.True(
            (await CallAsync(agent, "POST", "agent/report", JsonSerializer.Serialize(report, BeaconJson.Default.AgentReport))).IsDone
        );
        var (asked, state) = await AskAsync(
            world.Jay,
            Wish(host: "bench.branch.example", certificate: "other", names: "other.branch.example")
        );
        Assert.True(state == "waiting-for-host", asked.ToString());
        var host = new MailHost(world, s, world.Jay, agent, "branch.example");
        var order = await host.OrderAsync(OrderKind.Obtain);
        var csr = Csrs.Make(s, "DNS:other.branch.example");
        Assert.True(
            (await CallAsync(agent, "POST", $"agent/orders/{order.Id}/csr", new JsonObject { ["csr"] = csr }.ToJsonString())).IsDone
        );
        await host.EndAsync(order.Id);
        world.Names.Change("branch.example", $"add _465._tcp.other.branch.example 2 TLSA 3 1 1 {new string('b', 64)}");
        var refused = await CallAsync(world.Jay, "POST", "services/bench.branch.example/dovecot/binding", """{"certificate":"other"}""");
        Assert.Equal("records-mismatch", refused.Code);
        Assert.Contains($"_465._tcp.other.branch.example. 2 IN TLSA 3 1 1 {MailHost.Digest(csr)}", refused.Json!.ToJsonString());
        world.Names.Change("branch.example", $"add _465._tcp.other.branch.example 2 TLSA 3 1 1 {MailHost.Digest(csr)}");
        var taken = await CallAsync(world.Jay, "POST", "services/bench.branch.example/dovecot/binding", """{"certificate":"other"}""");
        Assert.True(taken.IsDone, taken.ToString());
    }
}
