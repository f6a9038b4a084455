using System.Net;
using System.Text.Json.Nodes;
using OrderlyBeacon.Core.Rights;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What somebody can do with a session that is not theirs: every call of the OpenAPI document, one after another.</summary>
public sealed class StolenSessionTests(AttackedWorld world) : IClassFixture<AttackedWorld>, IAsyncLifetime
{
    private const string NoSuch = "nothing-of-that-name";

    private sealed record Call(Operation Operation, string Method, string Path);

    private static readonly List<Call> Calls = ReadCalls();

    private static List<Call> ReadCalls()
    {
        var document = JsonNode.Parse(File.ReadAllText(Path.Combine(Programs.Root, "src", "Service", "openapi", "beacon.json")))!;
        var calls = new List<Call>();
        foreach (var (path, methods) in document["paths"]!.AsObject())
        foreach (var (method, operation) in methods!.AsObject())
        {
            var id = operation!["operationId"]!.GetValue<string>();
            var filled = System.Text.RegularExpressions.Regex.Replace(
                path,
                @"\{(\w+)\}",
                m => m.Groups[1].Value is "id" or "number" or "revision" ? "999999" : NoSuch
            );
            calls.Add(new(Enum.Parse<Operation>(id, ignoreCase: true), method.ToUpperInvariant(), filled));
        }
        return calls;
    }

