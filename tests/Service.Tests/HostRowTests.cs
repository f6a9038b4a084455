using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Hosts;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Who speaks for a name is one at a time: an agent, an account, or the agent that reaches the device.</summary>
public sealed class HostRowTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 2, 9, 0, 0, TimeSpan.Zero);

    private static Host Device()
    {
        var host = Host.OfDevice("fw01.thistledown.example", "group:web");
        host.ReachedBy(7, "appliance", "https://10.4.0.61:9443", "group:web");
        return host;
    }

    [Fact]
    public void A_device_that_gets_an_agent_is_none_any_more()
    {
        var invited = Device();
        Assert.Equal((HostState.Joined, 7), (invited.State, invited.AgentHostId));
        invited.Remove();
        invited.NewJoinCode(new('a', 64), Now);
        Assert.Equal((null, null, null), (invited.ViaHostId, invited.Device, invited.DeviceAddress));
        var joined = Device();
        joined.Remove();
        joined.ComeBackAs("FW01$", "id");
        Assert.Equal((null, "FW01$", Host.DefaultOwner), (joined.ViaHostId, joined.Account, joined.Owner));
    }

    [Fact]
    public void A_device_has_neither_the_account_nor_the_agent_of_the_host_before()
    {
        var host = Host.OfDomain("fw01.thistledown.example", "FW01$", "id");
        host.Join();
        host.Remove();
        host.ReachedBy(7, "appliance", "https://10.4.0.61:9443", "group:web");
        Assert.Equal((null, null, null), (host.Account, host.AccountId, host.AgentThumbprint));
    }
}
