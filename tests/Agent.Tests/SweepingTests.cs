using OrderlyBeacon.Agent.Tests.Contract;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Sweeps;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>An agent's part of a sweep, over thousands of endpoints of a real server.</summary>
public sealed class SweepingTests
{
    [Fact]
    public async Task All_that_is_open_is_met_once_among_what_is_closed()
    {
        using var s = new NginxServer();
        s.Configure(s.ForeignPair());
        // At every loopback address: 256 of them are open at this port, and closed at sixteen others.
        var port = 20000 + Environment.ProcessId % 10000;
        File.WriteAllText(s.MainFile, File.ReadAllText(s.MainFile).Replace($"{s.Address}:8443", $"0.0.0.0:{port}"));
        s.Start();
        string[] networks = ["127.93.0.0/24"];
        int[] ports = [port, .. Enumerable.Range(port + 1, 16)];
        var total = SweepPlan.Parse(networks, ports).Total;
        Assert.Equal(4352, total);
        var met = new List<LookReport>();
        for (var first = 0L; first < total; first += 1024)
            met.AddRange(
                await Sweeping.RunAsync(new(networks, ports, first, 1024), TimeProvider.System, TestContext.Current.CancellationToken)
            );
        Assert.Equal(256, met.Count);
        Assert.Equal(256, met.Select(m => m.Address).Distinct().Count());
        Assert.All(met, m => Assert.Equal((LookOutcome.Served, port), (m.Outcome, m.Port)));
        Assert.All(met, m => Assert.Single(m.Chain));
    }

    [Fact]
    public async Task A_part_beyond_the_end_is_nothing() =>
        Assert.Empty(
            await Sweeping.RunAsync(new(["127.93.0.1"], [1, 2], 5, 1024), TimeProvider.System, TestContext.Current.CancellationToken)
        );
}
