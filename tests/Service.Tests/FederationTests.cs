using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The life of a provider's signing certificate with two partners, one of which fetches the metadata by itself and one does not. Somebody signs in all the time.</summary>
public sealed class FederationTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private const string HostName = "login.branch.example",
        Ferry = "https://ferry.example/sp",
        Wayfarer = "https://wayfarer.example/sp";

    /// <summary>Seconds: what is signed lapses soon, so that the end comes soon.</summary>
    private const int Life = 12;

    private sealed record PartnerState(string[] Knows, int Welcome, int Refused);

    /// <summary>A partner that runs.</summary>
    private sealed class RunningPartner : IDisposable
    {
        private readonly Process _process;

        public RunningPartner(string address, int port, PlayedProvider provider, int refresh)
        {
            (Address, Url) = (address, $"http://{address}:{port}");
            _process = Process.Start(
                Own.StandIns,
                [
                    "partner",
                    "--listen",
                    $"{address}:{port}",
                    "--metadata",
                    provider.MetadataUrl,
                    "--at",
                    provider.Address,
                    "--refresh",
                    refresh.ToString(),
                ]
            );
        }

        public string Address { get; }
        public string Url { get; }

        public async Task<PartnerState?> StateAsync()
        {
            try
            {
                using var http = new HttpClient();
                return JsonSerializer.Deserialize<PartnerState>(await http.GetStringAsync(Url), JsonSerializerOptions.Web);
            }
            catch (HttpRequestException)
            {
                return null;
            }
        }

        public async Task RefreshAsync()
        {
            using var http = new HttpClient();
            (await http.PostAsync(Url + "/refresh", null)).EnsureSuccessStatusCode();
        }

        public void Dispose()
        {
            _process.Kill();
            _process.WaitForExit();
        }
    }

    private async Task<ProviderInfo> ProviderAsync() =>
        Assert.Single((await CallAsync(world.Jay, "GET", "federation")).Json.Deserialize(BeaconJson.Default.PageProviderInfo)!.Items);

    private async Task<ProviderInfo> AtAsync(FederationStep step)
    {
        ProviderInfo? seen = null;
        try
        {
            await RunningHost.UntilAsync(async () => (seen = await ProviderAsync()).Step == step);
        }
        catch (Xunit.Sdk.FailException)
        {
            Assert.Fail($"it is not {step}: {JsonSerializer.Serialize(seen, BeaconJson.Default.ProviderInfo)}");
        }
        return seen!;
    }

    private Task<Answer> ChangeAsync(HttpClient who, string method, ProviderInfo p, string what, JsonObject body) =>
        CallAsync(who, method, $"federation/{p.Number}/{what}", body.ToJsonString());

    private async Task DoneAsync(string method, ProviderInfo p, string what, JsonObject body)
    {
        var answer = await ChangeAsync(world.Jay, method, p, what, body);
        Assert.True(answer.IsDone, answer.ToString());
    }

    private static void Look(string folder, PlayedProvider provider)
    {
        var file = System.IO.Path.Combine(folder, "agent.json");
        var settings = JsonNode.Parse(File.ReadAllText(file))!;
        settings["reportSeconds"] = 1;
        settings["connectors"] = new JsonArray(
            new JsonObject
            {
                ["kind"] = "simplesamlphp",
                ["binary"] = "/usr/bin/php",
                ["config"] = provider.Config,
                ["metadataAt"] = provider.Address,
                ["accessLog"] = provider.Log,
            }
        );
        File.WriteAllText(file, settings.ToJsonString());
    }

    private async Task<string> CertificateAsync()
    {
        var wish = Wish(host: HostName, certificate: "signing", names: HostName);
        (wish["profile"], wish["key"]) = ("federation-signing", "rsa-2048");
        var (asked, state) = await AskAsync(world.Jay, wish);
        Assert.True(state == "waiting-for-approval", asked.ToString());
        var approved = await CallAsync(
            world.Wren,
            "POST",
            $"requests/{asked.Json!["number"]}/approve",
            """{"comment":"partners were told"}"""
        );
        Assert.True(approved.IsDone, approved.ToString());
        await RunningHost.UntilAsync(async () =>
            (await CallAsync(world.Jay, "GET", "certificates/signing")).Json?["certificate"]?["serial"] is not null
        );
        return "signing";
    }

    [Fact]
    public async Task Partners_know_the_next_certificate_before_it_is_used_and_nobody_is_refused()
    {
        using var s = new Scratch();
        File.SetUnixFileMode(s.Path, File.GetUnixFileMode(s.Path) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        var (one, two) = (Ports.Free(), Ports.Free());
        (string Entity, string Acs)[] partners = [(Ferry, $"http://127.0.0.71:{one}/acs"), (Wayfarer, $"http://127.0.0.72:{two}/acs")];
        using var provider = new PlayedProvider(Life, partners);
        using var ferry = new RunningPartner("127.0.0.71", one, provider, refresh: 2);
        using var wayfarer = new RunningPartner("127.0.0.72", two, provider, refresh: 0);
        foreach (var p in new[] { ferry, wayfarer })
            await RunningHost.UntilAsync(async () => await p.StateAsync() is { Knows.Length: 1 });
        await using var host = await new RunningHost(world, s, HostName).StartAsync("group:web", folder => Look(folder, provider));
        await using var people = new SignIns(provider, partners).Start();

        var found = await AtAsync(FederationStep.Unmanaged);
        Assert.Equal((PlayedProvider.Entity, 2, null), (found.Entity, found.Partners.Count, found.Certificate));
        await FromAForeignCertificateAsync(found, ferry, wayfarer);
        await RenewedAsync(found, wayfarer);
        await people.StopAsync();
        Assert.Empty(people.Refused);
        Assert.True(people.Welcome > 20, $"only {people.Welcome} sign-ins");
        var journal = await world.JournalAsync(PlayedProvider.Entity);
        foreach (var word in new[] { "found", "chosen", "ordered", "done", "learnt", "said", "back", "hurried" })
            Assert.Contains("federation." + word, journal);
    }

    private async Task FromAForeignCertificateAsync(ProviderInfo p, RunningPartner ferry, RunningPartner wayfarer)
    {
        var certificate = await CertificateAsync();
        foreach (var (entity, address) in new[] { (Ferry, ferry.Address), (Wayfarer, wayfarer.Address) })
            await DoneAsync("PUT", p, "partner", new() { ["entity"] = entity, ["addresses"] = new JsonArray(address) });
        await DoneAsync("PUT", p, "certificate", new() { ["certificate"] = certificate });
        await RunningHost.UntilAsync(async () =>
            await AtAsync(FederationStep.Waiting) is var w && w.Partners.Single(x => x.Entity == Ferry).FetchedAt is not null
        );
        var waiting = await ProviderAsync();
        Assert.Equal(waiting.NextSerial, waiting.Also!.Serial);
        Assert.False(waiting.Partners.Single(x => x.Entity == Wayfarer).Knows);
        Assert.Contains(waiting.Breaks, b => b.Contains(Wayfarer) && !b.Contains(Ferry));
        // It waits for the one that does not fetch by itself, however long that takes.
        await Task.Delay(6000);
        Assert.Equal(FederationStep.Waiting, (await ProviderAsync()).Step);
        await wayfarer.RefreshAsync();
        var fading = await AtAsync(FederationStep.Fading);
        Assert.Equal((waiting.NextSerial, p.Signs!.Serial), (fading.Signs!.Serial, fading.Also!.Serial));
        Assert.NotNull(fading.Until);
        var steady = await AtAsync(FederationStep.Steady);
        Assert.Equal((waiting.NextSerial, null, null), (steady.Signs!.Serial, steady.Also, steady.NextSerial));
        await wayfarer.RefreshAsync();
        Assert.Equal([steady.Signs.Serial], (await wayfarer.StateAsync())!.Knows);
    }

    private async Task RenewedAsync(ProviderInfo p, RunningPartner wayfarer)
    {
        // Its profile wants an approval for each.
        Assert.False((await CallAsync(world.Jay, "POST", "certificates/signing/renew")).IsDone);
        await RunningHost.UntilAsync(async () =>
        {
            var open = await CallAsync(world.Wren, "GET", "requests?state=waiting-for-approval");
            foreach (var r in open.Json!["items"]!.AsArray())
                await CallAsync(world.Wren, "POST", $"requests/{r!["number"]}/approve", "{}");
            return (await ProviderAsync()).Step == FederationStep.Waiting;
        });
        Assert.False((await ChangeAsync(world.Magpie, "POST", p, "back", new() { ["reason"] = "mine" })).IsDone);
        Assert.False((await ChangeAsync(world.Jay, "POST", p, "back", [])).IsDone);
        await DoneAsync("POST", p, "back", new() { ["reason"] = "a partner asked for a day more" });
        await RunningHost.UntilAsync(async () => await AtAsync(FederationStep.Held) is { Also: null });
        await DoneAsync("POST", p, "go-on", new() { ["reason"] = "it has had its day" });
        var waiting = await AtAsync(FederationStep.Waiting);
        Assert.False(
            (await ChangeAsync(world.Jay, "POST", p, "go-on", new() { ["reason"] = "x", ["at"] = "2020-01-01T00:00:00Z" })).IsDone
        );
        await wayfarer.RefreshAsync();
        await DoneAsync("PUT", p, "partner", new() { ["entity"] = Wayfarer, ["word"] = "seen on their page" });
        await AtAsync(FederationStep.Fading);
        await AtAsync(FederationStep.Steady);
        Assert.Equal(waiting.NextSerial, (await ProviderAsync()).Signs!.Serial);
    }
}
