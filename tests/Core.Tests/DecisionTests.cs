using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Renewal;

namespace OrderlyBeacon.Core.Tests;

public sealed class DecisionTests
{
    private static readonly NameFacts Facts = new()
    {
        HostName = "web01.thistledown.example",
        Groups = ["web"],
        Zones = [new(DnsName.Parse("thistledown.example"), "web"), new(DnsName.Parse("depot.example"), "depot")],
        Networks = [new(Network.Parse("10.1.0.0/16"), "web"), new(Network.Parse("10.2.0.0/16"), "depot")],
        MetAt = ["ip:10.0.0.1"],
        OtherHosts = ["web02.thistledown.example"],
        ServedElsewhere = new Dictionary<string, string>
        {
            ["parcels.thistledown.example"] = "web02.thistledown.example",
            ["held.thistledown.example"] = "web02.thistledown.example",
        },
        ServiceNames = ["beacon.thistledown.example", "ip:10.1.0.9"],
        Held = ["held.thistledown.example"],
        ApprovedBefore = ["*.old.thistledown.example", "ip:10.9.9.9"],
    };

    private static Profile Server => StartingSet.All.Single(p => p.Id == "server");

    [Theory]
    [InlineData("web01.thistledown.example", Verdict.Granted, VerdictReason.HostOwnsName)]
    [InlineData("booking.thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("BOOKING.thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("nothistledown.example", Verdict.Refused, VerdictReason.NoZone)]
    [InlineData("depot.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("*.stations.thistledown.example", Verdict.NeedsApproval, VerdictReason.WildcardReachesFar)]
    [InlineData("*.old.thistledown.example", Verdict.Granted, VerdictReason.ApprovedBefore)]
    [InlineData("*.thistledown.example", Verdict.Refused, VerdictReason.ServiceName)]
    [InlineData("beacon.thistledown.example", Verdict.Refused, VerdictReason.ServiceName)]
    [InlineData("BEACON.thistledown.example.", Verdict.Refused, VerdictReason.ServiceName)]
    [InlineData("10.1.0.9", Verdict.Refused, VerdictReason.ServiceName)]
    [InlineData("held.thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("*.elsewhere.example", Verdict.Refused, VerdictReason.NoZone)]
    [InlineData("web02.thistledown.example", Verdict.Refused, VerdictReason.OtherHostsName)]
    [InlineData("parcels.thistledown.example", Verdict.NeedsApproval, VerdictReason.ServedElsewhere)]
    [InlineData("10.0.0.1", Verdict.Granted, VerdictReason.MetAtAddress)]
    [InlineData("10.1.2.3", Verdict.Granted, VerdictReason.NetworkHeld)]
    [InlineData("10.2.2.3", Verdict.NeedsApproval, VerdictReason.AddressNotOfHost)]
    [InlineData("10.0.0.2", Verdict.NeedsApproval, VerdictReason.AddressNotOfHost)]
    [InlineData("10.9.9.9", Verdict.Granted, VerdictReason.ApprovedBefore)]
    [InlineData("ip:10.9.9.9", Verdict.Granted, VerdictReason.ApprovedBefore)]
    [InlineData("127.0.0.5", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("169.254.169.254", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("224.0.0.1", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("192.0.2.7", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("::1", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("::ffff:127.0.0.1", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("fe80::1", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("2001:db8::1", Verdict.Refused, VerdictReason.AddressNever)]
    [InlineData("8.8.8.8", Verdict.NeedsApproval, VerdictReason.AddressNotOfHost)]
    [InlineData("foo_bar.thistledown.example", Verdict.Refused, VerdictReason.Malformed)]
    public void Each_name_gets_its_verdict(string name, Verdict verdict, VerdictReason reason)
    {
        var v = Assert.Single(NameDecision.Decide([name], Server, Facts, []));
        Assert.Equal((verdict, reason), (v.Verdict, v.Reason));
        Assert.NotEmpty(v.Evidence);
        Assert.Equal(verdict == Verdict.Granted, v.Cure.Length == 0);
    }

    [Fact]
    public void An_agent_gets_its_own_name_alone() =>
        Assert.Equal(
            [Verdict.Granted, Verdict.Refused],
            NameDecision
                .Decide(
                    ["web01.thistledown.example", "booking.thistledown.example"],
                    StartingSet.All.Single(p => p.Id == "agent"),
                    Facts,
                    []
                )
                .Select(v => v.Verdict)
        );

    [Fact]
    public void Doubles_are_decided_once_and_nothing_is_refused()
    {
        Assert.Single(NameDecision.Decide(["a.thistledown.example", "A.thistledown.example."], Server, Facts, []));
        Assert.Equal(Verdict.Refused, NameDecision.Overall([]));
    }

    [Fact]
    public void Elliptic_keys_do_not_encipher()
    {
        Assert.True(Server.KeyUsageFor(KeySpec.Rsa2048).HasFlag(Issuing.KeyUsages.KeyEncipherment));
        Assert.False(Server.KeyUsageFor(KeySpec.P256).HasFlag(Issuing.KeyUsages.KeyEncipherment));
    }

    [Fact]
    public void Renewals_spread_inside_their_window_and_stay_put()
    {
        var (from, to) = (World.Now, World.Now.AddDays(90));
        var planned = Enumerable.Range(0, 1000).Select(i => new RenewalPolicy().PlannedFor(from, to, "serial " + i)).ToList();
        Assert.All(planned, p => Assert.InRange(p, from.AddDays(60).AddSeconds(-1), from.AddDays(64.51)));
        Assert.True(planned.Distinct().Count() > 990);
        Assert.Equal(planned[0], new RenewalPolicy().PlannedFor(from, to, "serial 0"));
    }

    [Fact]
    public void Retries_wait_longer_each_time_but_never_past_the_end()
    {
        var (from, to) = (World.Now, World.Now.AddDays(90));
        var waits = Enumerable
            .Range(1, 8)
            .Select(n => RenewalPolicy.RetryAt(World.Now.AddDays(61), from, to, n) - World.Now.AddDays(61))
            .ToList();
        Assert.Equal(waits.Order(), waits);
        Assert.InRange(RenewalPolicy.RetryAt(to.AddMinutes(-3), from, to, 20), to.AddMinutes(-3), to.AddMinutes(-1.9));
        Assert.Equal(TimeSpan.FromSeconds(5), RenewalPolicy.RetryAt(World.Now, World.Now, World.Now.AddMinutes(1), 1) - World.Now);
    }

    [Fact]
    public void The_journal_shows_every_alteration()
    {
        var chain = new List<JournalRecord>();
        for (var i = 0; i < 20; i++)
            chain.Add(
                JournalChain.Append(chain.LastOrDefault(), World.Now.AddSeconds(i), "robin", "request.submitted", $"request {i}", "detail")
            );
        Assert.Null(Check(chain));
        Assert.Contains("altered", Check([.. chain[..5], chain[5] with { Detail = "other" }, .. chain[6..]]));
        Assert.Contains("missing", Check([.. chain[..5], .. chain[6..]]));
        var swapped = JournalChain.Append(chain[4], World.Now, "somebody", "x", "y", "z");
        Assert.NotNull(Check([.. chain[..5], swapped, .. chain[6..]]));
        // Fields that run into each other are told apart.
        Assert.NotEqual(JournalChain.HashOf(1, World.Now, "ab", "c", "", "", ""), JournalChain.HashOf(1, World.Now, "a", "bc", "", "", ""));
    }

    private static string? Check(List<JournalRecord> chain)
    {
        JournalRecord? last = null;
        foreach (var e in chain)
        {
            if (JournalChain.Fault(last, e) is { } fault)
                return fault;
            last = e;
        }
        return null;
    }
}
