using System.Net;
using System.Text.Json.Nodes;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Ways in, each tried as an attacker would, over HTTP and with the real agent: refused, journaled, told to whom it concerns.</summary>
public sealed class WaysInTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private static string Fresh(string zone = "branch.example") => $"h{Guid.NewGuid().ToString("N")[..8]}.{zone}";

    private static void Refused(Answer answer, HttpStatusCode status, string says)
    {
        Assert.True(answer.Status == status, answer.ToString());
        Assert.Contains(says, $"{answer.Code} {answer.Detail}");
    }

    /// <summary>Recorded and refused, or not even taken: nothing was issued.</summary>
    private static void NotIssued((Answer Answer, string State) asked, string says)
    {
        Assert.True(asked.State is "refused" or "not taken", asked.ToString());
        Assert.Contains(says, asked.Answer.ToString());
    }

    private async Task<string> IssuedAsync(HttpClient who, string csr, string? certificate = null)
    {
        var (answer, state) = await AskAsync(who, Wish(csr, certificate: certificate));
        Assert.True(state == "issued", answer.ToString());
        return answer.Json!["certificate"]!.GetValue<string>();
    }

    [Fact]
    public async Task W01_nobody_becomes_another_host()
    {
        using var s = new Scratch();
        var kiosk = Fresh();
        // The name of an agent's certificate cannot be had, in whatever spelling; nor those of the system and of other people.
        foreach (
            var name in new[] { $"agent:{kiosk}", $"AGENT:{kiosk}", "beacond@system", "x@System", $"{kiosk}@magpie", $"agent :{kiosk}" }
        )
            NotIssued(await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{Fresh()}"), certificate: name)), "");
        Assert.DoesNotContain("\"agent:", (await CallAsync(world.Jay, "GET", $"certificates?search=agent:{kiosk}")).ToString());

        // Two real agents; each is its own row, whatever certificates there are.
        var (one, folder) = await world.JoinAsync(s, kiosk, "group:web");
        var victim = Fresh("thistledown.example");
        var (two, _) = await world.JoinAsync(s, victim);
        await ReportAsync(one, [], [kiosk]);
        await ReportAsync(two, [], [victim]);
        var detail = await CallAsync(world.Robin, "GET", $"hosts/{victim}");
        Assert.DoesNotContain(kiosk, detail.ToString());

        // A row that is taken is not joined again without its own invitation, and an invitation is not another host's.
        var code = await world.InviteAsync(Fresh());
        Assert.NotEqual(0, world.Join(s["thief"], victim, code).Code);
        Assert.True((await CallAsync(two, "GET", "agent/work?wait=0")).IsDone);

        // Nobody is invited under a name that is taken. Removed and joined anew: what was before ends at its next call, on the kept connection too.
        var invitation = new JsonObject { ["name"] = kiosk }.ToJsonString();
        Refused(await CallAsync(world.Robin, "POST", "hosts", invitation), HttpStatusCode.Conflict, "has joined already");
        // Nor under the first part of one, by which people call that host.
        invitation = new JsonObject { ["name"] = kiosk.Split('.')[0] }.ToJsonString();
        Refused(await CallAsync(world.Robin, "POST", "hosts", invitation), HttpStatusCode.Conflict, $"{kiosk} is here already");
        Assert.True((await CallAsync(world.Robin, "DELETE", $"hosts/{kiosk}")).IsDone);
        Assert.Equal(0, world.Join(s["anew"], kiosk, await world.InviteAsync(kiosk)).Code);
        Refused(await CallAsync(one, "GET", "agent/work?wait=0"), HttpStatusCode.Unauthorized, "not-signed-in");
        using var anew = world.AgentOf(s["anew"]);
        Assert.True((await CallAsync(anew, "GET", "agent/work?wait=0")).IsDone);
        // Its certificate does not enrol again either.
        var again = world.Curl(
            "--cert",
            Path.Combine(folder, "identity", "current", "chain.pem"),
            "--key",
            Path.Combine(folder, "identity", "current", "key.pem"),
            "-w",
            "%{http_code}",
            "-H",
            "Content-Type: application/pkcs10",
            "--data-binary",
            Base64Of(Csrs.Make(s, $"DNS:{kiosk}")),
            $"{world.Url}/.well-known/est/agent/simplereenroll"
        );
        Assert.DoesNotContain("200", again.Output[^3..]);

        // Removed: over at once.
        Assert.True((await CallAsync(world.Robin, "DELETE", $"hosts/{kiosk}")).IsDone);
        Refused(await CallAsync(anew, "GET", "agent/work?wait=0"), HttpStatusCode.Unauthorized, "not-signed-in");
    }

    private static string Base64Of(string pem) => string.Concat(pem.Split('\n').Where(l => !l.StartsWith('-')));

    [Fact]
    public async Task W03_nobody_becomes_the_service()
    {
        using var s = new Scratch();
        foreach (
            var name in new[]
            {
                "DNS:localhost",
                "IP:127.0.0.1",
                "DNS:beacon.branch.example",
                "DNS:BEACON.branch.example",
                "DNS:*.branch.example",
                "IP:127.7.7.7",
                "IP:::1",
                "IP:::ffff:127.0.0.1",
            }
        )
        {
            NotIssued(await AskAsync(world.Jay, Wish(Csrs.Make(s, name))), "");
            NotIssued(await AskAsync(world.Robin, Wish(Csrs.Make(s, name))), "");
        }
        Assert.Contains("itself", (await AskAsync(world.Jay, Wish(Csrs.Make(s, "DNS:*.branch.example")))).Answer.ToString());
        // Its usage is in no profile that a person can make.
        var yaml = (await CallAsync(world.Robin, "GET", "profiles/server/yaml")).Json!["yaml"]!.GetValue<string>();
        var false1 = yaml.Replace("tls-server", Core.Oids.BeaconService).Replace("id: server", "id: falsely");
        var imported = await CallAsync(world.Robin, "POST", "profiles/import", new JsonObject { ["yaml"] = false1 }.ToJsonString());
        Refused(imported, HttpStatusCode.UnprocessableEntity, "service");
        // The service shows it, and a certificate of a requester for whatever name does not.
        var (_, shown, _) = Programs.Run(
            "bash",
            ["-c", $"openssl s_client -connect 127.0.0.1:{world.Port} </dev/null 2>/dev/null | openssl x509 -noout -text"]
        );
        Assert.Contains(Core.Oids.BeaconService, shown);
        var name2 = Fresh();
        var certificate = await IssuedAsync(world.Jay, Csrs.Make(s, $"DNS:{name2}"));
        var export = await CallAsync(world.Jay, "GET", $"certificates/{Uri.EscapeDataString(certificate)}");
        Assert.DoesNotContain(Core.Oids.BeaconService, export.ToString());
    }

    [Fact]
    public async Task W04_what_a_host_says_of_itself_grants_nothing()
    {
        using var s = new Scratch();
        var host = Fresh();
        var (agent, _) = await world.JoinAsync(s, host, "group:web");
        string[] claimed = ["8.8.8.8", "::1", "169.254.169.254", "10.30.0.7", "224.0.0.1", "192.0.2.1", "2001:4860::8888"];
        await ReportAsync(agent, claimed, [host]);
        foreach (var address in claimed)
        {
            var (answer, state) = await AskAsync(world.Jay, Wish(host: host, names: [host, "IP:" + address]));
            Assert.True(state is "waiting-for-approval" or "refused" or "not taken", $"{address}: {answer}");
        }
        // Loopback, link-local, multicast and documentation never, not even approved.
        foreach (var never in new[] { "::1", "169.254.169.254", "224.0.0.1", "192.0.2.1" })
            NotIssued(await AskAsync(world.Jay, Wish(host: host, names: [host, "IP:" + never])), "");
        // A network that the group holds is its own.
        Assert.Equal("granted", (await PreviewAsync(world.Jay, host, "IP:10.20.0.9"))["verdict"]!.GetValue<string>());

        // A foreign claim stops no renewal of what was granted, and somebody is told.
        var name = Fresh();
        var certificate = await IssuedAsync(world.Jay, Csrs.Make(s, $"DNS:{name}"));
        var yard = Fresh("yard.example");
        var (other, _) = await world.JoinAsync(s, yard, "group:yard");
        await ReportAsync(other, [], [name]);
        var (again, state2) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{name}"), certificate: certificate));
        Assert.True(state2 == "issued", again.ToString());
    }

    private static async Task<JsonNode> PreviewAsync(HttpClient who, string host, string name)
    {
        var preview = await CallAsync(who, "POST", "requests/preview", Wish(host: host, names: [host, name]).ToJsonString());
        Assert.True(preview.IsDone, preview.ToString());
        return preview.Json!["verdicts"]!.AsArray().Single(v => v!["name"]!.GetValue<string>() == name.Replace("IP:", "ip:"))!;
    }

    [Fact]
    public async Task W05_a_flood_of_sign_ins_stops_nobody_else()
    {
        using var anonymous = world.Client();
        var flood = Enumerable
            .Range(0, 400)
            .Select(i => CallAsync(anonymous, "POST", "session", $$"""{"name":"nobody{{i}}","password":"whatever it is","kind":"token"}"""))
            .ToList();
        using var http = new HttpClient();
        var asked = 0;
        while (flood.Exists(t => !t.IsCompleted))
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
            (await http.GetAsync($"http://127.0.0.1:{world.PublicationPort}/healthz", limit.Token)).EnsureSuccessStatusCode();
            asked++;
        }
        Assert.True(asked > 5, $"health answered {asked} times");
        var answers = await Task.WhenAll(flood);
        Assert.All(
            answers,
            a => Assert.Contains(a.Status, new[] { HttpStatusCode.Forbidden, HttpStatusCode.Unauthorized, HttpStatusCode.TooManyRequests })
        );
        Assert.Contains(answers, a => a.Code == "too-busy");
        // Nothing tells whether there is somebody of that name.
        var there = await UntilHeardAsync("jay");
        var notThere = await UntilHeardAsync("nobody-at-all");
        Assert.Equal(there.ToString(), notThere.ToString());

        async Task<Answer> UntilHeardAsync(string name)
        {
            while (true)
            {
                var a = await CallAsync(
                    anonymous,
                    "POST",
                    "session",
                    $$"""{"name":"{{name}}","password":"wrong wrong wrong","kind":"token"}"""
                );
                if (a.Code != "too-busy")
                    return a with
                    {
                        Json = new JsonObject { ["code"] = a.Code, ["detail"] = a.Detail },
                    };
                await Task.Delay(200);
            }
        }
    }

    [Fact]
    public async Task W06_other_peoples_things_stay_theirs()
    {
        using var s = new Scratch();
        var host = Fresh();
        var (agent, _) = await world.JoinAsync(s, host, "group:web");
        await ReportAsync(agent, [], [host]);
        var certificate = await IssuedAsync(world.Jay, Csrs.Make(s, $"DNS:{Fresh()}"));
        string[] things = [certificate, "beacond@system", $"agent:{host}"];
        foreach (var thing in things)
        {
            var path = "certificates/" + Uri.EscapeDataString(thing);
            foreach (var who in new[] { world.Magpie, world.Finch, world.Wren })
            {
                Refused(await CallAsync(who, "POST", $"{path}/renew", "{}"), HttpStatusCode.Forbidden, "not-allowed");
                Refused(
                    await CallAsync(who, "PUT", $"{path}/policy", """{"after":0.9,"newKey":true}"""),
                    HttpStatusCode.Forbidden,
                    "not-allowed"
                );
                Refused(await CallAsync(who, "PUT", $"{path}/owner", """{"owner":"magpie"}"""), HttpStatusCode.Forbidden, "not-allowed");
                Refused(
                    await CallAsync(who, "POST", $"{path}/revoke", """{"reason":"superseded"}"""),
                    HttpStatusCode.Forbidden,
                    "not-allowed"
                );
            }
            // Overwritten by a request under the same name.
            NotIssued(await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}"), certificate: thing)), "");
        }
        foreach (var call in new[] { $"services/{host}/{host}/plan", $"services/{host}/{host}/binding" })
            Refused(
                await CallAsync(world.Magpie, "POST", call, new JsonObject { ["certificate"] = certificate }.ToJsonString()),
                HttpStatusCode.Forbidden,
                "not-allowed"
            );
        Refused(await CallAsync(world.Magpie, "DELETE", $"services/{host}/{host}/binding"), HttpStatusCode.Forbidden, "not-allowed");
        // A request for somebody else's host.
        Refused(
            (await AskAsync(world.Magpie, Wish(host: host, names: [Fresh("yard.example")]))).Answer,
            HttpStatusCode.Forbidden,
            "belongs to the group web"
        );
        // The system's own: not even by an administrator.
        Refused(await CallAsync(world.Robin, "POST", "certificates/beacond@system/renew", "{}"), HttpStatusCode.Forbidden, "system's own");
        await UntilAsync(async () => (await world.JournalAsync("attempt.refused")).Contains(certificate));
        Assert.Contains("magpie", await world.JournalAsync("attempt.refused"));
    }

    private static async Task UntilAsync(Func<Task<bool>> isSo)
    {
        for (var i = 0; i < 100; i++)
        {
            if (await isSo())
                return;
            await Task.Delay(50);
        }
        Assert.Fail("it did not become so");
    }

    [Fact]
    public async Task W08_nobody_vouches_for_a_subject_that_was_only_said()
    {
        using var s = new Scratch();
        var name = Fresh();
        foreach (
            var (subject, says) in new[]
            {
                ($"/CN={name}/CN=postgres/CN=robin", "common name"),
                ($"/CN={name}/CN=postgres", "common name"),
                ($"/CN=postgres", "CN=postgres"),
                ($"/CN={name}/UID=root", "UID=root"),
                ($"/O=Another Railway/CN={name}", "O=Another Railway"),
                ($"/DC=example/DC=thistledown/CN={name}", "DC=example"),
                ($"/CN={name}/emailAddress=robin@thistledown.example", "robin@thistledown.example"),
            }
        )
        {
            // Refused, or issued without it; the answer says which attribute nobody vouches for.
            var (answer, state) = await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{name}", subject)));
            Assert.Contains(says, answer.Json!["findings"]!.ToJsonString());
            if (state == "issued")
                Assert.Equal($"CN={name}", answer.Json["subject"]!.GetValue<string>());
            // Typed by a person, it was meant: refused.
            var typed = Wish(Csrs.Make(s, $"DNS:{name}"));
            typed["subject"] = string.Join(',', subject.Split('/').Skip(1).Reverse());
            NotIssued(await AskAsync(world.Jay, typed), "");
        }
        Assert.Equal("issued", (await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{name}", $"/CN={name}")))).State);
    }

    [Fact]
    public async Task W09_a_key_of_idempotency_makes_one_edition_and_keeps_no_secret()
    {
        using var s = new Scratch();
        var wish = Wish(Csrs.Make(s, $"DNS:{Fresh()}"));
        var key = Guid.NewGuid().ToString();
        var all = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => AskAsync(world.Jay, wish, key)));
        Assert.All(all, a => Assert.True(a.Answer.IsDone || a.Answer.Code == "in-progress", a.Answer.ToString()));
        var later = await AskAsync(world.Jay, wish, key);
        var numbers = all.Append(later).Where(a => a.Answer.IsDone).Select(a => a.Answer.Json!["number"]!.GetValue<long>()).Distinct();
        Assert.Single(numbers);
        var certificate = later.Answer.Json!["certificate"]!.GetValue<string>();
        var detail = await CallAsync(world.Jay, "GET", "certificates/" + Uri.EscapeDataString(certificate));
        Assert.Single(detail.Json!["editions"]!.AsArray());
        // Another body, and another caller, under the same key.
        Assert.Equal("idempotency-key-reused", (await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{Fresh()}")), key)).Answer.Code);
        var other = await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}")), key);
        Assert.Equal("issued", other.State);

        // A join code and a session's token are kept nowhere in clear; asked again, one is told so.
        var host = new JsonObject { ["name"] = Fresh() }.ToJsonString();
        var invited = await CallAsync(world.Robin, "POST", "hosts", host, key);
        var code = invited.Json!["code"]!.GetValue<string>();
        Assert.False(world.DiskHas(code.Split('.')[0]), "the join code lies in clear on the disk");
        Refused(await CallAsync(world.Robin, "POST", "hosts", host, key), HttpStatusCode.Conflict, "held a secret");
        using var session = await world.SignInAsync("finch");
        var token = session.DefaultRequestHeaders.Authorization!.Parameter!;
        Assert.False(world.DiskHas(token), "the token lies in clear on the disk");
    }

    [Fact]
    public async Task W10_a_burnt_key_stays_burnt_and_a_key_is_one_certificates()
    {
        using var s = new Scratch();
        var key = Csrs.Key(s);
        var (name, mine) = (Fresh(), Fresh());
        var certificate = await IssuedAsync(world.Jay, Csrs.Make(s, $"DNS:{name}", key: key));
        // Somebody else's key, from its certificate: refused for other names, other people, other profiles.
        NotIssued(await AskAsync(world.Magpie, Wish(Csrs.Make(s, $"DNS:{Fresh("yard.example")}", key: key))), "key");
        NotIssued(await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{mine}", key: key))), "key");
        var revoke = await CallAsync(
            world.Robin,
            "POST",
            $"certificates/{Uri.EscapeDataString(certificate)}/revoke",
            """{"reason":"key-compromise","serial":null}"""
        );
        Assert.True(revoke.IsDone, revoke.ToString());
        foreach (var names in new[] { name, mine, Fresh() })
            NotIssued(await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{names}", key: key))), "compromised");
        NotIssued(await AskAsync(world.Robin, Wish(Csrs.Make(s, $"DNS:{Fresh("thistledown.example")}", key: key))), "compromised");
        // By EST too, and after a restart.
        world.KillHard();
        await world.StartAsync();
        NotIssued(await AskAsync(world.Jay, Wish(Csrs.Make(s, $"DNS:{name}", key: key))), "compromised");
        s.File("burnt", Base64Of(Csrs.Make(s, $"DNS:{Fresh("thistledown.example")}", key: key)));
        var (status, body) = EstTests.Enrol(world, s, s["burnt"]);
        Assert.True(status != "200", body);
        Assert.Contains("compromised", body);
    }

    [Fact]
    public void Only_the_current_edition_enrols_again_and_a_superseded_one_is_told_so()
    {
        using var s = new Scratch();
        var name = Fresh("thistledown.example");
        var (first, second) = (Csrs.Key(s), Csrs.Key(s));
        s.File("a", Base64Of(Csrs.Make(s, $"DNS:{name}", key: first)));
        var (status, body) = EstTests.Enrol(world, s, s["a"]);
        Assert.True(status == "200", body);
        var old = EstTests.Leaf(s, body);
        File.Move(old, s["old.pem"]);
        s.File("b", Base64Of(Csrs.Make(s, $"DNS:{name}", key: second)));
        (status, body) = EstTests.Enrol(world, s, s["b"], "server", "simplereenroll", "--cert", s["old.pem"], "--key", first);
        Assert.True(status == "200", body);
        s.File("c", Base64Of(Csrs.Make(s, $"DNS:{name}", key: Csrs.Key(s))));
        (status, body) = EstTests.Enrol(world, s, s["c"], "server", "simplereenroll", "--cert", s["old.pem"], "--key", first);
        Assert.True(status != "200", body);
        Assert.Contains("superseded", body);
    }
}
