using System.Collections.Concurrent;
using System.Text.Json;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Interop.Tests;

/// <summary>The story of the demo, driven by the client; openssl judges. In order: each chapter goes on from the one before.</summary>
[TestMethodOrderer(typeof(ByName))]
public sealed class StoryTests(DemoWorld demo) : IClassFixture<DemoWorld>
{
    private const string Timetable = "timetable.thistledown.example";
    private const string Pulse = "pulse.thistledown.example";

    private Today Status() => JsonSerializer.Deserialize(demo.Ok("status", "--json"), BeaconJson.Default.Today)!;

    private CertificateDetail Show(string name) =>
        JsonSerializer.Deserialize(demo.Ok("cert", "show", name, "--json"), BeaconJson.Default.CertificateDetail)!;

    private string SClient(string name, string address, string more = "") =>
        Programs
            .Run(
                "openssl",
                [
                    .. $"s_client -connect {address}:{demo.TlsPort} -servername {name} -verify_hostname {name} -CAfile {demo.RootPem} -verify_return_error {more}".Split(
                        ' ',
                        StringSplitOptions.RemoveEmptyEntries
                    ),
                ],
                []
            )
            .Output;

    [Fact]
    public void A1_the_seven_problems_are_shown_with_reason_and_cure()
    {
        var concerns = Status().Concerns;
        Assert.Equal(
            [
                "db01/postgresql plain-only",
                "mail01/dovecot plain-only",
                "mail01/postfix plain-only",
                "web01/booking.thistledown.example plain-only",
                "web01/timetable.thistledown.example ends-soon",
                "web02/parcels.thistledown.example self-signed",
                "web02/staff.thistledown.example common-name-only",
            ],
            concerns.Select(c => $"{c.About} {OpenWord<ConcernKind>.WordOf(c.Kind)}").Order()
        );
        Assert.All(
            concerns,
            c =>
            {
                Assert.NotEmpty(c.Reason);
                Assert.NotEmpty(c.Cure);
                Assert.NotEmpty(c.Command!);
            }
        );
        Assert.Equal(concerns.OrderByDescending(c => c.Severity).Select(c => c.About), concerns.Select(c => c.About));
        var text = demo.Ok("status");
        Assert.Contains("7 things need a hand.", text);
        Assert.Contains("beacon request new --host web01 --name booking.thistledown.example", text);
        // Both daemons of the mail host are called by one name: one certificate for both.
        Assert.Contains("--name mail.thistledown.example --bind-to dovecot --bind-to postfix", text.ReplaceLineEndings(" "));
        var look = demo.Beacon("look", "staff.thistledown.example");
        Assert.Equal(1, look.Code);
        Assert.Contains("only in its common name", look.Output);
    }

