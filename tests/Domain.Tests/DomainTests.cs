using System.Text.Json.Nodes;
using static OrderlyBeacon.Domain.Tests.DomainWorld;

namespace OrderlyBeacon.Domain.Tests;

/// <summary>People, computers and names by a real directory, with real tickets.</summary>
public sealed class DomainTests(DomainWorld world) : IClassFixture<DomainWorld>
{
    [Fact]
    public async Task People_sign_in_by_ticket_and_have_the_roles_of_their_groups()
    {
        Assert.Equal(401, Curl("no ticket").Status);
        var wren = world.Curl("wren", "POST", "/api/v1/session/ticket", """{"kind":"token"}""");
        Assert.True(wren.IsDone, wren.ToString());
        Assert.Equal("wren@thistledown.example", wren.Json!["name"]!.GetValue<string>());
        Assert.Contains("approvers", wren.Json["groups"]!.AsArray().Select(g => g!.GetValue<string>()));
        using var finch = world.Session("finch");
        var today = await CallAsync(finch, "GET", "today");
        Assert.Equal((403, "not-allowed"), (today.Status, today.Code));
        using var robin = world.Session("robin");
        Assert.True((await CallAsync(robin, "GET", "people")).IsDone);
        // What outlasts a session wants the password itself, of the domain.
        var wish = """{"name":"dunlin","password":"correct horse battery","groups":["readers"]}""";
        Assert.Equal("sign-in-again", (await CallAsync(robin, "POST", "people", wish)).Code);
        Assert.Equal("sign-in-refused", (await CallAsync(robin, "POST", "session/confirm", """{"password":"Rail-guess-1"}""")).Code);
        var proof = new JsonObject { ["password"] = PasswordOf("robin") };
        Assert.True((await CallAsync(robin, "POST", "session/confirm", proof.ToJsonString())).IsDone);
        Assert.True((await CallAsync(robin, "POST", "people", wish)).IsDone);

        Answer Curl(string _) => CallAsync(world.Client(null), "POST", "session/ticket", """{"kind":"token"}""").Result;
    }
}
