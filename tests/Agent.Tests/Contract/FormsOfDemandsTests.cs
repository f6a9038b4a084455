using System.Reflection;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Apache;
using OrderlyBeacon.Agent.Connectors.Dovecot;
using OrderlyBeacon.Agent.Connectors.HaProxy;
using OrderlyBeacon.Agent.Connectors.MariaDb;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Connectors.PostgreSql;
using OrderlyBeacon.Agent.Connectors.ProFtpd;
using OrderlyBeacon.Agent.Connectors.Vsftpd;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>How configurations as they are found in real life are told to require TLS, and which are refused by name.</summary>
public sealed class FormsOfDemandsTests
{
    private const string Www = "www.thistledown.example";

    private static ConnectorSettings Of(string kind, string file) =>
        new(kind, "/usr/sbin/" + kind, "/etc/server/" + file, null) { Host = "web01.thistledown.example" };

    private static InstanceId Id(string kind) => new(kind, kind, "/etc/server");

    private static IConnector Postfix() => new PostfixConnector(Id("postfix"), Of("postfix", ""));

    private static string Planned(IConnector c, string service, IFiles files) =>
        string.Join("\n", c.PlanRequireTls(service, files).Edits.Select(e => e.After));

    private static string Refusal(IConnector c, string service, IFiles files) =>
        Assert.Throws<BeaconProblem>(() => c.PlanRequireTls(service, files)).Message;

    /// <summary>After a plan nothing is readable any more, but what may.</summary>
    private static IReadOnlyList<Readable> LeftOf(IConnector c, string service, IFiles files)
    {
        var would = new Overlay(files);
        would.Add(c.PlanRequireTls(service, files).Edits);
        return [.. c.Discover(would).Services.Single(s => s.Name == service).Endpoints.SelectMany(e => e.Readable!).Distinct()];
    }

    private const string Public = "smtp inet n - y - - smtpd\n";
    private const string Submission = "submission inet n - y - - smtpd\n  -o syslog_name=postfix/submission\n# the end\n";

    [Fact]
    public void Port_25_takes_mail_of_other_servers_still_and_no_logins()
    {
        var files = new WrittenFiles(
            ("main.cf", "smtpd_tls_security_level = may\nsmtpd_sasl_auth_enable = yes\n"),
            ("master.cf", Public + Submission)
        );
        var change = Postfix().PlanRequireTls("postfix", files);
        Assert.Equal(
            "smtp inet n - y - - smtpd\n  -o smtpd_tls_auth_only=yes\nsubmission inet n - y - - smtpd\n  -o syslog_name=postfix/submission\n  -o smtpd_tls_security_level=encrypt\n# the end\n",
            Assert.Single(change.Edits).After
        );
        Assert.Contains(change.Warnings, w => w.Contains("would lose mail"));
        Assert.Equal([Readable.Mail], LeftOf(Postfix(), "postfix", files));
    }

    [Fact]
    public void A_server_for_other_servers_alone_has_nothing_to_end() =>
        Assert.Contains(
            "must not be turned away",
            Refusal(Postfix(), "postfix", new WrittenFiles(("main.cf", "smtpd_tls_security_level = may\n"), ("master.cf", Public)))
        );

    [Fact]
    public void Options_of_a_port_outweigh_the_setting_for_all()
    {
        var files = new WrittenFiles(
            ("main.cf", "smtpd_tls_security_level = may\n"),
            ("master.cf", "587 inet n - y - - smtpd -o smtpd_tls_security_level=may\r\n2525 inet n - y - - smtpd\r\n")
        );
        Assert.Equal(
            "587 inet n - y - - smtpd -o smtpd_tls_security_level=may\r\n  -o smtpd_tls_security_level=encrypt\r\n2525 inet n - y - - smtpd\r\n  -o smtpd_tls_security_level=encrypt\r\n",
            Planned(Postfix(), "postfix", files)
        );
        Assert.Empty(LeftOf(Postfix(), "postfix", files));
    }

    private static IConnector Nginx() => new NginxConnector(Id("nginx"), Of("nginx", "nginx.conf"));