    [Fact]
    public async Task A2_another_site_is_requested_and_bound_by_the_client()
    {
        var preview = demo.Ok("request", "new", "--host", "web01", "--name", Timetable, "--name", "times.thistledown.example", "--preview");
        Assert.Contains("Nothing was submitted", preview);
        Assert.Contains("ec-p256", preview);
        // What is there is replaced knowingly.
        var over = demo.Ok("request", "new", "--host", "web01", "--name", Timetable, "--bind-to", Timetable, "--preview");
        Assert.Matches($"web01/{Timetable} serves .*{Timetable}.* of .* now, until .*: it is replaced", over.ReplaceLineEndings(" "));
        Assert.Equal(5, demo.Beacon("cert", "show", Timetable).Code);
        demo.Ok("request", "new", "--host", "web01", "--name", Timetable, "--name", "times.thistledown.example");
        var plan = demo.Ok("bind", Timetable, "--to", "web01/" + Timetable, "--preview");
        Assert.Contains("-    ssl_certificate ", plan);
        Assert.Contains("Nothing was changed", plan);
        var before = Show(Timetable).Certificate.Serial!;
        Assert.Contains("Clients accept it", demo.Ok("bind", Timetable, "--to", "web01/" + Timetable));
        var seen = SClient(Timetable, demo.Web01);
        Assert.Contains("Verify return code: 0 (ok)", seen);
        Assert.Equal(before, (await demo.HandshakeAsync(Timetable, demo.Web01)).SerialNumber);
        Assert.DoesNotContain(Status().Concerns, c => c.About.Contains(Timetable));
        // The key never left the host: it is in its store alone, for its account alone.
        var key = Directory
            .EnumerateFiles(Path.Combine(demo.Data, "web01", "agent", "store", "keyed"), "key.pem", SearchOption.AllDirectories)
            .Single(f => f.Contains(before));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(key));
        var gnutls = Programs.Run(
            "gnutls-cli",
            [
                "--x509cafile",
                demo.RootPem,
                "--sni-hostname",
                Timetable,
                "--verify-hostname",
                Timetable,
                "-p",
                demo.TlsPort.ToString(),
                demo.Web01,
            ],
            []
        );
        Assert.Contains("The certificate is trusted", gnutls.Output);
    }

    [Fact]
    public async Task A2b_one_mail_certificate_over_two_servers_while_mail_is_sent_and_read()
    {
        const string mail = "mail.thistledown.example";
        string[] uses = ["submission", "imap", "server-to-server"];
        var composed = demo.Ok([
            "request",
            "compose",
            "--for",
            "mail",
            "--host",
            "mail01",
            "--domain",
            "thistledown.example",
            .. uses.SelectMany(u => new[] { "--function", u }),
        ]);
        Assert.Contains($"--name {mail}", composed.ReplaceLineEndings(" "));
        Assert.Contains("--bind-to dovecot --bind-to postfix", composed.ReplaceLineEndings(" "));
        // DNS has the record of a key that was lost: it is said before anything is served there.
        Assert.Contains("DNS promises TLS there, and none is served", demo.Ok("mail").ReplaceLineEndings(" "));
        demo.Ok("request", "new", "--host", "mail01", "--name", mail, "--bind-to", "postfix", "--bind-to", "dovecot");
        // The way in is told by the host's next report, soon after the swap.
        await WaitAsync(() => demo.Ok("service", "show", "mail01/postfix").Contains("SMTP with STARTTLS"), "STARTTLS is not told");
        using var stop = new CancellationTokenSource();
        var mails = 0;
        var mailing = Task.Run(() => MailUntil(stop.Token, ref mails), TestContext.Current.CancellationToken);
        var (looks, refusals) = (0, new List<string>());
        var looking = Task.Run(() => DaneUntil(stop.Token, mail, ref looks, refusals), TestContext.Current.CancellationToken);
        var before = Show(mail).Certificate.Serial!;
        demo.Ok("cert", "renew", mail);
        var after = Show(mail).Certificate.Serial!;
        Assert.NotEqual(before, after);
        foreach (
            var (port, way) in new[]
            {
                (demo.MailPorts[0], "smtp"),
                (demo.MailPorts[1], "smtp"),
                (demo.MailPorts[2], "imap"),
                (demo.MailPorts[3], null),
            }
        )
            Assert.Contains("Verify return code: 0 (ok)", SClientBy(mail, demo.Mail01, port, way));
        // As many as a slow machine manages; some went before, during and after.
        await WaitAsync(() => Volatile.Read(ref mails) > 3 || mailing.IsCompleted, "no mail was taken and read");
        await stop.CancelAsync();
        await mailing;
        await looking;
        Assert.True(looks > 3 && refusals.Count == 0, $"{looks} looks; {string.Join('\n', refusals)}");
        // What DNS has at the end: the key in use, and the record that nobody here knows.
        await WaitAsync(() => Show(mail).Certificate.Rollover is null, "the records before were not removed");
        Assert.Equal(2, TlsaOf(mail).Count);
        Assert.Contains("matches", demo.Ok("mail"));
        Assert.Contains("accept it", demo.Ok("look", $"{mail}:{demo.MailPorts[1]}"));

        // A fault in either leaves both as they were.
        File.AppendAllText(Path.Combine(demo.Data, "mail01/dovecot/conf.d/10-ssl.conf"), "no_such_setting = 1\n");
        var failed = demo.Beacon("cert", "renew", mail);
        Assert.NotEqual(0, failed.Code);
        Assert.Contains("no_such_setting", failed.Output + failed.Error);
        Assert.Contains("Verify return code: 0 (ok)", SClientBy(mail, demo.Mail01, demo.MailPorts[0], "smtp"));
        var conf = Path.Combine(demo.Data, "mail01/dovecot/conf.d/10-ssl.conf");
        File.WriteAllText(conf, File.ReadAllText(conf).Replace("no_such_setting = 1\n", ""));
        demo.Ok("cert", "renew", mail);
    }

    /// <summary>The TLSA records of the port that other mail servers come to, as an independent program reads them.</summary>
    private List<string> TlsaOf(string name) =>
        [
            .. Programs
                .Run("kdig", [$"@{demo.Names}", "-p", "5300", "+short", $"_{demo.MailPorts[0]}._tcp.{name}", "TLSA"])
                .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Select(l => string.Join(' ', l.Split(' ')[..3]) + " " + string.Concat(l.Split(' ')[3..])),
        ];

    /// <summary>Another organisation's mail server, which goes by DNS alone (RFC 7672) and keeps what it was told for as long as it may; openssl judges.</summary>
    private void DaneUntil(CancellationToken stop, string name, ref int looks, List<string> refusals)
    {
        var life = TimeSpan.FromSeconds(5);
        var (kept, since) = (TlsaOf(name), System.Diagnostics.Stopwatch.StartNew());
        for (; !stop.IsCancellationRequested; looks++)
        {
            if (since.Elapsed > life)
                (kept, since) = (TlsaOf(name), System.Diagnostics.Stopwatch.StartNew());
            var (_, output, error) = Programs.Run(
                "openssl",
                [
                    "s_client",
                    "-connect",
                    $"{demo.Mail01}:{demo.MailPorts[0]}",
                    "-starttls",
                    "smtp",
                    "-dane_tlsa_domain",
                    name,
                    .. kept.SelectMany(r => new[] { "-dane_tlsa_rrdata", r }),
                ],
                "QUIT\r\n"u8.ToArray()
            );
            if (!output.Contains("Verification: OK"))
                refusals.Add($"{string.Join(", ", kept)}: {output}{error}");
        }
    }

    /// <summary>Submits and reads by TLS, trusting the root alone.</summary>
    /// <param name="sent">The number of messages so far.</param>
    private void MailUntil(CancellationToken stop, ref int sent)
    {
        string[] trust = ["-sS", "--ssl-reqd", "--cacert", demo.RootPem];
        for (; !stop.IsCancellationRequested; sent++)
        {
            string[] submit =
            [
                .. trust,
                "--connect-to",
                $"mail.thistledown.example:587:{demo.Mail01}:{demo.MailPorts[1]}",
                "smtp://mail.thistledown.example:587",
                "--mail-from",
                "wren@thistledown.example",
                "--mail-rcpt",
                "robin@thistledown.example",
                "-T",
                "-",
            ];
            var (code, _, error) = Programs.Run("curl", submit, "Subject: hello\r\n\r\nhello\r\n"u8.ToArray());
            Assert.True(code == 0, $"after {sent}: {error}");
            string[] read =
            [
                .. trust,
                "--retry",
                "2",
                "--retry-all-errors",
                "-u",
                "robin:" + demo.Password("robin"),
                "--connect-to",
                $"mail.thistledown.example:143:{demo.Mail01}:{demo.MailPorts[2]}",
                "imap://mail.thistledown.example:143/",
            ];
            (code, _, error) = Programs.Run("curl", read);
            Assert.True(code == 0, $"after {sent}: {error}");
        }
    }

    [Fact]
    public void A2c_the_database_gets_its_certificate()
    {
        const string db = "db.thistledown.example";
        demo.Ok("request", "new", "--host", "db01", "--name", db, "--bind-to", "postgresql");
        Assert.Contains("Verify return code: 0 (ok)", SClientBy(db, demo.Db01, demo.DatabasePort, "postgres"));
        Assert.Contains("queries can be read", demo.Ok("service", "show", "db01/postgresql").ReplaceLineEndings(" "));
    }

    private string SClientBy(string name, string address, int port, string? startTls)
    {
        string[] way = startTls is null ? [] : ["-starttls", startTls];
        return Programs
            .Run(
                "openssl",
                [
                    "s_client",
                    "-connect",
                    $"{address}:{port}",
                    "-servername",
                    name,
                    "-verify_hostname",
                    name,
                    "-CAfile",
                    demo.RootPem,
                    .. way,
                ],
                []
            )
            .Output;
    }

    [Fact]
    public async Task A3_pulse_renews_itself_and_is_never_served_wrong()
    {
        // The same life, quicker: the next edition lives 30 seconds.
        demo.Ok("request", "new", "--host", "web01", "--name", Pulse, "--profile", "server-brief", "--life", "30s");
        var seen = new ConcurrentDictionary<string, int>();
        var faults = new ConcurrentBag<string>();
        var until = DateTimeOffset.UtcNow.AddSeconds(100);
        while (DateTimeOffset.UtcNow < until && seen.Count < 5)
        {
            try
            {
                using var c = await demo.HandshakeAsync(Pulse, demo.Web01);
                seen.AddOrUpdate(c.SerialNumber, 1, (_, n) => n + 1);
                if (c.NotAfter < DateTime.Now || c.NotBefore > DateTime.Now)
                    faults.Add($"{c.SerialNumber} was served outside its life");
            }
            catch (Exception e)
            {
                faults.Add(e.Message);
            }
            await Task.Delay(50);
        }
        Assert.Empty(faults);
        Assert.True(seen.Count >= 4, $"only {seen.Count} editions were seen");
        var detail = Show(Pulse);
        Assert.Equal(detail.Editions.Count, detail.Editions.Select(e => e.Serial).Distinct().Count());
        Assert.Equal(detail.Editions.Count, detail.Editions.Select(e => e.KeyFingerprint).Distinct().Count());
        Assert.Contains("hold together", demo.Ok("journal", "verify"));
        // Back to its usual life.
        demo.Ok("request", "new", "--host", "web01", "--name", Pulse, "--profile", "server-brief", "--life", "10m");
    }

    /// <summary>BEACON_KILLS gives more.</summary>
    private static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("BEACON_KILLS"), out var given) ? given : 30;

    [Fact]
    public async Task A4_killed_at_random_points_the_site_always_answers_with_a_valid_pair()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        for (var round = 0; round < Kills; round++)
        {
            demo.Beacon("cert", "renew", Timetable, "--no-wait");
            await Task.Delay(random.Next(0, 350));
            string[] victims = (round % 5) switch
            {
                4 => ["service.pid", "web01/agent.pid"],
                2 => ["service.pid"],
                _ => ["web01/agent.pid"],
            };
            foreach (var v in victims)
                Programs.Run("kill", ["-9", File.ReadAllText(Path.Combine(demo.Data, v)).Trim()]);
            // At once, and again when everything has come back.
            using (await HandshakeAsync(seed, round)) { }
            await WaitAsync(
                () =>
                    demo.Beacon("cert", "show", Timetable, "--json") is { Code: 0 } r
                    && JsonSerializer.Deserialize(r.Output, BeaconJson.Default.CertificateDetail) is { } d
                    && d.Orders.All(o => o.State is not (OrderState.Queued or OrderState.Taken)),
                $"seed {seed}, round {round}: the order did not end"
            );
            using var after = await HandshakeAsync(seed, round);
        }
        var detail = Show(Timetable);
        Assert.Equal(detail.Editions.Count, detail.Editions.Select(e => e.Serial).Distinct().Count());
        Assert.Equal(detail.Editions.Count, detail.Editions.Select(e => e.KeyFingerprint).Distinct().Count());
        demo.Ok("cert", "renew", Timetable);
        Assert.Equal(Show(Timetable).Certificate.Serial, (await demo.HandshakeAsync(Timetable, demo.Web01)).SerialNumber);
        Assert.Empty(Directory.EnumerateDirectories(Path.Combine(demo.Data, "web01", "agent", "swaps")));
        demo.Ok("journal", "verify");
    }

    private async Task<System.Security.Cryptography.X509Certificates.X509Certificate2> HandshakeAsync(int seed, int round)
    {
        try
        {
            return await demo.HandshakeAsync(Timetable, demo.Web01);
        }
        catch (Exception e)
        {
            throw new InvalidOperationException($"seed {seed}, round {round}: the site did not answer with a valid pair: {e.Message}", e);
        }
    }

    private static async Task WaitAsync(Func<bool> there, string what)
    {
        for (var i = 0; i < 200; i++)
        {
            if (there())
                return;
            await Task.Delay(100);
        }
        Assert.Fail(what);
    }

    [Fact]
    public void A5_a_service_is_put_back_as_it_was()
    {
        var site = Path.Combine(demo.Data, "web01", "sites", "timetable.conf");
        Assert.Contains("in-use/timetable", File.ReadAllText(site));
        Assert.Contains("+    ssl_certificate ", demo.Ok("unbind", "web01/" + Timetable, "--preview"));
        demo.Ok("unbind", "web01/" + Timetable);
        Assert.DoesNotContain("in-use/timetable", File.ReadAllText(site));
        Assert.Contains("Verify return code: 0 (ok)", SClient(Timetable, demo.Web01));
        demo.Ok("bind", Timetable, "--to", "web01/" + Timetable);
    }

    [Fact]
    public async Task A6_a_revoked_edition_is_replaced_by_itself()
    {
        var old = Show(Timetable).Certificate.Serial!;
        demo.Ok("cert", "revoke", Timetable, "--reason", "key-compromise");
        await WaitAsync(() => Show(Timetable).Certificate is { State: "serving" } c && c.Serial != old, "no successor came");
        Assert.NotEqual(old, (await demo.HandshakeAsync(Timetable, demo.Web01)).SerialNumber);
        using var http = new HttpClient();
        var crl = demo.Scratch.File("a.crl", await http.GetByteArrayAsync($"http://127.0.0.1:{demo.Port + 1}/crl/issuing.crl"));
        Assert.Contains(old, Programs.OpenSsl($"crl -inform DER -in {crl} -noout -text"));
    }

    [Fact]
    public async Task A7_a_failing_swap_leaves_everything_says_why_and_recovers()
    {
        var site = Path.Combine(demo.Data, "web01", "sites", "timetable.conf");
        var good = File.ReadAllText(site);
        var serial = Show(Timetable).Certificate.Serial;
        File.WriteAllText(site, good.Replace("root ", "no_such_directive; root "));
        var (code, output, _) = demo.Beacon("cert", "renew", Timetable);
        Assert.Equal(1, code);
        Assert.Contains("no_such_directive", output);
        Assert.Contains("before any change", output);
        Assert.Contains(Status().Concerns, c => c.About == Timetable && c.Severity == Severity.Failed);
        Assert.Equal(serial, (await demo.HandshakeAsync(Timetable, demo.Web01)).SerialNumber);
        File.WriteAllText(site, good);
        demo.Ok("cert", "renew", Timetable);
        Assert.DoesNotContain(Status().Concerns, c => c.About == Timetable);
    }

    [Fact]
    public async Task A8_ctrl_c_leaves_no_process_and_a_second_start_goes_on()
    {
        var before = Show(Timetable);
        Assert.NotEmpty(demo.LockHolders());
        Assert.All(demo.LockHolders(), h => Assert.Contains("/demo --data", h));
        await demo.StopAsync();
        Assert.Empty(demo.Processes());
        await demo.StartAsync();
        var after = Show(Timetable);
        Assert.Equal(before.Certificate.Serial, after.Certificate.Serial);
        Assert.Equal(before.Certificate.Serial, (await demo.HandshakeAsync(Timetable, demo.Web01)).SerialNumber);
        demo.Ok("journal", "verify");
    }
}
