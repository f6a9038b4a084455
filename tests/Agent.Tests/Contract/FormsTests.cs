using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Dovecot;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Connectors.PostgreSql;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Configurations as they are found in real life: read, planned, and left alone where they are not understood. One case a line of files.</summary>
public sealed class FormsTests
{
    private static readonly UsedFiles Ours = new("/store/in-use/mail/pair/certificates.pem", "/store/in-use/mail/pair/key.pem");

    private const string Master = "smtp inet n - y - - smtpd\n";

    private static PostfixConnector Postfix() =>
        new(new("postfix", "postfix", "/etc/server"), new("postfix", "/usr/sbin/postfix", "/etc/server", null));

    private static DovecotConnector Dovecot() =>
        new(new("dovecot", "dovecot", "/etc/server/dovecot.conf"), new("dovecot", "/usr/sbin/dovecot", "/etc/server/dovecot.conf", null));

    private static PostgreSqlConnector PostgreSql() =>
        new(
            new("postgresql", "postgresql", "/etc/server/postgresql.conf"),
            new("postgresql", "/usr/lib/postgresql/15/bin", "/etc/server/postgresql.conf", null) { Host = "db01.thistledown.example" }
        );

    private static string Planned(IConnector c, string service, IFiles files) =>
        string.Join("\n", c.PlanBinding(new(service, Ours, null, ["mail.thistledown.example"]), files).Edits.Select(e => e.After));

    [Fact]
    public void What_a_servers_own_account_may_not_read_is_not_read_for_it()
    {
        using var s = new PostgreSqlServer();
        s.Configure(null);
        var secret = Path.Combine(s.Folder, "secret");
        File.WriteAllText(secret, "root only\n");
        File.SetUnixFileMode(secret, UnixFileMode.UserRead);
        File.AppendAllText(s.MainFile, $"include '{secret}'\n");
        var problem = s.Connector.Discover(s.Connector.Files).Problem!;
        Assert.Contains("cannot be read by the account postgres", problem.Message);
        Assert.DoesNotContain("root only", problem.Message);
        // A pipe in a file's place does not hold the agent up.
        File.WriteAllText(s.MainFile, "port = 5432\ninclude_if_exists 'pipe'\n");
        Programs.Run("mkfifo", [Path.Combine(s.ConfigFolder, "pipe")]);
        Assert.Null(s.Connector.Discover(s.Connector.Files).Problem);
    }

    [Theory]
    // Untouched: back to the byte. Elsewhere edited: only ours goes. Ours replaced by somebody: theirs stays.
    [InlineData("a = 1\nchain = OURS\nb = 2\n", "a = 1\nb = 2\n")]
    [InlineData("a = 9\nchain = OURS\nb = 2\nc = 3\n", "a = 9\nb = 2\nc = 3\n")]
    [InlineData("a = 1\nchain = /theirs\nb = 2\n", "a = 1\nchain = /theirs\nb = 2\n")]
    // Our line, moved or altered, and still naming our files: nothing is done, and the line is named.
    [InlineData("a = 1\n   chain = OURS # mine now\nb = 2\n", null)]
    public void A_binding_is_taken_out_of_what_others_made_of_the_file(string now, string? expected)
    {
        string Filled(string text) => text.Replace("OURS", Ours.Certificates);
        var kept = new FileEdit("/etc/server/main.cf", "a = 1\nb = 2\n", Filled("a = 1\nchain = OURS\nb = 2\n"));
        var files = new WrittenFiles(("main.cf", Filled(now)));
        var bound = new Swap.BoundRecord("postfix", "mail", [kept]);
        if (expected is null)
        {
            var p = Assert.Throws<BeaconProblem>(() => Swap.Bindings.Remove(bound, Ours, files));
            Assert.Contains("# mine now", p.Message);
            Assert.Contains("Nothing was changed", p.Message);
        }
        else
            Assert.Equal(expected, Swap.Bindings.Remove(bound, Ours, files).Edits.SingleOrDefault()?.After ?? now);
    }