    [Theory]
    // A block for plain clients alone sends all of them on; one for both asks which a client is.
    [InlineData(
        "server { listen 80; server_name www.thistledown.example; root /r; }\nserver { listen 443 ssl; server_name www.thistledown.example; }\n",
        "server { listen 80; return 301 https://$host$request_uri; server_name www.thistledown.example; root /r; }"
    )]
    [InlineData(
        "server {\n  listen 80;\n  listen 8443 ssl; # both\n  server_name www.thistledown.example;\n}\n",
        "  listen 8443 ssl; # both\n  if ($scheme = http) { return 301 https://$host:8443$request_uri; }\n"
    )]
    // What sends its clients on already stays as it is.
    [InlineData(
        "server { listen 80; server_name www.thistledown.example; return 302 https://www.thistledown.example/; }\nserver { listen 81; listen 443 ssl; server_name www.thistledown.example; }\n",
        "server { listen 80; server_name www.thistledown.example; return 302 https://www.thistledown.example/; }\nserver { listen 81; listen 443 ssl; if ("
    )]
    public void Nginx_sends_plain_clients_on(string servers, string expected)
    {
        var files = new WrittenFiles(("nginx.conf", "http {\n" + servers + "}\n"));
        Assert.Contains(expected, Planned(Nginx(), Www, files));
        Assert.Empty(LeftOf(Nginx(), Www, files));
    }

    private static IConnector Apache() => new ApacheConnector(Id("apache"), Of("apache", "apache2.conf"));

    private const string Tls =
        "<VirtualHost *:443>\nServerName www.thistledown.example\nSSLEngine on\nSSLCertificateFile /a\nSSLCertificateKeyFile /k\n</VirtualHost>\n";

    [Theory]
    [InlineData("LoadModule alias_module a.so\n", "", "\tRedirect permanent / https://www.thistledown.example/\n")]
    [InlineData(
        "LoadModule alias_module a.so\nLoadModule rewrite_module r.so\n",
        "ProxyPass / http://127.0.0.1:81/\n",
        "\tRewriteEngine On\n\tRewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [R=301,NE,L]\nServerName"
    )]
    // A rule for a part of the addresses leaves the others readable.
    [InlineData(
        "LoadModule rewrite_module r.so\n",
        "RewriteEngine On\nRewriteRule ^/login https://www.thistledown.example/login\n",
        "\tRewriteRule ^ https://%{SERVER_NAME}"
    )]
    public void Apache_sends_plain_clients_on(string modules, string content, string expected)
    {
        var plain = $"<VirtualHost *:80>\nServerName www.thistledown.example\n{content}</VirtualHost>\n";
        var files = new WrittenFiles(("apache2.conf", $"LoadModule ssl_module s.so\n{modules}Listen 80\nListen 443\n{plain}{Tls}"));
        Assert.Contains(expected, Planned(Apache(), Www, files));
        Assert.Empty(LeftOf(Apache(), Www, files));
    }

    [Fact]
    public void Apache_without_the_means_is_refused()
    {
        var plain = "<VirtualHost *:80>\nServerName www.thistledown.example\nProxyPass / http://127.0.0.1:81/\n</VirtualHost>\n";
        var text = $"LoadModule ssl_module s.so\nLoadModule alias_module a.so\nListen 80\nListen 443\n{plain}{Tls}";
        Assert.Contains("mod_rewrite alone", Refusal(Apache(), Www, new WrittenFiles(("apache2.conf", text))));
    }

    private static IConnector HaProxy() => new HaProxyConnector(Id("haproxy"), Of("haproxy", "haproxy.cfg"));

    [Theory]
    [InlineData("mode http", ":443", "    http-request redirect scheme https code 301 unless { ssl_fc }\n")]
    [InlineData(
        "mode http",
        ":8443",
        "    http-request redirect location https://%[req.hdr(host),field(1,:)]:8443%[capture.req.uri] code 301 unless { ssl_fc }\n"
    )]
    public void HAProxy_sends_plain_clients_on(string mode, string port, string expected)
    {
        var text = $"defaults\n    {mode}\nfrontend www\n    bind :80\n    bind {port} ssl crt /a.pem\n    default_backend b\n";
        var files = new WrittenFiles(("haproxy.cfg", text));
        Assert.Contains(expected, Planned(HaProxy(), "haproxy www", files));
        Assert.Empty(LeftOf(HaProxy(), "haproxy www", files));
    }

