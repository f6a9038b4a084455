using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Each class of evidence that directory and DNS give, one case a line; and who may approve what is left.</summary>
public sealed class DomainDecisionTests
{
    private static readonly NameFacts Facts = new()
    {
        HostName = "web07.thistledown.example",
        Groups = ["web", "directory:web-servers"],
        Zones =
        [
            new(DnsName.Parse("thistledown.example"), "office"),
            new(DnsName.Parse("stations.thistledown.example"), "web") { Depth = 1, Wildcards = false },
            new(DnsName.Parse("lines.thistledown.example"), "web"),
            new(DnsName.Parse("north.lines.thistledown.example"), "north"),
            new(DnsName.Parse("apps.thistledown.example"), "directory:web-servers") { Profile = "server" },
            new(DnsName.Parse("brief.thistledown.example"), "web") { Profile = "server-brief" },
        ],
        Computer = new(
            "WEB07$",
            ["web07.thistledown.example", "web07.depot.example"],
            new Dictionary<string, string> { ["shop.thistledown.example"] = "HTTP/shop.thistledown.example", ["web07"] = "HOST/web07" },
            ["directory:web-servers"],
            World.Now
        ),
        OtherComputers = new Dictionary<string, string>
        {
            ["mail01.thistledown.example"] = "MAIL01$",
            ["old.thistledown.example"] = "WEB03$",
        },
        Held = ["old.thistledown.example"],
        ApprovedBefore = ["old.thistledown.example"],
        Dns = new Dictionary<string, DnsFacts>
        {
            ["www.thistledown.example"] = new(["front.thistledown.example", "web07.thistledown.example"], ["10.4.0.7"], null),
            ["elsewhere.thistledown.example"] = new(["web08.thistledown.example"], ["10.4.0.8"], null),
            ["direct.thistledown.example"] = new([], ["10.4.0.7"], null),
            ["slow.thistledown.example"] = new([], [], "there is no answer within 3 seconds"),
            ["mine.attacker.example"] = new(["web07.thistledown.example"], ["10.4.0.7"], null),
        },
        Reverse = new Dictionary<string, ReverseFacts>
        {
            ["ip:10.4.0.7"] = new(["web07.thistledown.example"], ["web07.thistledown.example"], null),
            ["ip:10.4.0.8"] = new(["web08.thistledown.example"], ["web08.thistledown.example"], null),
            ["ip:10.4.0.9"] = new(["web07.thistledown.example"], [], null),
        },
    };

    private static Profile Server => StartingSet.All.Single(p => p.Id == "server");

