using System.Text.RegularExpressions;
using Deque.AxeCore.Playwright;
using Microsoft.Playwright;
using static Microsoft.Playwright.Assertions;

namespace OrderlyBeacon.Console.Tests;

/// <summary>The console driven as a person would, and the sites as their clients see them. In order: a story.</summary>
[TestMethodOrderer(typeof(ByName))]
public sealed class ConsoleTests(DemoWithBrowser world) : IClassFixture<DemoWithBrowser>
{
    private const string Booking = "booking.thistledown.example";
    private readonly Browser _browser = world.Browser;

    private string Site(string name) => $"https://{name}.thistledown.example" + (world.Demo.TlsPort == 443 ? "" : ":" + world.Demo.TlsPort);

    [Theory]
    [InlineData("staff", "net::ERR_CERT_COMMON_NAME_INVALID")]
    [InlineData("parcels", "net::ERR_CERT_AUTHORITY_INVALID")]
    [InlineData("booking", "net::ERR_CERT_COMMON_NAME_INVALID")]
    public async Task A1_chromium_refuses_what_is_wrong(string site, string error)
    {
        var page = await _browser.PageAsync();
        Assert.Contains(error, (await Assert.ThrowsAsync<PlaywrightException>(() => page.GotoAsync(Site(site)))).Message);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A2_today_shows_what_is_wrong_worst_first()
    {
        var (page, errors) = await _browser.SignedInAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToHaveTextAsync("7 things need a hand");
        var rows = page.GetByRole(AriaRole.List, new() { Name = "What needs a hand" }).GetByRole(AriaRole.Listitem);
        await Expect(rows).ToHaveCountAsync(7);
        await Expect(rows.Filter(new() { HasText = "web01/booking.thistledown.example It answers in the clear only." }))
            .ToHaveCountAsync(1);
        await Expect(rows.Nth(5)).ToContainTextAsync("only in its common name");
        await Expect(rows.Nth(6)).ToContainTextAsync("nothing renews it");
        await Expect(page.GetByTestId("live")).ToHaveTextAsync("● live");
        await Expect(page.Locator("svg[aria-label='Every certificate on a time axis'] a")).ToHaveCountAsync(6);
        await Browser.ShotAsync(page, "today");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    /// <summary>Who cannot see the page hears where they are, and goes on from there by keyboard.</summary>
    [Fact]
    public async Task A2b_title_and_focus_follow_the_navigation()
    {
        var (page, errors) = await _browser.SignedInAsync();
        await Expect(page).ToHaveTitleAsync("7 things need a hand · Orderly Beacon");
        await page.GetByRole(AriaRole.Link, new() { Name = "Hosts and services" }).FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await Expect(page).ToHaveTitleAsync("Hosts and services · Orderly Beacon");
        await Expect(page.GetByRole(AriaRole.Heading, new() { Level = 2 })).ToBeFocusedAsync();
        await page.Keyboard.PressAsync("Tab");
        Assert.Equal("View", await page.EvaluateAsync<string>("document.activeElement.closest('[aria-label]').ariaLabel"));
        await page.GoBackAsync();
        await Expect(page).ToHaveTitleAsync("7 things need a hand · Orderly Beacon");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A2c_a_network_is_looked_over_for_what_nobody_looks_after()
    {
        var (page, errors) = await _browser.SignedInAsync("/sweeps");
        await page.GetByLabel("Networks").FillAsync(world.Demo.Network + ".0/26");
        await page.GetByLabel("Ports").FillAsync($"{world.Demo.TlsPort} 4443x");
        await Expect(page.GetByText("4443x is no port")).ToBeVisibleAsync();
        await page.GetByLabel("Ports").FillAsync($"{world.Demo.TlsPort}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look over" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { NameRegex = new(@"Sweep \d+") }))
            .ToContainTextAsync("done", new() { Timeout = 30_000 });
        await Expect(page.GetByText("64 of 64 endpoints tried")).ToBeVisibleAsync();
        // The parcels' certificate signs itself, and its host has an agent: the way is a request.
        var parcels = page.Locator("tr", new() { HasTextString = "parcels.thistledown.example" }).First;
        await Expect(parcels).ToContainTextAsync("self-signed");
        await Expect(
                page.GetByText(
                    "beacon request new --host web02 --name parcels.thistledown.example --bind-to parcels.thistledown.example",
                    new() { Exact = true }
                )
            )
            .ToBeVisibleAsync();
        await Expect(page.GetByRole(AriaRole.Link, new() { Name = "request one" }).First)
            .ToHaveAttributeAsync("href", new Regex("/new.host=web02.*parcels"));
        await Browser.ShotAsync(page, "sweep");
        await page.GetByLabel("everything that answers").ClickAsync();
        await Expect(page.GetByText($"{world.Demo.Web01}:{world.Demo.TlsPort}")).ToBeVisibleAsync();
        await page.GotoAsync("/sweeps");
        await Expect(page.GetByRole(AriaRole.Cell, new() { Name = world.Demo.Network + ".0/26" })).ToBeVisibleAsync();
        await page.GetByLabel("Networks").FillAsync("10.99.0.0/24");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look over" }).ClickAsync();
        await Expect(page.GetByText("10.99.0.0/24 is not within the networks that may be looked over")).ToBeVisibleAsync();
        // The last of it was refused, as it should be.
        Assert.Contains("403", Assert.Single(errors));
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A3_the_booking_site_gets_its_certificate()
    {
        var (page, errors) = await _browser.SignedInAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Request: web01/" + Booking }).ClickAsync();
        await Expect(page.GetByLabel("Name 1", new() { Exact = true })).ToHaveValueAsync(Booking);
        await page.GetByLabel("Name 2", new() { Exact = true }).FillAsync("foo_bar.thistledown.example");
        await Expect(page.GetByText("It has an underscore")).ToBeVisibleAsync();
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Submit" })).ToBeDisabledAsync();
        await page.GetByLabel("Name 2", new() { Exact = true }).FillAsync("tickets.thistledown.example");
        await page.GetByLabel("Name 3", new() { Exact = true }).FillAsync("seats.thistledown.example");
        await Expect(page.GetByText("granted", new() { Exact = true })).ToHaveCountAsync(3);
        var preview = page.GetByLabel("Preview");
        await Expect(preview).ToContainTextAsync("seats.thistledown.example");
        await Expect(preview).ToContainTextAsync("ec-p256, made on the host");
        await Browser.ShotAsync(page, "new-certificate-decided");
        await page.GetByRole(AriaRole.Button, new() { Name = "Submit" }).ClickAsync();
        await Expect(page.GetByTestId("progress")).ToContainTextAsync("serving: " + Booking, new() { Timeout = 30_000 });
        await Expect(page.GetByTestId("progress")).ToContainTextAsync("Clients accept it");
        await Browser.ShotAsync(page, "request");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A4_chromium_opens_the_booking_site_without_a_warning()
    {
        var page = await _browser.PageAsync();
        var answer = await page.GotoAsync(Site("booking"));
        Assert.Equal(200, answer!.Status);
        Assert.Equal("secure", await _browser.SecurityStateAsync(Site("booking")));
        Assert.Equal("Thistledown Rail Issuing", (await answer.SecurityDetailsAsync())!.Issuer);
        await Expect(page.Locator("h1")).ToHaveTextAsync("Booking");
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A5_certificates_are_found_sorted_and_shown()
    {
        var (page, errors) = await _browser.SignedInAsync("/certificates");
        await Expect(page.GetByTestId("count")).ToContainTextAsync("5 shown");
        await Browser.ShotAsync(page, "certificates");
        await page.GetByRole(AriaRole.Button, new() { Name = "Expires" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Columnheader, new() { Name = "Expires" })).ToHaveAttributeAsync("aria-sort", "ascending");
        // A slash reaches the search from anywhere.
        await page.Locator("h2").ClickAsync();
        await page.Keyboard.PressAsync("/");
        await page.Keyboard.TypeAsync("booking");
        await page.Keyboard.PressAsync("Enter");
        await Expect(page.GetByTestId("count")).ToContainTextAsync("1 shown");
        await page.GetByRole(AriaRole.Link, new() { Name = Booking }).ClickAsync();
        await Expect(page.GetByText("clients accept it")).ToBeVisibleAsync();
        await Expect(page.GetByText("Thistledown Rail Root is a trust anchor.")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "certificate");
        await page.GetByRole(AriaRole.Button, new() { Name = "Renew now" }).ClickAsync();
        await Expect(page.Locator("td", new() { HasTextString = "previous" })).ToBeVisibleAsync(new() { Timeout = 20_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A6_a_page_follows_what_happens_elsewhere()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts");
        await Expect(page.GetByText("name only in CN")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "hosts");
        await Expect(page.GetByTestId("live")).ToHaveTextAsync("● live");
        world.Demo.Ok("request", "new", "--host", "web02", "--name", "staff.thistledown.example", "--bind-to", "staff.thistledown.example");
        await Expect(page.GetByText("name only in CN")).ToHaveCountAsync(0);
        // A host is found by its first name from anywhere.
        await page.Locator("h2").ClickAsync();
        await page.Keyboard.PressAsync("/");
        await page.Keyboard.TypeAsync("web02");
        await page.Keyboard.PressAsync("Enter");
        await Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/hosts/web02.thistledown.example$"));
        await Expect(page.GetByText("serves staff.thistledown.example")).ToBeVisibleAsync();
        Assert.Empty(errors);
        await page.Context.CloseAsync();
        Assert.Equal("secure", await _browser.SecurityStateAsync(Site("staff")));
    }

    [Fact]
    public async Task A6b_the_mail_certificate_goes_into_both_servers_and_out_again_with_the_difference_before_it()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts/mail01.thistledown.example");
        await page.Locator("tr", new() { HasTextString = "postfix" }).GetByRole(AriaRole.Link).First.ClickAsync();
        await Expect(page.GetByLabel("Name 1", new() { Exact = true })).ToHaveValueAsync("mail.thistledown.example");
        await Expect(page.GetByRole(AriaRole.Checkbox, new() { NameRegex = new("postfix") })).ToBeCheckedAsync();
        await Expect(page.GetByRole(AriaRole.Checkbox, new() { NameRegex = new("dovecot") })).ToBeCheckedAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Submit" }).ClickAsync();
        await Expect(page.GetByTestId("progress").Last).ToContainTextAsync("serving: dovecot, postfix", new() { Timeout = 30_000 });

        await page.GotoAsync("/hosts/mail01.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Take out the certificate of postfix" }).ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await Expect(dialog.Locator(".diff .removed").First).ToContainTextAsync("smtpd_tls_chain_files");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Take it out" }).ClickAsync();
        await Expect(dialog.GetByRole(AriaRole.Button, new() { Name = "Close" }).Last).ToBeVisibleAsync();
        await page.Keyboard.PressAsync("Escape");
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Take out the certificate of postfix" })).ToHaveCountAsync(0);

        await page.GetByRole(AriaRole.Button, new() { Name = "Bind a certificate to postfix" }).ClickAsync();
        await Expect(dialog.Locator(".diff .added").First).ToContainTextAsync("smtpd_tls_chain_files");
        await Browser.ShotAsync(page, "bind");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Bind", Exact = true }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("serving: postfix", new() { Timeout = 30_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A6c_clear_text_is_seen_ended_and_allowed_again()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts/mail01.thistledown.example");
        var dialog = page.GetByRole(AriaRole.Dialog);
        var close = dialog.GetByRole(AriaRole.Button, new() { Name = "Close" }).Last;
        await page.GetByRole(AriaRole.Button, new() { Name = "Require TLS: postfix" }).ClickAsync();
        await Expect(dialog.GetByText("can read the mail of clients without TLS").First).ToBeVisibleAsync();
        await Expect(dialog.Locator(".diff .added").First).ToContainTextAsync("smtpd_tls_security_level=encrypt");
        await Browser.ShotAsync(page, "require-tls");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Require TLS", Exact = true }).ClickAsync();
        await Expect(dialog.GetByTestId("progress"))
            .ToContainTextAsync("is used by TLS alone, but for mail at", new() { Timeout = 30_000 });
        await close.ClickAsync();
        var allow = page.GetByRole(AriaRole.Button, new() { Name = "Allow clear text: postfix" });
        await Expect(allow).ToBeVisibleAsync(new() { Timeout = 20_000 });
        await Browser.ShotAsync(page, "host-requires-tls");
        await allow.ClickAsync();
        await Expect(dialog.GetByText("can be read on the wire again")).ToBeVisibleAsync();
        await Expect(dialog.Locator(".diff .removed").First).ToContainTextAsync("smtpd_tls_security_level=encrypt");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Allow clear text", Exact = true }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("putting the service back", new() { Timeout = 30_000 });
        await close.ClickAsync();
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Require TLS: postfix" })).ToBeVisibleAsync(new() { Timeout = 20_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A6d_the_lowest_version_is_raised_and_the_service_itself_looks()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts/mail01.thistledown.example");
        var dialog = page.GetByRole(AriaRole.Dialog);
        var close = dialog.GetByRole(AriaRole.Button, new() { Name = "Close" }).Last;
        await page.GetByRole(AriaRole.Button, new() { Name = "Require TLS: postfix" }).ClickAsync();
        await dialog.GetByText("TLS 1.3 at least").ClickAsync();
        await Expect(dialog.Locator(".diff .added").First).ToContainTextAsync("!TLSv1.2");
        await Expect(dialog.GetByText("know nothing newer than TLS 1.2 lose it")).ToBeVisibleAsync();
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Require TLS", Exact = true }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("no version below TLS 1.3", new() { Timeout = 30_000 });
        await close.ClickAsync();
        await Expect(page.GetByText("TLS 1.3 at least, set from here")).ToBeVisibleAsync(new() { Timeout = 20_000 });

        await page.GetByRole(AriaRole.Button, new() { Name = "Look now: postfix" }).ClickAsync();
        await dialog.GetByText("seen from the service itself").ClickAsync();
        await Expect(dialog.GetByText("beacon look", new() { Exact = false })).ToContainTextAsync("--from-service");
        await Expect(dialog.GetByText("takes TLS 1.3")).ToBeVisibleAsync(new() { Timeout = 20_000 });
        await Expect(dialog.GetByText("without TLS: mail can be read")).ToBeVisibleAsync();
        await close.ClickAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "Allow old versions: postfix" }).ClickAsync();
        await Expect(dialog.GetByText("Versions below TLS 1.3 are taken again")).ToBeVisibleAsync();
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Allow old versions", Exact = true }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("putting the service back", new() { Timeout = 30_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A6e_mail_is_one_table_with_what_DNS_says()
    {
        var (page, errors) = await _browser.SignedInAsync("/mail");
        var other = page.Locator("tr", new() { HasTextString = "Server to server" });
        await Expect(other).ToContainTextAsync("mail01/postfix");
        await Expect(other).ToContainTextAsync("mail.thistledown.example");
        await Expect(other).ToContainTextAsync("matches", new() { Timeout = 20_000 });
        await Expect(page.Locator("tr", new() { HasTextString = "IMAP" })).ToContainTextAsync("logins and mail");
        await Expect(page.Locator("tr", new() { HasTextString = "POP" })).ToContainTextAsync("nothing found");
        await Expect(page.GetByText("is the certificate of all of it")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "mail");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A6d_a_refusal_is_explained_and_the_root_pushed_to_who_lacks_it()
    {
        var (page, errors) = await _browser.SignedInAsync("/trust");
        var dialog = page.GetByRole(AriaRole.Dialog);
        var close = dialog.GetByRole(AriaRole.Button, new() { Name = "Close" }).Last;
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Why does a client on" }).FillAsync("WEB02");
        await page.GetByRole(AriaRole.Option, new() { Name = "web02.thistledown.example" }).ClickAsync();
        await page.GetByLabel("refuse").FillAsync("timetable.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Ask" }).ClickAsync();
        await Expect(page.GetByText("The store lacks our root").First).ToBeVisibleAsync(new() { Timeout = 20_000 });
        await Browser.ShotAsync(page, "trust");
        var ours = page.Locator("tr", new() { HasTextString = "(ours)" });
        await Expect(ours).ToContainTextAsync("2 stores");
        await ours.GetByRole(AriaRole.Link).ClickAsync();
        await page.GetByLabel("Which stores").SelectOptionAsync("lacking");
        await Browser.ShotAsync(page, "anchor");
        await page.GetByRole(AriaRole.Button, new() { Name = "push on web02, most programs of the system" }).ClickAsync();
        await Expect(dialog.GetByText("clients with this store accept them afterwards")).ToBeVisibleAsync();
        await Expect(dialog.GetByRole(AriaRole.Button, new() { Name = "Push it" })).ToBeDisabledAsync();
        await dialog.GetByLabel("Reason").FillAsync("the hall's clients");
        await Browser.ShotAsync(page, "trust-push");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Push it" }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("the store trusts it", new() { Timeout = 20_000 });
        await close.ClickAsync();
        await page.GetByLabel("Which stores").SelectOptionAsync("pushed");
        var withdraw = page.GetByRole(AriaRole.Button, new() { Name = "withdraw on web02, most programs of the system" });
        await withdraw.ClickAsync(new() { Timeout = 20_000 });
        await Expect(dialog.GetByText("clients with this store refuse them afterwards")).ToBeVisibleAsync();
        await dialog.GetByLabel("Reason").FillAsync("it was a trial");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Withdraw it" }).ClickAsync();
        await Expect(dialog.GetByTestId("progress")).ToContainTextAsync("what was pushed is taken out", new() { Timeout = 20_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A7_somebody_else_approves()
    {
        var r = world.Demo.Beacon("request", "new", "--host", "web01", "--name", "*.stations.thistledown.example");
        Assert.Equal(6, r.Code);
        var (page, _) = await _browser.SignedInAsync("/", who: "wren");
        await page.GetByRole(AriaRole.Link, new() { NameRegex = new("Look: request") }).ClickAsync();
        await Expect(page.GetByText("waiting for approval")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await Expect(page.GetByTestId("progress")).ToContainTextAsync("in the store of its host", new() { Timeout = 20_000 });
        await page.Context.CloseAsync();
    }

    /// <summary>An approver who keeps no hosts: nothing is offered that would be refused, and each page says why.</summary>
    [Fact]
    public async Task A7b_what_a_person_may_not_do_is_not_offered()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts", who: "wren");
        var pages = page.GetByRole(AriaRole.Navigation, new() { Name = "Pages" });
        await Expect(pages.GetByRole(AriaRole.Link, new() { Name = "Journal" })).ToBeVisibleAsync();
        await Expect(pages.GetByRole(AriaRole.Link, new() { Name = "New certificate" })).ToHaveCountAsync(0);
        await Expect(pages.GetByRole(AriaRole.Link, new() { Name = "People" })).ToHaveCountAsync(0);
        await Expect(page.GetByRole(AriaRole.Note).Filter(new() { HasText = "You may not invite hosts" }))
            .ToContainTextAsync("administrators");
        await Expect(page.GetByRole(AriaRole.Button, new() { NameRegex = new("^Bind a certificate") })).ToHaveCountAsync(0);
        await Browser.ShotAsync(page, "not-offered-hosts");
        await page.GotoAsync("/certificates/" + Booking);
        await Expect(page.GetByRole(AriaRole.Note).Filter(new() { HasText = "You may not renew it" })).ToBeVisibleAsync();
        await Expect(page.GetByRole(AriaRole.Link, new() { Name = "Download chain" })).ToBeVisibleAsync();
        await Expect(page.GetByRole(AriaRole.Button, new() { NameRegex = new("Renew|Revoke") })).ToHaveCountAsync(0);
        await Browser.ShotAsync(page, "not-offered-certificate");
        // Who goes there by its address is told too.
        await page.GotoAsync("/new");
        await Expect(page.GetByRole(AriaRole.Note).Filter(new() { HasText = "You may not request certificates here" })).ToBeVisibleAsync();
        await Expect(page.GetByLabel("Host")).ToHaveCountAsync(0);
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task A8_the_journal_shows_who_did_what()
    {
        var (page, errors) = await _browser.SignedInAsync("/journal");
        await Expect(page.GetByText("request.approved")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "journal");
        await page.GetByLabel("Find entries").FillAsync("wren");
        await Expect(page.Locator("tbody tr").First).ToContainTextAsync("wren");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C1_the_hierarchy_is_seen_healthy_renewed_and_broken()
    {
        var (page, errors) = await _browser.SignedInAsync("/authorities");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look now" }).ClickAsync();
        await Expect(page.GetByText("all 6 addresses give clients what they should")).ToBeVisibleAsync();
        var picture = page.GetByRole(AriaRole.Group, new() { NameRegex = new("^The hierarchy over the years") });
        await Expect(picture.GetByRole(AriaRole.Link)).ToHaveCountAsync(6);
        await Browser.ShotAsync(page, "authorities");

        // The demo's root was sealed at the founding: it gets a folder, and signs the renewed authority, with a new key.
        var demo = world.Demo;
        string One(string pattern) => Directory.EnumerateFiles(Path.Combine(demo.Data, "safe", "take-away"), pattern).Single();
        var (root, carried) = (demo.Scratch["adopted-root"], Directory.CreateDirectory(demo.Scratch["carried"]).FullName);
        void Ceremony(string command)
        {
            var (code, output, error) = Programs.Run(
                "bash",
                [
                    "-c",
                    $"cd {carried} && {Path.Combine(Programs.Root, "out", "cli", "beacon")} ceremony {command} --passphrase-fd 3 3<{One("root-passphrase--*")}",
                ]
            );
            Assert.True(code == 0, output + error);
        }
        var issuing = demo.Scratch.File("issuing.pem", demo.Ok("authority", "show", "issuing", "--pem"));
        Programs.Run("curl", ["-sSf", "-o", demo.Scratch["root.crl"], $"http://localhost:{demo.Port + 1}/crl/root.crl"]);
        Ceremony($"adopt {root} --key {One("root-key--*")} {demo.RootPem} {issuing} {demo.Scratch["root.crl"]}");
        demo.Ok("authority", "renew", "issuing", "--new-key", "ec-p256");
        demo.Ok("authority", "request", "issuing", "--out", Path.Combine(carried, "request.pem"));
        Ceremony($"sign {root} request.pem");
        demo.Ok("authority", "install", "issuing", Directory.EnumerateFiles(Path.Combine(root, "out"), "authority-certificate*").Single());
        demo.Ok("authority", "take-up", "issuing");
        demo.Ok("cert", "renew", "pulse.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look now" }).ClickAsync();
        await Expect(picture.GetByText("generation 2, in use")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "authorities-renewed");

        // The older key's file is altered: said with its cure, here and on Today.
        var key = Directory.EnumerateFiles(Path.Combine(demo.Data, "service", "keys"), "issuing--*.key.pem").Order().First();
        var kept = File.ReadAllText(key);
        File.WriteAllText(key, "not a key");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look now" }).ClickAsync();
        await Expect(page.GetByText("does not open with the key-encryption key").First).ToBeVisibleAsync();
        await Expect(page.GetByText("Put both files back from the same backup.").First).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "authorities-broken");
        File.WriteAllText(key, kept);
        await page.GetByRole(AriaRole.Button, new() { Name = "Look now" }).ClickAsync();
        await Expect(page.GetByText("addresses give clients what they should")).ToBeVisibleAsync();
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C2_two_people_approve_amended_names()
    {
        var demo = world.Demo;
        demo.Ok("profile", "copy", "server", "four-eyes", "--title", "Server, two approvals");
        var yaml = demo.Ok("profile", "export", "four-eyes").Replace("approvals: 0", "approvals: 2");
        demo.Ok("profile", "import", demo.Scratch.File("four-eyes.yaml", yaml));
        var csr = demo.Scratch["freight.csr"];
        Programs.OpenSsl(
            $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {demo.Scratch["freight.key"]} -out {csr} -subj /CN=freight.thistledown.example -addext subjectAltName=DNS:freight.thistledown.example,DNS:fraight.thistledown.example"
        );
        Assert.Equal(6, demo.Beacon("request", "new", "--csr", csr, "--profile", "four-eyes").Code);
        var (page, errors) = await _browser.SignedInAsync("/requests", who: "wren");
        await page.GetByRole(AriaRole.Link, new() { Name = "freight.thistledown.example@robin" }).ClickAsync();
        await page.GetByLabel("Names it shall have").FillAsync("freight.thistledown.example");
        await page.GetByLabel("Reason for refusing or amending").FillAsync("The second name was misspelt.");
        await page.GetByRole(AriaRole.Button, new() { Name = "Amend the names" }).ClickAsync();
        await Expect(page.GetByText("wren amended the names: The second name was misspelt.")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await Expect(page.GetByText("1 of 2: wren")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await Expect(page.GetByText("You have approved request")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "approval");
        await page.GotoAsync("/requests");
        await Expect(page.GetByText("1 of 2, amended")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "requests");
        await page.GotoAsync("/profiles/four-eyes");
        await Expect(page.GetByText("approvals: 0 → 2")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "profile");
        await page.GotoAsync("/profiles");
        await Expect(page.GetByRole(AriaRole.Link, new() { Name = "federation-signing" })).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "profiles");
        Assert.Equal(
            ["Failed to load resource: the server responded with a status of 409 (Conflict)"],
            errors.Select(e => e.Replace(" ()", " (Conflict)"))
        );
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C3_a_csr_is_brought_and_its_certificate_taken()
    {
        var demo = world.Demo;
        var csr = demo.Scratch["printer.csr"];
        Programs.OpenSsl(
            $"req -new -newkey rsa:2048 -nodes -keyout {demo.Scratch["printer.key"]} -out {csr} -subj /CN=printer.thistledown.example -addext subjectAltName=DNS:printer.thistledown.example"
        );
        var (page, errors) = await _browser.SignedInAsync("/new");
        await page.GetByRole(AriaRole.Link, new() { Name = "bring a CSR" }).ClickAsync();
        await page.GetByLabel("Certification request, in PEM").FillAsync("not a request");
        await Expect(page.GetByRole(AriaRole.Alert)).ToBeVisibleAsync();
        await page.GetByLabel("Certification request, in PEM").FillAsync("");
        await page.Locator("input[type=file]").SetInputFilesAsync(csr);
        await page.GetByLabel("Names that it lacks").FillAsync("printer.other.example");
        await Expect(page.GetByLabel("Preview")).ToContainTextAsync("It is in no zone that the requester's groups hold.");
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Submit" })).ToBeDisabledAsync();
        await page.GetByLabel("Names that it lacks").FillAsync("copier.thistledown.example");
        await Expect(page.GetByLabel("Preview")).ToContainTextAsync("It would be issued at once.");
        await Browser.ShotAsync(page, "bring-csr");
        await page.GetByRole(AriaRole.Button, new() { Name = "Submit" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Group, new() { Name = "Take it" })).ToBeVisibleAsync();
        var download = await page.RunAndWaitForDownloadAsync(() =>
            page.GetByRole(AriaRole.Link, new() { Name = "Chain, PEM" }).ClickAsync()
        );
        Assert.StartsWith("printer.thistledown.example@robin--20", download.SuggestedFilename);
        Assert.EndsWith("--chain.pem", download.SuggestedFilename);
        var chain = demo.Scratch["printer.pem"];
        await download.SaveAsAsync(chain);
        Programs.OpenSsl($"verify -CAfile {demo.RootPem} -untrusted {chain} {chain}");
        Assert.Contains("copier.thistledown.example", Programs.OpenSsl($"x509 -noout -ext subjectAltName -in {chain}"));
        Assert.All(errors, e => Assert.Contains("400", e));
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C3_an_answer_from_outside_is_brought_and_a_store_is_worked_with()
    {
        var demo = world.Demo;
        var (page, errors) = await _browser.SignedInAsync("/new?host=web02.thistledown.example");
        await page.GetByLabel("Name 1", new() { Exact = true }).FillAsync("lounge.thistledown.example");
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Signed by" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "Harbour Trust" }).ClickAsync();
        await Expect(page.GetByLabel("Preview")).ToContainTextAsync("as harbour decides");
        await page.GetByRole(AriaRole.Button, new() { Name = "Submit" }).ClickAsync();
        await Expect(page.GetByText("1. Hand in the CSR at Harbour Trust")).ToBeVisibleAsync();
        var csr = await page.GetByLabel("CSR", new() { Exact = true }).InnerTextAsync();
        await Browser.ShotAsync(page, "outside");
        var answer = demo.Scratch["answer"];
        var (code, _, error) = Programs.Run(Path.Combine(demo.Data, "harbour", "sign"), [demo.Scratch.File("lounge.csr", csr), answer]);
        Assert.True(code == 0, error);
        var files = page.Locator("input[type=file]");
        await files.SetInputFilesAsync(demo.Scratch.File("hello.txt", "hello"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Bring it" }).ClickAsync();
        await Expect(page.GetByText("There is no certificate in hello.txt")).ToBeVisibleAsync();
        await files.SetInputFilesAsync(Directory.GetFiles(answer));
        await page.GetByRole(AriaRole.Button, new() { Name = "Bring it" }).ClickAsync();
        await Expect(page.GetByText("issued", new() { Exact = true })).ToBeVisibleAsync();

        // A pair that was made elsewhere, sealed by this browser and opened by the agent; and back again.
        var words = demo.Scratch.File("words", "five quiet words of siskin");
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {demo.Scratch["gate.key"]} -out {demo.Scratch["gate.pem"]} -days 30 -subj /CN=gate.thistledown.example"
        );
        Programs.OpenSsl(
            $"pkcs12 -export -inkey {demo.Scratch["gate.key"]} -in {demo.Scratch["gate.pem"]} -out {demo.Scratch["gate.p12"]} -passout file:{words}"
        );
        await page.GotoAsync("/hosts/web02.thistledown.example");
        var store = page.GetByLabel("Store", new() { Exact = true });
        await page.GetByRole(AriaRole.Button, new() { Name = "Import…" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Import", Exact = true })).ToBeDisabledAsync();
        await page.Locator("input[type=file]").SetInputFilesAsync(demo.Scratch["gate.p12"]);
        await page.Locator("input[type=password]").FillAsync("five quiet words of siskin");
        await page.GetByLabel("Label", new() { Exact = true }).FillAsync("ticket gate");
        await page.GetByLabel("Its key may leave this host again").CheckAsync();
        await Browser.ShotAsync(page, "import");
        await page.GetByRole(AriaRole.Button, new() { Name = "Import", Exact = true }).ClickAsync();
        var row = store.GetByRole(AriaRole.Row).Filter(new() { HasText = "ticket gate" });
        await Expect(row).ToContainTextAsync("may leave");
        await store.ScrollIntoViewIfNeededAsync();
        await Browser.ShotAsync(page, "host");
        await row.GetByRole(AriaRole.Button, new() { Name = "Do something with gate" }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Export…" }).ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Form" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "PKCS#12 with the key", Exact = true }).ClickAsync();
        await page.Locator("input[type=password]").FillAsync("other quiet words");
        var download = await page.RunAndWaitForDownloadAsync(() =>
            page.GetByRole(AriaRole.Button, new() { Name = "Export", Exact = true }).ClickAsync()
        );
        await download.SaveAsAsync(demo.Scratch["taken.p12"]);
        Assert.Contains(
            "ticket gate",
            Programs.OpenSsl(
                $"pkcs12 -in {demo.Scratch["taken.p12"]} -passin file:{demo.Scratch.File("other", "other quiet words")} -nodes"
            )
        );
        await row.GetByRole(AriaRole.Button, new() { Name = "Do something with gate" }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Delete it with its key…" }).ClickAsync();
        await page.GetByLabel("Delete the key of serial", new() { Exact = false }).CheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Delete it", Exact = true }).ClickAsync();
        await Expect(row).ToHaveCountAsync(0);
        // The one refusal that was meant.
        Assert.All(errors, e => Assert.Contains("400", e));
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C4_people_are_kept_and_the_password_is_asked_for_again()
    {
        var (page, errors) = await _browser.SignedInAsync("/people");
        var row = page.GetByRole(AriaRole.Row).Filter(new() { HasText = "siskin" });
        // As it is after five minutes: the service wants the password again before it takes the call.
        var isFirst = true;
        await page.RouteAsync(
            "**/api/v1/people",
            async route =>
            {
                if (route.Request.Method != "POST" || !isFirst)
                {
                    await route.ContinueAsync();
                    return;
                }
                isFirst = false;
                await route.FulfillAsync(
                    new()
                    {
                        Status = 403,
                        ContentType = "application/problem+json",
                        Body = """{"code":"sign-in-again","detail":"It wants your password again.","cure":"Give it."}""",
                    }
                );
            }
        );
        await page.GetByRole(AriaRole.Button, new() { Name = "Add a person" }).ClickAsync();
        var form = page.GetByRole(AriaRole.Dialog, new() { Name = "Add a person" });
        await form.GetByLabel("Name").FillAsync("siskin");
        await form.Locator("input[type=password]").FillAsync("five quiet words of siskin");
        await form.GetByRole(AriaRole.Button, new() { Name = "Save" }).ClickAsync();
        var again = page.GetByRole(AriaRole.Dialog, new() { Name = "Your password again" });
        await again.Locator("input[type=password]").FillAsync("not the password");
        await again.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(again.GetByRole(AriaRole.Alert)).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "password-again");
        await again.Locator("input[type=password]").FillAsync(world.Demo.Password("robin"));
        await again.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(row).ToContainTextAsync("may sign in");

        await page.GetByRole(AriaRole.Button, new() { Name = "Groups of siskin" }).ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Groups" }).FillAsync("approvers");
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Button, new() { Name = "Save" }).ClickAsync();
        await Expect(row).ToContainTextAsync("approvers");
        await Browser.ShotAsync(page, "people");
        await page.GetByRole(AriaRole.Button, new() { Name = "siskin leaves" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "End their access" }).ClickAsync();
        await Expect(row).ToContainTextAsync("left on");
        // The simulated refusal and the wrong password, as meant.
        Assert.All(errors, e => Assert.Matches("40[13]", e));
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C5_a_profile_is_copied_and_changed_with_what_would_change_before_it()
    {
        var (page, errors) = await _browser.SignedInAsync("/profiles/server");
        await page.GetByRole(AriaRole.Button, new() { Name = "Copy …" }).ClickAsync();
        var copy = page.GetByRole(AriaRole.Dialog, new() { Name = "Copy server" });
        await copy.GetByLabel("Its id").FillAsync("depot");
        await copy.GetByLabel("Its title").FillAsync("Server in a depot");
        await copy.GetByRole(AriaRole.Button, new() { Name = "Copy", Exact = true }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Server in a depot" })).ToBeVisibleAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "Change …" }).ClickAsync();
        var edit = page.GetByRole(AriaRole.Dialog, new() { Name = "Change depot" });
        var file = edit.GetByLabel("The profile's file");
        var yaml = await file.InputValueAsync();
        await file.FillAsync(yaml.Replace("approvals: 0", "approvals: 7"));
        await Expect(edit.GetByRole(AriaRole.Alert)).ToContainTextAsync("0, 1 or 2");
        await Expect(edit.GetByRole(AriaRole.Button, new() { Name = "Save" })).ToBeDisabledAsync();
        await file.FillAsync(yaml.Replace("approvals: 0", "approvals: 1"));
        await Expect(edit.GetByText("approvals: 0 → 1")).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "profile-change");
        await edit.GetByRole(AriaRole.Button, new() { Name = "Save" }).ClickAsync();
        await Expect(page.GetByText("depot, revision 2, offered")).ToBeVisibleAsync();
        Assert.Contains("approvals: 1", world.Demo.Ok("profile", "export", "depot"));
        // What was typed and is not right, as meant.
        Assert.All(errors, e => Assert.Contains("422", e));
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C6_a_service_is_looked_at_its_renewal_changed_and_a_host_revoked()
    {
        var (page, errors) = await _browser.SignedInAsync("/hosts/web02.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look now: parcels.thistledown.example" }).ClickAsync();
        var look = page.GetByRole(AriaRole.Dialog);
        await Expect(look.GetByText("clients do not accept it")).ToBeVisibleAsync(new() { Timeout = 20_000 });
        await Browser.ShotAsync(page, "look-now");
        await look.GetByRole(AriaRole.Button, new() { Name = "Close" }).Last.ClickAsync();

        await page.GotoAsync($"/certificates/pulse.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Renewal …" }).ClickAsync();
        var policy = page.GetByRole(AriaRole.Dialog);
        await policy.GetByLabel("After this part of its life").FillAsync("50");
        await policy.GetByRole(AriaRole.Button, new() { Name = "Save" }).ClickAsync();
        await Expect(policy).ToHaveCountAsync(0);
        Assert.Contains("renew after 0.5", world.Demo.Ok("journal", "list", "policy"));

        // Counted and named; nothing is revoked by looking.
        await page.GotoAsync("/certificates");
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke several …" }).ClickAsync();
        var several = page.GetByRole(AriaRole.Dialog);
        await several.GetByLabel("Host", new() { Exact = true }).FillAsync("web01");
        await several.GetByRole(AriaRole.Button, new() { Name = "Show which" }).ClickAsync();
        await Expect(several.GetByRole(AriaRole.Status)).ToContainTextAsync("pulse.thistledown.example");
        await Browser.ShotAsync(page, "revoke-several");
        await several.GetByRole(AriaRole.Button, new() { Name = "Leave them" }).ClickAsync();
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C7_requests_are_composed_from_what_they_are_for()
    {
        var (page, errors) = await _browser.SignedInAsync("/new?host=mail01.thistledown.example");
        var purpose = page.GetByRole(AriaRole.Combobox, new() { Name = "Purpose" });
        async Task ForAsync(string what)
        {
            await purpose.ClickAsync();
            await page.GetByRole(AriaRole.Option, new() { Name = what, Exact = true }).ClickAsync();
        }
        await ForAsync("mail for a domain");
        var propose = page.GetByRole(AriaRole.Button, new() { Name = "Propose names" });
        await Expect(propose).ToBeDisabledAsync();
        await Expect(page.GetByText("The domain is missing.")).ToBeVisibleAsync();
        await page.GetByLabel("Domain behind the @").FillAsync("thistledown.example");
        await page.GetByLabel("programs find their settings").CheckAsync();
        await page.GetByLabel("other organisations deliver").CheckAsync();
        await propose.ClickAsync();
        var names = page.GetByLabel("Proposed names");
        await Expect(names).ToContainTextAsync("autoconfig.thistledown.example");
        await Expect(names.GetByRole(AriaRole.Checkbox, new() { NameRegex = new("^imap.thistledown") })).ToBeCheckedAsync();
        await Expect(names.GetByRole(AriaRole.Checkbox, new() { NameRegex = new("^webmail.thistledown") })).Not.ToBeCheckedAsync();
        await Browser.ShotAsync(page, "new-certificate");
        await page.GetByRole(AriaRole.Button, new() { Name = "Take these 4 names" }).ClickAsync();
        await Expect(page.GetByLabel("Name 1", new() { Exact = true })).ToHaveValueAsync("mail.thistledown.example");
        await Expect(page.GetByLabel("Preview")).ToContainTextAsync("autodiscover.thistledown.example");

        // One site of several is meant.
        await page.GotoAsync("/new?host=web01.thistledown.example");
        await ForAsync("a web site");
        await Expect(page.GetByText("Choose the site:")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Its site" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "timetable.thistledown.example" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Take these 2 names" })).ToBeVisibleAsync();

        await page.GotoAsync("/new?host=web02.thistledown.example");
        await ForAsync("several services under one certificate");
        await page.GetByRole(AriaRole.Button, new() { Name = "Take these 2 names" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Submit" }).ClickAsync();
        await Expect(page.GetByTestId("progress"))
            .ToContainTextAsync("serving: parcels.thistledown.example, staff.thistledown.example", new() { Timeout = 30_000 });
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task C8_the_fleets_stores_are_searched_and_the_domain_is_asked()
    {
        var (page, errors) = await _browser.SignedInAsync("/stores");
        await Expect(page.GetByRole(AriaRole.Cell, new() { Name = "pulse.thistledown.example" }).First).ToBeVisibleAsync();
        await page.GetByLabel("Find in all stores").FillAsync("pul");
        await Expect(page.Locator("tbody tr").Filter(new() { HasNotText = "pulse" })).ToHaveCountAsync(0);
        await page.GetByLabel("Issuer", new() { Exact = true }).FillAsync("Somebody Else");
        await Expect(page.GetByText("No host has such a certificate or key.")).ToBeVisibleAsync();
        await page.GetByLabel("Issuer", new() { Exact = true }).FillAsync("Thistledown Rail Issuing");
        await Expect(page.GetByRole(AriaRole.Cell, new() { Name = "pulse.thistledown.example" }).First).ToBeVisibleAsync();
        await Browser.ShotAsync(page, "stores");

        await page.GetByRole(AriaRole.Link, new() { Name = "Domain" }).ClickAsync();
        await Expect(page.GetByText("directory.yaml")).ToBeVisibleAsync();
        await page.GetByLabel("Name or address").FillAsync("mail.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Find" }).ClickAsync();
        await Expect(page.GetByText("mail.thistledown.example → mail01.thistledown.example")).ToBeVisibleAsync();
        await Expect(page.GetByText("MAIL01$")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Ask anew" }).ClickAsync();
        await Browser.ShotAsync(page, "domain");
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task B3_a_hold_is_set_and_released()
    {
        var (page, errors) = await _browser.SignedInAsync("/certificates/staff.thistledown.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke …" }).ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Reason" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "hold" }).ClickAsync();
        await Expect(page.GetByText("A hold can be released again.")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke", Exact = true }).ClickAsync();
        await Expect(page.Locator("td", new() { HasTextString = "on hold" })).ToBeVisibleAsync();
        Assert.Contains("on hold", world.Demo.Ok("cert", "show", "staff.thistledown.example"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Release hold" }).ClickAsync();
        await Expect(page.Locator("td", new() { HasTextString = "on hold" })).ToHaveCountAsync(0);
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Release hold" })).ToHaveCountAsync(0);
        Assert.Empty(errors);
        await page.Context.CloseAsync();
    }

    [Theory]
    [InlineData("/")]
    [InlineData("/certificates")]
    [InlineData("/certificates/booking.thistledown.example")]
    [InlineData("/new?host=web02.thistledown.example&service=parcels.thistledown.example")]
    [InlineData("/hosts")]
    [InlineData("/hosts/web01.thistledown.example")]
    [InlineData("/journal")]
    [InlineData("/people")]
    [InlineData("/requests/1")]
    [InlineData("/requests")]
    [InlineData("/new/csr")]
    [InlineData("/authorities")]
    [InlineData("/stores")]
    [InlineData("/sweeps")]
    [InlineData("/mail")]
    [InlineData("/trust")]
    [InlineData("/domain")]
    [InlineData("/profiles")]
    [InlineData("/profiles/server")]
    public async Task A9_pages_have_no_accessibility_faults(string path)
    {
        foreach (var scheme in new[] { ColorScheme.Light, ColorScheme.Dark })
        {
            var (page, _) = await _browser.SignedInAsync(path, scheme);
            await Expect(page.GetByTestId("live")).ToHaveTextAsync("● live");
            if (path == "/" && scheme == ColorScheme.Dark)
                await Browser.ShotAsync(page, "today-night");
            // A narrow window too: what no longer fits is reached by the keyboard.
            if (scheme == ColorScheme.Dark)
                await page.SetViewportSizeAsync(820, 800);
            await page.WaitForTimeoutAsync(500);
            var result = await page.RunAxe();
            Assert.True(
                result.Violations.Length == 0,
                $"{path} {scheme}: "
                    + string.Join(
                        "\n",
                        result.Violations.Select(v => $"{v.Id}: {v.Help} @ {string.Join(" | ", v.Nodes.Select(n => n.Html))}")
                    )
            );
            await page.Context.CloseAsync();
        }
    }

    [Fact]
    public async Task B1_a_narrow_window_stacks()
    {
        var (page, _) = await _browser.SignedInAsync("/", width: 420);
        var wide = await page.EvaluateAsync<int>("document.documentElement.scrollWidth");
        Assert.True(wide <= 420, $"the page is {wide} wide");
        await page.Context.CloseAsync();
    }

    [Fact]
    public async Task B2_the_policy_holds_and_the_first_page_is_small()
    {
        var page = await _browser.PageAsync();
        var bytes = 0L;
        page.Response += (_, r) =>
        {
            if (r.Url.EndsWith(".js", StringComparison.Ordinal))
                bytes += File.ReadAllBytes(
                    Path.Combine(Programs.Root, "out", "service", "wwwroot", new Uri(r.Url).AbsolutePath.TrimStart('/')) + ".gz"
                )
                    is { } b
                    ? b.Length
                    : 0;
        };
        var answer = await page.GotoAsync("/sign-in");
        Assert.Contains("script-src 'self'", (await answer!.AllHeadersAsync())["content-security-policy"]);
        Assert.DoesNotContain("unsafe", (await answer.AllHeadersAsync())["content-security-policy"]);
        await page.EvaluateAsync(
            "() => { const s = document.createElement('script'); s.textContent = 'window.bad = 1'; document.body.append(s); }"
        );
        Assert.True(await page.EvaluateAsync<bool>("window.bad === undefined"));
        await page.GetByLabel("Name").FillAsync("robin");
        await page.Locator("input[type=password]").FillAsync(world.Demo.Password("robin"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in" }).ClickAsync();
        await page.Locator("h2").First.WaitForAsync();
        Assert.InRange(bytes, 20_000, 250_000);
        await page.Context.CloseAsync();
    }
}