    [Fact]
    public void HAProxy_that_passes_bytes_on_is_refused()
    {
        var text = "defaults\n    mode http\nfrontend www\n    mode tcp\n    bind :80\n    bind :443 ssl crt /a.pem\n";
        Assert.Contains("mode tcp", Refusal(HaProxy(), "haproxy www", new WrittenFiles(("haproxy.cfg", text))));
    }

    [Theory]
    [InlineData("http-request redirect scheme https unless { ssl_fc }", true)]
    [InlineData("redirect scheme https code 301 if !{ ssl_fc }", true)]
    [InlineData("redirect scheme https if { path_beg /login }", false)]
    [InlineData("http-request redirect location /login", false)]
    public void HAProxy_is_known_to_send_clients_on(string rule, bool isEnded)
    {
        var text = $"frontend www\n    mode http\n    bind :80\n    bind :443 ssl crt /a.pem\n    {rule}\n";
        var found = Assert.Single(HaProxy().Discover(new WrittenFiles(("haproxy.cfg", text))).Services);
        Assert.Equal(isEnded, found.Endpoints.All(e => e.ClearText == false));
    }

    private static IConnector PostgreSql() => new PostgreSqlConnector(Id("postgresql"), Of("postgresql", "postgresql.conf"));

    private static WrittenFiles Cluster(string rules) =>
        new(("postgresql.conf", "ssl = on\nlisten_addresses = '*'\n"), ("pg_hba.conf", rules));

    [Theory]
    // Columns stay where they are when there is room.
    [InlineData("host    all  all  all  md5\n", "hostssl all  all  all  md5\n")]
    [InlineData("host\tall all samehost trust\n", "hostssl\tall all samehost trust\n")]
    [InlineData("host all all all scram-sha-256 # x\n", "hostssl all all all scram-sha-256 # x\n")]
    [InlineData("hostnogssenc all all all md5\nhost all all all reject\n", "hostssl all all all md5\nhost all all all reject\n")]
    public void PostgreSQL_rules_are_for_TLS(string before, string after)
    {
        Assert.Equal(after, Planned(PostgreSql(), "postgresql", Cluster(before)));
        Assert.Empty(LeftOf(PostgreSql(), "postgresql", Cluster(before)));
    }

    [Theory]
    [InlineData("hostnossl all all all md5\nhost all all all md5\n", "without TLS alone (/etc/server/pg_hba.conf:1)")]
    [InlineData("host all all all md5\ninclude more.conf\n", "other files too (/etc/server/pg_hba.conf:2)")]
    public void PostgreSQL_rules_that_are_not_clear_are_refused(string rules, string why) =>
        Assert.Contains(why, Refusal(PostgreSql(), "postgresql", Cluster(rules)));

    private static IConnector Dovecot() => new DovecotConnector(Id("dovecot"), Of("dovecot", "dovecot.conf"));

    [Fact]
    public void Dovecot_requires_it_of_all_names_or_none()
    {
        var text = "ssl_cert = </a\nssl_key = </k\nlocal_name b.example {\n  ssl_cert = </b\n  ssl_key = </l\n}\n";
        var files = new WrittenFiles(("dovecot.conf", text));
        Assert.Equal(text + "ssl = required\n", Planned(Dovecot(), "dovecot", files));
        Assert.Contains("for all of its names", Refusal(Dovecot(), "dovecot b.example", files));
        var own = new WrittenFiles(("dovecot.conf", text + "protocol imap {\n  ssl = yes\n}\n"));
        Assert.Contains("a setting of its own", Refusal(Dovecot(), "dovecot", own));
    }