    [Fact]
    public async Task A_link_in_a_folder_of_the_servers_account_is_not_followed()
    {
        using var s = new PostgreSqlServer();
        s.Configure(null);
        s.Start();
        var elsewhere = Path.Combine(s.Folder, "elsewhere.conf");
        File.Move(s.MainFile, elsewhere);
        File.CreateSymbolicLink(s.MainFile, elsewhere);
        var before = File.ReadAllText(elsewhere);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => s.BindAsync(s.Bench.Issue(s.Name, s.Name)));
        Assert.Contains("is a link in a folder of another account", p.Message);
        Assert.Equal(before, File.ReadAllText(elsewhere));
    }

    [Theory]
    // As Debian's package writes it.
    [InlineData(
        "smtpd_tls_cert_file=/etc/ssl/snakeoil.pem\nsmtpd_tls_key_file=/etc/ssl/snakeoil.key\nsmtpd_tls_security_level=may\n\nsmtp_tls_CApath=/etc/ssl/certs\n",
        "smtpd_tls_security_level=may\nsmtpd_tls_chain_files = OURS\n\nsmtp_tls_CApath"
    )]
    // The last of two counts; a value over several lines, with a comment in it.
    [InlineData(
        "smtpd_tls_chain_files = /a\nsmtpd_tls_chain_files =\n# here\n    /b\nsmtpd_use_tls = yes\n",
        "smtpd_tls_chain_files = /a\nsmtpd_tls_chain_files =\n# here\n    OURS\nsmtpd_use_tls"
    )]
    [InlineData("myhostname = a.example\r\nsmtpd_tls_security_level = may\r\n", "may\r\nsmtpd_tls_chain_files = OURS\r\n")]
    [InlineData("myhostname = a.example", "myhostname = a.example\nsmtpd_tls_chain_files = OURS\nsmtpd_tls_security_level = may\n")]
    public void Postfix_is_changed_where_it_concerns_it(string main, string expected) =>
        Assert.Contains(
            expected.Replace("OURS", Ours.Certificates),
            Planned(Postfix(), "postfix", new WrittenFiles(("main.cf", main), ("master.cf", Master)))
                .Replace("\n\nsmtpd_tls_chain", "\nsmtpd_tls_chain")
        );

    [Theory]
    [InlineData("smtpd_tls_chain_files = /a, /b\n", Master, "several files")]
    [InlineData("smtp_tls_chain_files = $smtpd_tls_chain_files\nsmtpd_tls_chain_files = /a\n", Master, "smtp_tls_chain_files")]
    [InlineData("", "587 inet n - y - - smtpd\n  -o smtpd_tls_cert_file=/own\n", "certificate of its own")]
    [InlineData("", "587 inet n - y - - smtpd -o { smtpd_tls_chain_files = /own }\n", "certificate of its own")]
    [InlineData("nothing here\n", Master, "main.cf, line 1")]
    [InlineData("", "587 inet n - y\n", "master.cf, line 1")]
    public void Postfix_is_left_where_it_is_not_clear(string main, string master, string word)
    {
        var files = new WrittenFiles(("main.cf", main), ("master.cf", master));
        Assert.Contains(word, Assert.Throws<BeaconProblem>(() => Planned(Postfix(), "postfix", files)).Message);
    }

    [Fact]
    public void Postfix_says_where_and_how_clients_come_to_TLS()
    {
        var master = """
            smtp      inet  n       -       y       -       -       smtpd
            # a comment
            submission inet n       -       y       -       -       smtpd
              -o syslog_name=postfix/submission
              -o smtpd_tls_security_level=encrypt
            smtps     inet  n       -       y       -       -       smtpd -o smtpd_tls_wrappermode=yes
            127.0.0.1:10025 inet n  -       y       -       -       smtpd -o smtpd_tls_security_level=none
            smtp      unix  -       -       y       -       -       smtp

            """;
        var files = new WrittenFiles(
            ("main.cf", "mydomain = Thistledown.example\nmyhostname = mail.${mydomain}\nsmtpd_tls_security_level = may\n"),
            ("master.cf", master)
        );
        var found = Assert.Single(Postfix().Discover(files).Services);
        Assert.Equal(["mail.thistledown.example"], found.Names);
        Assert.Equal(
            [
                (25, true, ProbeProtocol.Smtp),
                (587, true, ProbeProtocol.Smtp),
                (465, true, ProbeProtocol.Tls),
                (10025, false, ProbeProtocol.Smtp),
            ],
            found.Endpoints.Select(e => (e.Port, e.Tls, e.Protocol))
        );
        Assert.Equal([true, false, false, true], found.Endpoints.Select(e => e.ClearText!.Value));
    }

    [Theory]
    // As Debian's package writes it, in a file of its own.
    [InlineData(
        "ssl = yes\nssl_cert = </etc/dovecot/a.pem\nssl_key = </etc/dovecot/a.key # own\n",
        "ssl_cert = <CERT\nssl_key = <KEY # own\n"
    )]
    [InlineData("ssl = no\n", "ssl = yes\n")]
    [InlineData("ssl_cert = <a.pem\nssl_key = <a.key\nssl_cert = <b.pem", "ssl_cert = <a.pem\nssl_key = <KEY\nssl_cert = <CERT")]
    public void Dovecot_is_changed_where_it_concerns_it(string ssl, string expected) =>
        Assert.Contains(
            expected.Replace("CERT", Ours.Certificates).Replace("KEY", Ours.Key),
            Planned(
                Dovecot(),
                "dovecot",
                new WrittenFiles(("dovecot.conf", "protocols = imap\n!include conf.d/*.conf\n"), ("conf.d/10-ssl.conf", ssl))
            )
        );

    [Theory]
    [InlineData("ssl_cert = ${file}\nssl_key = </k\n", "does not name a file")]
    [InlineData("local 192.0.2.1 {\n  ssl_cert = </a\n  ssl_key = </k\n}\n", "in a form that is not understood")]
    [InlineData("dovecot_config_version = 2.4.0\n", "2.4")]
    [InlineData("service imap-login {\n", "not closed")]
    [InlineData("}\n", "without its block")]
    [InlineData("!include missing.conf\n", "missing.conf is not there")]
    [InlineData("just words\n", "line 1")]
    public void Dovecot_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(
            word,
            Assert.Throws<BeaconProblem>(() => Planned(Dovecot(), "dovecot", new WrittenFiles(("dovecot.conf", text)))).Message
        );

    [Fact]
    public void Names_with_certificates_of_their_own_are_services_of_their_own_in_Dovecot()
    {
        var text = "ssl_cert = </m\nssl_key = </mk\nlocal_name old.thistledown.example {\n  ssl_cert = </o\n  ssl_key = </ok\n}\n";
        var files = new WrittenFiles(("dovecot.conf", text));
        Assert.Equal(
            [("dovecot", "/m"), ("dovecot old.thistledown.example", "/o")],
            Dovecot().Discover(files).Services.Select(s => (s.Name, s.CertificateFile!))
        );
        Assert.Equal(
            text.Replace("</ok", "<" + Ours.Key).Replace("</o\n", "<" + Ours.Certificates + "\n"),
            Planned(Dovecot(), "dovecot old.thistledown.example", files)
        );
    }

    [Fact]
    public void A_file_that_two_blocks_include_is_left_and_said()
    {
        var files = new WrittenFiles(
            ("dovecot.conf", "local_name a.example {\n !include tls.inc\n}\nlocal_name b.example {\n !include tls.inc\n}\n"),
            ("tls.inc", "ssl_cert = </both\nssl_key = </key\n")
        );
        var p = Assert.Throws<BeaconProblem>(() => Planned(Dovecot(), "dovecot a.example", files));
        Assert.Contains("tls.inc:1 is shared: local_name b.example", p.Message);
    }

    [Theory]
    // As Debian's package writes it.
    [InlineData(
        "ssl = on\nssl_cert_file = '/etc/ssl/snakeoil.pem'\t\t# (change requires reload)\n#ssl_crl_file = ''\nssl_key_file = '/etc/ssl/snakeoil.key'\n",
        "ssl_cert_file = 'CERT'\t\t# (change requires reload)\n#ssl_crl_file = ''\nssl_key_file = 'KEY'\n"
    )]
    [InlineData("port 5433\n#ssl = off", "port 5433\n#ssl = off\nssl_cert_file = 'CERT'\nssl_key_file = 'KEY'\nssl = on\n")]
    [InlineData("SSL=off\ninclude_dir 'conf.d'\n", "SSL=on\n")]
    [InlineData(
        "ssl = on\nssl_cert_file '/it''s'\nssl_key_file='/k'\nssl_cert_file = last\n",
        "ssl_cert_file '/it''s'\nssl_key_file='KEY'\nssl_cert_file = 'CERT'\n"
    )]
    public void PostgreSQL_is_changed_where_it_concerns_it(string text, string expected) =>
        Assert.Contains(
            expected.Replace("CERT", Ours.Certificates).Replace("KEY", Ours.Key),
            Planned(PostgreSql(), "postgresql", new WrittenFiles(("postgresql.conf", text), ("conf.d/10.conf", "work_mem = 4MB\n")))
        );

    [Theory]
    [InlineData("ssl = on\n", "ssl_cert_file = '/x'\n", "ALTER SYSTEM")]
    [InlineData("ssl_cert_file = 'open\n", "", "a quote is not closed")]
    [InlineData("include 'gone.conf'\n", "", "gone.conf is not there")]
    [InlineData("= 3\n", "", "line 1")]
    public void PostgreSQL_is_left_where_it_is_not_clear(string text, string automatic, string word) =>
        Assert.Contains(
            word,
            Assert
                .Throws<BeaconProblem>(() =>
                    Planned(PostgreSql(), "postgresql", new WrittenFiles(("postgresql.conf", text), ("postgresql.auto.conf", automatic)))
                )
                .Message
        );

    [Fact]
    public void PostgreSQL_says_whether_clear_text_is_possible()
    {
        FoundService Of(string hba) =>
            Assert.Single(
                PostgreSql()
                    .Discover(
                        new WrittenFiles(("postgresql.conf", "ssl = on\nlisten_addresses = 'localhost, ::1'\n"), ("pg_hba.conf", hba))
                    )
                    .Services
            );
        Assert.False(
            Of("local all all peer\nhostssl all all 0.0.0.0/0 scram-sha-256\nhostnossl all all all reject\n").Endpoints[0].ClearText
        );
        var open = Of("# hostssl\nhost all all 127.0.0.1/32 scram-sha-256\n");
        Assert.True(open.Endpoints[0].ClearText);
        Assert.Equal([("127.0.0.1", 5432), ("::1", 5432)], open.Endpoints.Select(e => (e.Address, e.Port)));
        Assert.Equal(["db01.thistledown.example"], open.Names);
        Assert.True(open.NamesAreAssumed);
    }
}
