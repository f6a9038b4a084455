using System.Net;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Sweeps;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Which endpoints a sweep has, by their numbers.</summary>
public sealed class SweepPlanTests
{
    [Theory]
    [InlineData(0, "10.0.0.4", 25)]
    [InlineData(1, "10.0.0.4", 443)]
    [InlineData(2, "10.0.0.5", 25)]
    [InlineData(7, "10.0.0.7", 443)]
    [InlineData(8, "10.1.0.1", 25)]
    [InlineData(10, "2001:db8::ff00", 25)]
    [InlineData(521, "2001:db8::ffff", 443)]
    public void Each_endpoint_has_a_number(long number, string address, int port)
    {
        var plan = SweepPlan.Parse(["10.0.0.4/30", "10.1.0.1", "2001:db8::ff00/120", "10.0.0.4/30"], [443, 25, 443]);
        Assert.Equal(522, plan.Total);
        Assert.Equal((IPAddress.Parse(address), port), plan.At(number));
        Assert.Throws<ArgumentOutOfRangeException>(() => plan.At(plan.Total));
    }

    [Fact]
    public void All_of_them_are_different()
    {
        var plan = SweepPlan.Parse(["10.9.0.0/22", "10.8.0.0/24"], null);
        Assert.Equal(plan.Total, Enumerable.Range(0, (int)plan.Total).Select(i => plan.At(i)).Distinct().Count());
    }

    [Theory]
    [InlineData("10.0.0.0/8", "smaller networks")]
    [InlineData("::/0", "smaller networks")]
    [InlineData("0.0.0.0/0", "smaller networks")]
    [InlineData("10.0.0.1/24", "10.20.0.0/16")]
    [InlineData("everywhere", "10.20.0.0/16")]
    [InlineData("10.0.0.0/33", "10.20.0.0/16")]
    public void What_is_no_network_or_too_large_is_refused(string network, string cure) =>
        Assert.Contains(cure, Assert.Throws<BeaconProblem>(() => SweepPlan.Parse([network], null)).Cure);

    [Theory]
    [InlineData(0)]
    [InlineData(65536)]
    [InlineData(-1)]
    public void What_is_no_port_is_refused(int port) =>
        Assert.Contains("1 to 65535", Assert.Throws<BeaconProblem>(() => SweepPlan.Parse(["10.0.0.1"], [port])).Cure);

    [Fact]
    public void None_and_too_many_are_refused()
    {
        Assert.Throws<BeaconProblem>(() => SweepPlan.Parse([], null));
        Assert.Throws<BeaconProblem>(() => SweepPlan.Parse([.. Enumerable.Range(0, 65).Select(i => $"10.0.0.{i}")], [443]));
        Assert.Throws<BeaconProblem>(() => SweepPlan.Parse(["10.0.0.1"], [.. Enumerable.Range(1, 65)]));
    }

    [Theory]
    [InlineData("10.20.0.0/16", "10.20.0.0/16", null)]
    [InlineData("10.20.3.0/24", "10.20.0.0/16", null)]
    [InlineData("10.20.3.7", "10.20.0.0/16", null)]
    // A larger one does not lie within a smaller one that it begins with.
    [InlineData("10.20.2.0/23", "10.20.2.0/24", "10.20.2.0/23")]
    [InlineData("10.21.0.1", "10.20.0.0/16", "10.21.0.1/32")]
    [InlineData("2001:db8::1", "10.20.0.0/16", "2001:db8::1/128")]
    public void What_is_not_permitted_is_named(string network, string permitted, string? outside) =>
        Assert.Equal(outside, SweepPlan.Parse([network], [443]).Outside([Network.Parse(permitted)])?.ToString());
}
