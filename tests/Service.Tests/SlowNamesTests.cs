using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Service.Domain;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A name server that takes every question and answers none.</summary>
public sealed class SlowNamesTests
{
    [Fact]
    public async Task A_silent_name_server_holds_nobody_up_and_grants_nothing()
    {
        using var silent = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        var options = new BeaconOptions { Dns = silent.Client.LocalEndPoint!.ToString()! };
        var resolver = new Resolver(options, TimeProvider.System);
        // Many at once share one wait.
        var names = Enumerable.Range(0, 50).Select(i => $"host{i}.thistledown.example").ToList();
        var began = Stopwatch.StartNew();
        var facts = await resolver.NamesAsync(names, CancellationToken.None);
        var back = await resolver.AddressesAsync(["10.4.0.11"], CancellationToken.None);
        Assert.InRange(began.Elapsed, TimeSpan.Zero, TimeSpan.FromSeconds(60));
        Assert.Equal(50, facts.Count);
        Assert.All(facts.Values, f => Assert.NotNull(f.Problem));
        Assert.All(facts.Values, f => Assert.Empty(f.Addresses));
        Assert.NotNull(back["10.4.0.11"].Problem);
        Assert.Empty(back["10.4.0.11"].Confirmed);
        Assert.Empty(await resolver.ExchangersAsync("thistledown.example", CancellationToken.None));
    }
}