    /// <summary>Sessions go on; their proof is older than the service takes.</summary>
    public async ValueTask InitializeAsync()
    {
        world.KillHard();
        world.Settings["BEACON_FRESHMINUTES"] = "0";
        await world.StartAsync();
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public void Every_call_is_an_operation_and_every_operation_a_call()
    {
        Assert.Equal(Calls.Count, Calls.Select(c => c.Operation).Distinct().Count());
        // Outside of the document: the stream of changes and the figures are no JSON.
        Assert.Equal(
            [Operation.ListenToChanges, Operation.GetMetrics],
            Enum.GetValues<Operation>().Except(Calls.Select(c => c.Operation)).Order()
        );
    }

    [Fact]
    public async Task Each_call_asks_who_calls()
    {
        using var s = new Scratch();
        var (agent, name) = await JoinBeforeAsync(s);
        using var nobody = world.Client();
        var callers = new List<(Who Who, HttpClient Http)>
        {
            (new("", [], null), nobody),
            (new("finch", [], null), world.Finch),
            (new("jay", ["web"], null), world.Jay),
            (new("wren", [Who.Approvers], null), world.Wren),
            (new("", [], name), agent),
        };
        foreach (var group in new[] { Who.Requesters, Who.HostKeepers, Who.AuthorityKeepers, Who.Auditors })
            callers.Add((new("of-" + group, [group], null), await InGroupAsync(group)));
        foreach (var call in Calls.Where(c => c.Operation is not (Operation.SignOut or Operation.SignIn or Operation.SignInByTicket)))
        foreach (var (who, http) in callers)
        {
            var answer = await CallAsync(http, call.Method, call.Path, call.Method == "GET" ? null : "{}");
            if (RightsOf.Role(call.Operation, who, ["web", "yard", Who.Administrators]) is null)
            {
                Assert.False(answer.Code is "not-signed-in" || answer.Detail.Contains("may not do this"), $"{call} by {who}: {answer}");
                continue;
            }
            var expected = who.Name.Length == 0 && who.Host is null ? HttpStatusCode.Unauthorized : HttpStatusCode.Forbidden;
            Assert.True(answer.Status == expected, $"{call} by {who}: {answer}");
            Assert.Contains(answer.Code, new[] { "not-signed-in", "not-allowed" });
        }
    }

    [Fact]
    public void The_document_says_which_role_each_call_needs()
    {
        var document = JsonNode.Parse(File.ReadAllText(Path.Combine(Programs.Root, "src", "Service", "openapi", "beacon.json")))!;
        foreach (var (path, methods) in document["paths"]!.AsObject())
        foreach (var (method, operation) in methods!.AsObject())
        {
            var role = RightsTable.Of(Enum.Parse<Operation>(operation!["operationId"]!.GetValue<string>(), ignoreCase: true)).Role;
            Assert.True(
                operation["x-role"]?.GetValue<string>() == Core.BeaconProblem.SlugOf(role),
                $"{method} {path}: {operation["x-role"]}"
            );
        }
    }

    /// <summary>Somebody new who is in one group alone.</summary>
    private async Task<HttpClient> InGroupAsync(string group)
    {
        world.KillHard();
        world.Settings["BEACON_FRESHMINUTES"] = "600";
        await world.StartAsync();
        var robin = await world.SignInAsync("robin");
        var added = await CallAsync(
            robin,
            "POST",
            "people",
            $$"""{"name":"of-{{group}}","password":"{{RunningService.Password}}","groups":["{{group}}"]}"""
        );
        Assert.True(added.IsDone || added.Code == "already-exists", added.ToString());
        world.KillHard();
        world.Settings["BEACON_FRESHMINUTES"] = "0";
        await world.StartAsync();
        return await world.SignInAsync("of-" + group);
    }

    private async Task<(HttpClient Agent, string Name)> JoinBeforeAsync(Scratch s)
    {
        var name = $"k{Guid.NewGuid().ToString("N")[..8]}.branch.example";
        return ((await world.JoinAsync(s, name)).Item1, name);
    }

    [Fact]
    public async Task An_administrators_session_changes_nothing_that_outlasts_it()
    {
        foreach (var call in Calls.Where(c => RightsTable.Of(c.Operation).Fresh))
        {
            var answer = await CallAsync(world.Robin, call.Method, call.Path, "{}");
            Assert.True(answer.Status == HttpStatusCode.Forbidden && answer.Code == "sign-in-again", $"{call}: {answer}");
        }
        // The password is what the thief lacks; trying is throttled like any sign-in, and the owner is not locked out by it.
        for (var i = 0; i < 8; i++)
        {
            var tried = await CallAsync(world.Robin, "POST", "session/confirm", """{"password":"a guess of mine"}""");
            Assert.False(tried.IsDone, tried.ToString());
        }
        Assert.Equal("sign-in-again", (await CallAsync(world.Robin, "POST", "backup", "{}")).Code);
        // It reads no key and no secret: what comes back from all that it may read has none.
        foreach (
            var call in Calls.Where(c =>
                c.Method == "GET" && RightsTable.Of(c.Operation).Role is Role.Person or Role.Reader or Role.Auditor or Role.Administrator
            )
        )
        {
            var text = (await CallAsync(world.Robin, "GET", call.Path)).ToString();
            Assert.DoesNotContain("PRIVATE KEY", text);
            Assert.DoesNotContain("passwordHash", text, StringComparison.OrdinalIgnoreCase);
        }
    }

    [Fact]
    public async Task A_second_administrator_reads_and_consents_to_this_very_call_once()
    {
        world.KillHard();
        world.Settings["BEACON_FRESHMINUTES"] = "600";
        await world.StartAsync();
        var robin = await world.SignInAsync("robin");
        Assert.True(
            (
                await CallAsync(
                    robin,
                    "POST",
                    "people",
                    $$"""{"name":"dunnock","password":"{{RunningService.Password}}","groups":["administrators"]}"""
                )
            ).IsDone
        );
        world.KillHard();
        world.Settings["BEACON_SECONDPERSON"] = "true";
        await world.StartAsync();
        try
        {
            var dunnock = await world.SignInAsync("dunnock");
            var body = """{"name":"siskin","password":"secret words of mine","groups":["administrators"]}""";
            var first = await CallAsync(robin, "POST", "people", body);
            Assert.Equal("consent-needed", first.Code);
            var waiting = (await CallAsync(dunnock, "GET", "consents")).Json!.AsArray();
            var consent = waiting.Single(c => !c!["used"]!.GetValue<bool>())!;
            Assert.Contains("siskin", consent["body"]!.GetValue<string>());
            Assert.DoesNotContain("secret words", consent.ToJsonString());
            var path = $"consents/{consent["number"]}";
            Assert.Equal("own-request", (await CallAsync(robin, "POST", path)).Code);
            Assert.Equal("not-allowed", (await CallAsync(world.Jay, "POST", path)).Code);
            Assert.True((await CallAsync(dunnock, "POST", path)).IsDone);
            // Another call than the one that was read.
            Assert.Equal("consent-needed", (await CallAsync(robin, "POST", "people", body.Replace("siskin", "linnet"))).Code);
            Assert.Equal("consent-needed", (await CallAsync(dunnock, "POST", "people", body)).Code);
            Assert.True((await CallAsync(robin, "POST", "people", body)).IsDone);
            // Once.
            Assert.Equal("consent-needed", (await CallAsync(robin, "DELETE", "people/siskin")).Code);
            Assert.Equal("consent-needed", (await CallAsync(robin, "POST", "people", body)).Code);
            Assert.Contains("consent.given", await world.JournalAsync("consent."));
        }
        finally
        {
            world.Settings["BEACON_SECONDPERSON"] = "false";
        }
    }

    [Fact]
    public async Task Who_leaves_is_gone_at_the_next_call()
    {
        world.KillHard();
        world.Settings["BEACON_FRESHMINUTES"] = "600";
        await world.StartAsync();
        var robin = await world.SignInAsync("robin");
        Assert.True(
            (
                await CallAsync(
                    robin,
                    "POST",
                    "people",
                    $$"""{"name":"pipit","password":"{{RunningService.Password}}","groups":["approvers"]}"""
                )
            ).IsDone
        );
        var pipit = await world.SignInAsync("pipit");
        Assert.True((await CallAsync(pipit, "GET", "today")).IsDone);
        // Regrouped: holds at the next call of the same session.
        Assert.Equal("not-allowed", (await CallAsync(pipit, "GET", "people")).Code);
        Assert.True((await CallAsync(robin, "PUT", "people/pipit/groups", """{"groups":["administrators"]}""")).IsDone);
        Assert.True((await CallAsync(pipit, "GET", "people")).IsDone);
        // A new password ends the sessions of the old one.
        Assert.True((await CallAsync(robin, "PUT", "people/pipit/password", """{"old":null,"new":"another four quiet words"}""")).IsDone);
        Assert.Equal(HttpStatusCode.Unauthorized, (await CallAsync(pipit, "GET", "today")).Status);
        Assert.True((await CallAsync(robin, "DELETE", "people/pipit")).IsDone);
        using var nobody = world.Client();
        Assert.False(
            (await CallAsync(nobody, "POST", "session", """{"name":"pipit","password":"another four quiet words","kind":"token"}""")).IsDone
        );
        // The name is not given to somebody else, who would inherit what it owns.
        Assert.False(
            (await CallAsync(robin, "POST", "people", $$"""{"name":"pipit","password":"{{RunningService.Password}}","groups":[]}""")).IsDone
        );
        // Nobody lets themselves go: the last administrator would be gone by one wrong line.
        Assert.Equal("not-allowed", (await CallAsync(robin, "DELETE", "people/robin")).Code);
        Assert.True((await CallAsync(robin, "GET", "people")).IsDone);
    }

    [Fact]
    public async Task The_issuing_authority_can_sign_for_the_zones_alone()
    {
        using var s = new Scratch();
        await using var bounded = new RunningService
        {
            Settings =
            {
                ["BEACON_ZONES"] = "thistledown.example=administrators",
                ["BEACON_NAMES"] = "localhost,127.0.0.1,beacon.thistledown.example",
            },
        };
        await bounded.InitializeAsync();
        var (_, pem, _) = bounded.Beacon(bounded.Home(), "authority", "show", "issuing", "--pem");
        var text = Programs.OpenSsl("x509 -noout -text", System.Text.Encoding.ASCII.GetBytes(pem));
        Assert.Contains("X509v3 Name Constraints: critical", text);
        Assert.Contains("DNS:thistledown.example", text);
        Assert.Contains("DNS:localhost", text);
        // The root's key lies there with its passphrase: said from the first hour, at the highest severity.
        var today = await CallAsync(bounded.Robin, "GET", "today");
        var concern = today.Json!["concerns"]!.AsArray().Single(c => c!["kind"]!.GetValue<string>() == "take-away")!;
        Assert.Equal("now", concern["severity"]!.GetValue<string>());
        Assert.Equal("wrong-state", (await CallAsync(bounded.Robin, "POST", "backup", "{}")).Code);
    }
}
