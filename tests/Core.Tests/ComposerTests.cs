using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Which names a purpose wants, what for, and what is said to be missing.</summary>
public sealed class ComposerTests
{
    private static readonly ComposerFacts Mail = new()
    {
        Purpose = Purpose.Mail,
        Host = "mail01.thistledown.example",
        Domain = "thistledown.example",
        Functions = Enum.GetValues<MailFunction>(),
        Services =
        [
            new("postfix", "Postfix", ["mail.thistledown.example"]),
            new("dovecot", "Dovecot", ["mail.thistledown.example"]),
            new("nginx", "booking", ["booking.thistledown.example"]),
        ],
        Exchangers = ["mx1.thistledown.example", "mail.thistledown.example"],
        InDns = new HashSet<string>
        {
            "mail.thistledown.example",
            "smtp.thistledown.example",
            "webmail.thistledown.example",
            "imap.thistledown.example",
        },
    };

    private static List<string> Chosen(ComposedRequest c) => [.. c.Names.Where(n => n.IsChosen).Select(n => n.Name)];

    [Fact]
    public void A_device_gets_its_own_name_and_what_dns_knows_of_its_kind()
    {
        var facts = new ComposerFacts
        {
            Purpose = Purpose.Device,
            Host = "fw01.thistledown.example",
            Domain = "thistledown.example",
        };
        Assert.Contains("vpn.thistledown.example", Composer.Candidates(facts));
        var c = Composer.Compose(facts with { InDns = new HashSet<string> { "vpn.thistledown.example" } });
        Assert.Equal(["fw01.thistledown.example"], Chosen(c));
        Assert.Contains(c.Names, n => n is { Name: "vpn.thistledown.example", IsChosen: false });
        Assert.Empty(c.Missing);
    }

    [Fact]
    public void Mail_gets_the_names_of_its_functions_each_once()
    {
        var c = Composer.Compose(Mail);
        Assert.Empty(c.Missing);
        Assert.Equal(
            [
                "mail.thistledown.example",
                "mail01.thistledown.example",
                "webmail.thistledown.example",
                "autoconfig.thistledown.example",
                "autodiscover.thistledown.example",
                "smtp.thistledown.example",
                "imap.thistledown.example",
                "mx1.thistledown.example",
            ],
            Chosen(c)
        );
        Assert.Equal(["Postfix", "Dovecot"], c.BindTo);
        Assert.All(c.Names, n => Assert.True(n.Uses.Count > 0 && n.Without.EndsWith('.') && n.Source.Length > 0, n.ToString()));
        // One name for several functions says all of them.
        var main = c.Names.Single(n => n.Name == "mail.thistledown.example");
        Assert.Contains("mobile devices", main.Uses);
        Assert.Contains("mail from other organisations", main.Uses);
        // What nobody uses is not in; what DNS knows is a thought.
        var little = Composer.Compose(Mail with { Functions = [MailFunction.Imap] });
        Assert.Equal(["mail.thistledown.example", "imap.thistledown.example"], Chosen(little));
        Assert.Contains(little.Names, n => n is { Name: "smtp.thistledown.example", IsChosen: false });
    }

    [Fact]
    public void Without_dns_the_main_name_serves_all()
    {
        var c = Composer.Compose(
            Mail with
            {
                InDns = null,
                Exchangers = [],
                Services = [],
                Functions = [MailFunction.Imap, MailFunction.Submission, MailFunction.ServerToServer],
            }
        );
        Assert.Equal(["mail.thistledown.example"], Chosen(c));
        Assert.Equal(3, c.Names[0].Uses.Count);
    }

    [Fact]
    public void What_is_missing_is_said_by_its_field() =>
        Assert.Equal(["functions", "domain"], Composer.Compose(Mail with { Domain = "", Functions = [] }).Missing.Select(m => m.Field));

    [Fact]
    public void A_site_has_its_names_and_what_people_type_besides()
    {
        ComposerFacts site = new()
        {
            Purpose = Purpose.Website,
            Host = "web01.thistledown.example",
            Services =
            [
                new("nginx", "shop", ["shop.example", "*.stations.thistledown.example"]),
                new("postfix", "Postfix", ["mail.thistledown.example"]),
            ],
            Principals = [("http", "www.thistledown.example"), ("host", "web01"), ("smtp", "relay.thistledown.example")],
        };
        Assert.Equal(["www.shop.example"], Composer.Candidates(site));
        var c = Composer.Compose(site with { InDns = new HashSet<string> { "www.shop.example" } });
        Assert.Equal(["shop.example", "*.stations.thistledown.example", "www.thistledown.example"], Chosen(c));
        Assert.Contains(c.Names, n => n is { Name: "www.shop.example", IsChosen: false });
        Assert.Contains("www.stations.thistledown.example yes", Assert.Single(c.Remarks));
        Assert.Equal(["shop"], c.BindTo);
        // All of them under one certificate.
        Assert.Contains("mail.thistledown.example", Chosen(Composer.Compose(site with { Purpose = Purpose.Several })));
        // Of two sites one is meant, unless several are.
        var two = site with
        {
            Services = [.. site.Services, new("nginx", "pulse", ["pulse.example"])],
        };
        var open = Composer.Compose(two);
        Assert.Equal(("services", 0, 0), (Assert.Single(open.Missing).Field, open.Names.Count, open.BindTo.Count));
        Assert.Contains("shop", open.Missing[0].Reason);
        Assert.Contains("pulse.example", Chosen(Composer.Compose(two with { AreChosen = true })));
        // Nothing found: the host's own name, and the question.
        var bare = Composer.Compose(site with { Services = [], Principals = [] });
        Assert.Equal(("names", "web01.thistledown.example"), (Assert.Single(bare.Missing).Field, Assert.Single(bare.Names).Name));
    }
}