    [Theory]
    [InlineData("web07.thistledown.example", Verdict.Granted, VerdictReason.HostOwnsName)]
    [InlineData("web07.depot.example", Verdict.Granted, VerdictReason.ComputersName)]
    [InlineData("shop.thistledown.example", Verdict.Granted, VerdictReason.ServicePrincipal)]
    [InlineData("SHOP.thistledown.example.", Verdict.Granted, VerdictReason.ServicePrincipal)]
    [InlineData("web07", Verdict.Granted, VerdictReason.ServicePrincipal)]
    [InlineData("*.shop.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("mail01.thistledown.example", Verdict.Refused, VerdictReason.OtherComputersName)]
    [InlineData("MAIL01.thistledown.example.", Verdict.Refused, VerdictReason.OtherComputersName)]
    [InlineData("old.thistledown.example", Verdict.NeedsApproval, VerdictReason.OtherComputersName)]
    [InlineData("www.thistledown.example", Verdict.Granted, VerdictReason.AliasEndsHere)]
    [InlineData("elsewhere.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("direct.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("slow.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("mine.attacker.example", Verdict.Refused, VerdictReason.NoZone)]
    [InlineData("a.apps.thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("a.brief.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("leeds.stations.thistledown.example", Verdict.Granted, VerdictReason.ZoneHeld)]
    [InlineData("a.leeds.stations.thistledown.example", Verdict.NeedsApproval, VerdictReason.ZoneOfOthers)]
    [InlineData("*.stations.thistledown.example", Verdict.Refused, VerdictReason.ZoneNoWildcards)]
    [InlineData("*.lines.thistledown.example", Verdict.Refused, VerdictReason.WildcardOverSharedZone)]
    [InlineData("*.west.lines.thistledown.example", Verdict.NeedsApproval, VerdictReason.WildcardReachesFar)]
    [InlineData("10.4.0.7", Verdict.Granted, VerdictReason.ReverseAndForward)]
    [InlineData("10.4.0.8", Verdict.NeedsApproval, VerdictReason.AddressNotOfHost)]
    [InlineData("10.4.0.9", Verdict.NeedsApproval, VerdictReason.AddressNotOfHost)]
    [InlineData("localhost", Verdict.Refused, VerdictReason.ReservedName)]
    [InlineData("a.invalid", Verdict.Refused, VerdictReason.ReservedName)]
    [InlineData("mail02", Verdict.Refused, VerdictReason.NoZone)]
    [InlineData("shоp.thistledown.example", Verdict.Refused, VerdictReason.Malformed)]
    [InlineData("shop\0.thistledown.example", Verdict.Refused, VerdictReason.Malformed)]
    public void Each_class_of_evidence_gives_its_verdict(string name, Verdict verdict, VerdictReason reason)
    {
        var v = Assert.Single(NameDecision.Decide([name], Server, Facts, []));
        Assert.True((verdict, reason) == (v.Verdict, v.Reason), v.ToString());
        Assert.NotEmpty(v.Evidence);
        Assert.Equal(verdict == Verdict.Granted, v.Cure.Length == 0);
    }

    [Theory]
    [InlineData("web07")]
    [InlineData("shop.local")]
    [InlineData("10.4.0.7")]
    [InlineData("fd00::7")]
    public void What_faces_outward_has_no_names_of_inside(string name)
    {
        var outward = Server with { Names = Server.Names with { Outward = true } };
        Assert.Equal(VerdictReason.InsideOnly, Assert.Single(NameDecision.Decide([name], outward, Facts, [])).Reason);
    }

    [Fact]
    public void A_host_whose_account_has_its_name_no_more_has_it_no_more()
    {
        var over = Facts with { OwnsHostName = false, Computer = null };
        Assert.Equal(
            VerdictReason.ZoneOfOthers,
            Assert.Single(NameDecision.Decide(["web07.thistledown.example"], Server, over, [])).Reason
        );
        // Nor is an alias that ends there worth anything.
        Assert.Equal(VerdictReason.ZoneOfOthers, Assert.Single(NameDecision.Decide(["www.thistledown.example"], Server, over, [])).Reason);
    }

    [Fact]
    public void An_alias_shows_the_whole_way() =>
        Assert.Contains(
            "www.thistledown.example → front.thistledown.example → web07.thistledown.example → 10.4.0.7",
            NameDecision.Decide(["www.thistledown.example"], Server, Facts, [])[0].Evidence
        );

    [Fact]
    public void Without_a_host_another_computers_name_waits_for_who_holds_its_zone()
    {
        var brought = Facts with { HostName = null, Computer = null, Held = [] };
        var v = Assert.Single(NameDecision.Decide(["mail01.thistledown.example"], Server, brought, []));
        Assert.Equal((Verdict.NeedsApproval, "office"), (v.Verdict, Assert.Single(v.Holders)));
        var lone = brought with { Zones = [] };
        Assert.Equal(VerdictReason.NoZone, Assert.Single(NameDecision.Decide(["mail01.thistledown.example"], Server, lone, [])).Reason);
    }

    private static EnrolmentVerdict Decide(string[] names, int approvals, params Approver[] approvers) =>
        EnrolmentDecision.Decide(
            new(Server with { Approvals = approvals }, names, Facts, DistinguishedName.Empty, "jay", approvers, [], World.Now)
        );

    [Fact]
    public void Who_holds_the_zone_approves_its_names_and_no_others()
    {
        var office = new Approver("finch", ["office"]);
        var general = new Approver("wren", [Who.Approvers]);
        var robin = new Approver("robin", [Who.Administrators]);
        string[] theirs = ["direct.thistledown.example"],
            wide = ["*.west.lines.thistledown.example"];
        Assert.Equal(Verdict.NeedsApproval, Decide(theirs, 0).Overall);
        Assert.Equal(Verdict.NeedsApproval, Decide(theirs, 0, general).Overall);
        Assert.Equal(Verdict.Granted, Decide(theirs, 0, office).Overall);
        Assert.Equal(Verdict.Granted, Decide(theirs, 0, robin).Overall);
        Assert.Equal(Verdict.NeedsApproval, Decide(wide, 0, office).Overall);
        Assert.Equal(Verdict.Granted, Decide(wide, 0, general).Overall);
        // Both together want both, and the profile's own approvals are approvers' alone.
        Assert.Equal(
            (Verdict.NeedsApproval, 2),
            (Decide([.. theirs, .. wide], 0, general).Overall, Decide([.. theirs, .. wide], 0, general).PeopleNeeded)
        );
        Assert.Equal(Verdict.Granted, Decide([.. theirs, .. wide], 0, general, office).Overall);
        Assert.Equal(Verdict.NeedsApproval, Decide(theirs, 1, office).Overall);
        Assert.Equal(Verdict.Granted, Decide(theirs, 1, office, general).Overall);
        var granted = Decide([.. theirs, .. wide], 0, general, office).Granted!;
        Assert.Equal(["finch"], granted.Grants.Single(g => g.Name == theirs[0]).By);
        Assert.Equal(["wren"], granted.Grants.Single(g => g.Name == wide[0]).By);
    }
}