    [Theory]
    [InlineData("[mariadbd]\nssl_cert=/a\nssl_key=/k\n", "[mariadbd]\nssl_cert=/a\nssl_key=/k\nrequire_secure_transport = ON\n")]
    [InlineData(
        "[mysqld]\nrequire-secure-transport = 0 # not yet\nssl_cert=/a\nssl_key=/k\n",
        "[mysqld]\nrequire-secure-transport = ON # not yet\nssl_cert=/a\nssl_key=/k\n"
    )]
    public void MariaDB_is_told_in_its_group(string before, string after) =>
        Assert.Equal(
            after,
            Planned(new MariaDbConnector(Id("mariadb"), Of("mariadb", "my.cnf")), "mariadb", new WrittenFiles(("my.cnf", before)))
        );

    [Theory]
    [InlineData("TLSRequired ctrl\n", "TLSRequired on\n")]
    [InlineData("", "TLSRequired on\n")]
    public void ProFTPD_protects_logins_and_files(string before, string after)
    {
        const string Base = "LoadModule mod_tls.c\nTLSEngine on\nTLSECCertificateFile /a\nTLSECCertificateKeyFile /k\n";
        var c = new ProFtpdConnector(Id("proftpd"), Of("proftpd", "proftpd.conf"));
        Assert.Equal(Base + after, Planned(c, "proftpd", new WrittenFiles(("proftpd.conf", Base + before))));
    }

    [Theory]
    [InlineData(
        "anonymous_enable=NO\nforce_local_logins_ssl=NO\nforce_local_data_ssl=NO\n",
        "anonymous_enable=NO\nforce_local_logins_ssl=YES\nforce_local_data_ssl=YES\n"
    )]
    [InlineData("force_anon_logins_ssl=YES\r\n", "force_anon_logins_ssl=YES\r\nallow_anon_ssl=YES\r\nforce_anon_data_ssl=YES\r\n")]
    public void Vsftpd_protects_those_without_a_name_too(string before, string after)
    {
        var c = new VsftpdConnector(Id("vsftpd"), Of("vsftpd", "vsftpd.conf"));
        var begin = string.Join(before.Contains('\r') ? "\r\n" : "\n", "listen=YES", "ssl_enable=YES", "rsa_cert_file=/a", "");
        Assert.Equal(begin + after, Planned(c, "vsftpd", new WrittenFiles(("vsftpd.conf", begin + before))));
        var inetd = new WrittenFiles(("vsftpd.conf", "ssl_enable=YES\nrsa_cert_file=/a\n"));
        Assert.Contains("started by another program", Refusal(c, "vsftpd", inetd));
    }

    /// <summary>A server that takes nothing up: it says that it did, and goes on as it was.</summary>
    private class Deaf : DispatchProxy
    {
        public IConnector Inner { get; set; } = null!;

        protected override object? Invoke(MethodInfo? method, object?[]? args) =>
            method!.Name == nameof(IConnector.TakeUp) ? null : method.Invoke(Inner, args);
    }

    [Fact]
    public async Task What_goes_in_the_clear_all_the_same_is_a_failed_change()
    {
        using var s = new NginxServer();
        s.Configure(null);
        s.Start();
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        var before = s.Snapshot();
        var deaf = DispatchProxy.Create<IConnector, Deaf>();
        ((Deaf)(object)deaf).Inner = s.Connector;
        var demand = new TlsDemand(s.Bench.Journal, s.Bench.Bounds.Demands, TimeProvider.System, s.Bench.Steps.Add);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() =>
            demand.RequireAsync(1, new(deaf, s.Service, s.Service), TestContext.Current.CancellationToken)
        );
        Assert.Equal(ProblemCode.SwapUndone, p.Code);
        Assert.Contains($"Without TLS pages go at {s.Address}:8080 all the same", p.Message);
        Assert.Equal(before, s.Snapshot());
        Assert.Null(s.Bench.Bounds.Demands.Find(s.Service));
    }

    [Fact]
    public async Task Nobody_is_sent_to_a_TLS_that_does_not_work()
    {
        using var s = new NginxServer();
        s.Configure(s.ForeignPair("other.example"));
        s.Start();
        var demand = new TlsDemand(s.Bench.Journal, s.Bench.Bounds.Demands, TimeProvider.System, s.Bench.Steps.Add);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => demand.RequireAsync(1, s.Ref, TestContext.Current.CancellationToken));
        Assert.Contains("its certificate is for other.example", p.Message);
        Assert.True(s.GoesInTheClear());
    }
}
