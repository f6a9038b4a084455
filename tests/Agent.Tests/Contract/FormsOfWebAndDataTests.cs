using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Apache;
using OrderlyBeacon.Agent.Connectors.HaProxy;
using OrderlyBeacon.Agent.Connectors.MariaDb;
using OrderlyBeacon.Agent.Connectors.ProFtpd;
using OrderlyBeacon.Agent.Connectors.Redis;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Configurations of Apache, HAProxy, MariaDB, ProFTPD and Redis as they are found in real life. One case a line of files.</summary>
public sealed class FormsOfWebAndDataTests
{
    private static readonly UsedFiles Pair = new("/store/in-use/www/pair/certificates.pem", "/store/in-use/www/pair/key.pem");
    private static readonly UsedFiles Together = new("/store/in-use/www/bundle/key-last.pem", "/store/in-use/www/bundle/key-last.pem");
    private const string Www = "www.thistledown.example";

    private static ConnectorSettings Of(string kind, string file) =>
        new(kind, "/usr/sbin/" + kind, "/etc/server/" + file, null) { Host = "web01.thistledown.example" };

    private static ApacheConnector Apache() => new(new("apache", "apache", "/etc/server/apache2.conf"), Of("apache", "apache2.conf"));

    private static HaProxyConnector HaProxy() => new(new("haproxy", "haproxy", "/etc/server/haproxy.cfg"), Of("haproxy", "haproxy.cfg"));

    private static MariaDbConnector MariaDb() => new(new("mariadb", "mariadb", "/etc/server/my.cnf"), Of("mariadb", "my.cnf"));

    private static RedisConnector Redis() => new(new("redis", "redis", "/etc/server/redis.conf"), Of("redis", "redis.conf"));

    private static ProFtpdConnector ProFtpd() => new(new("proftpd", "proftpd", "/etc/server/proftpd.conf"), Of("proftpd", "proftpd.conf"));

    private static ChangeSet Plan(IConnector c, string service, IFiles files, UsedFiles? used = null) =>
        c.PlanBinding(new(service, used ?? Pair, null, [Www]), files);

    private static string Planned(IConnector c, string service, IFiles files, UsedFiles? used = null) =>
        string.Join("\n", Plan(c, service, files, used).Edits.Select(e => e.After));

    private static string Filled(string text) =>
        text.Replace("CERT", Pair.Certificates).Replace("KEY", Pair.Key).Replace("BOTH", Together.Key);

    private static string Refusal(IConnector c, string service, IFiles files) =>
        Assert.Throws<BeaconProblem>(() => Plan(c, service, files)).Message;

    private const string Ssl = "LoadModule ssl_module m.so\nListen 80\n";

    [Theory]
    // Another block with the same content, behind the plain one; the port is opened as the plain one is.
    [InlineData(
        "<VirtualHost *:80>\n  ServerName www.thistledown.example\n</VirtualHost>\n",
        "</VirtualHost>\nListen 443\n<VirtualHost *:443>\n  ServerName www.thistledown.example\n\tSSLEngine on\n\tSSLCertificateFile CERT\n\tSSLCertificateKeyFile KEY\n</VirtualHost>\n"
    )]
    // As Debian's package writes it; another site of the file is left.
    [InlineData(
        "<IfModule mod_ssl.c>\n<VirtualHost _default_:443>\n ServerName www.thistledown.example\n SSLEngine on\n SSLCertificateFile\t/s.pem\n SSLCertificateKeyFile /s.key\n</VirtualHost>\n</IfModule>\n<VirtualHost *:443>\n ServerName b.example\n SSLEngine on\n SSLCertificateFile /b.pem\n SSLCertificateKeyFile /b.key\n</VirtualHost>\n",
        " SSLCertificateFile\tCERT\n SSLCertificateKeyFile KEY\n</VirtualHost>\n</IfModule>\n<VirtualHost *:443>\n ServerName b.example\n SSLEngine on\n SSLCertificateFile /b.pem"
    )]
    // A chain beside the certificate would go out in the place of ours.
    [InlineData(
        "<VirtualHost *:443>\r\n ServerName https://www.thistledown.example:443\r\n SSLEngine on\r\n SSLCertificateFile \"/s p.pem\"\r\n SSLCertificateKeyFile /s.key\r\n SSLCertificateChainFile /c.pem\r\n</VirtualHost>\r\n",
        " SSLCertificateFile CERT\r\n SSLCertificateKeyFile KEY\r\n SSLCertificateChainFile CERT\r\n"
    )]
    // What another module's condition leaves out does not count.
    [InlineData(
        "<VirtualHost *:443>\n ServerName www.thistledown.example\n SSLEngine on\n <IfModule mod_gnutls.c>\n  SSLCertificateFile /no.pem\n </IfModule>\n <IfModule !mod_gnutls.c>\n  SSLCertificateFile /s.pem\n </IfModule>\n SSLCertificateKeyFile /s.key\n</VirtualHost>\n",
        "  SSLCertificateFile /no.pem\n </IfModule>\n <IfModule !mod_gnutls.c>\n  SSLCertificateFile CERT\n"
    )]
    public void Apache_is_changed_where_it_concerns_it(string sites, string expected) =>
        Assert.Contains(
            Filled(expected),
            Planned(Apache(), Www, new WrittenFiles(("apache2.conf", Ssl + "Include sites\n"), ("sites/a.conf", sites)))
        );

    [Theory]
    [InlineData("Listen 80\n<VirtualHost *:80>\nServerName www.thistledown.example\n</VirtualHost>\n", "module for TLS")]
    [InlineData(
        Ssl + "<VirtualHost *:80>\nServerName www.thistledown.example\nRedirect / https://www.thistledown.example/\n</VirtualHost>\n",
        "only sends its clients to https"
    )]
    [InlineData(
        Ssl
            + "<VirtualHost *:443>\nServerName www.thistledown.example\nSSLEngine on\nInclude tls.inc\n</VirtualHost>\n<VirtualHost *:443>\nServerName b.example\nSSLEngine on\nInclude tls.inc\n</VirtualHost>\n",
        "included by several"
    )]
    [InlineData(
        Ssl
            + "SSLCertificateFile /a\nSSLCertificateKeyFile /k\n<VirtualHost *:443>\nServerName www.thistledown.example\nSSLEngine on\n</VirtualHost>\n",
        "of its own"
    )]
    [InlineData(
        Ssl
            + "<VirtualHost *:443>\nServerName www.thistledown.example\nSSLEngine on\nSSLCertificateFile /rsa\nSSLCertificateFile /ec\n</VirtualHost>\n",
        "2 SSLCertificateFile"
    )]
    [InlineData(Ssl + "<VirtualHost *:80>\nServerName www.thistledown.example\n", "not closed")]
    [InlineData(Ssl + "</VirtualHost>\n", "closes what is not open")]
    [InlineData(Ssl + "Include gone.conf\n", "gone.conf is not there")]
    [InlineData(Ssl + "Include apache2.conf\n", "too deeply")]
    public void Apache_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(
            word,
            Refusal(
                Apache(),
                Www,
                new WrittenFiles(("apache2.conf", text), ("tls.inc", "SSLCertificateFile /both\nSSLCertificateKeyFile /key\n"))
            )
        );

    [Fact]
    public void Apache_says_names_and_ways_in()
    {
        var text = """
            LoadModule ssl_module m.so
            Define tls_port 8443
            Listen 192.0.2.7:80
            Listen [::1]:${tls_port} https
            <VirtualHost *:80>
              ServerName WWW.thistledown.example:80
              ServerAlias shop.thistledown.example *.shop.thistledown.example
              Header set X-Note it's
            </VirtualHost>
            <VirtualHost [::1]:${tls_port}>
              ServerName www.thistledown.example
              SSLEngine on
              SSLCertificateFile tls/www.pem
              <Directory /srv>
                SSLCertificateFile /not/this
              </Directory>
            </VirtualHost>

            """;
        var found = Assert.Single(Apache().Discover(new WrittenFiles(("apache2.conf", text))).Services);
        Assert.Equal([Www, "shop.thistledown.example", "*.shop.thistledown.example"], found.Names);
        Assert.Equal([("::1", 8443, true), ("192.0.2.7", 80, false)], found.Endpoints.Select(e => (e.Address, e.Port, e.Tls)));
        Assert.Equal("/etc/server/tls/www.pem", found.CertificateFile);
    }

    [Theory]
    [InlineData("frontend www\n\tbind *:80\n", "frontend www\n\tbind *:80\n\tbind *:443 ssl crt BOTH\n")]
    [InlineData("frontend www\n  bind :443 ssl crt /a.pem alpn h2 # old\n", "  bind :443 ssl crt BOTH alpn h2 # old\n")]
    [InlineData(
        "listen www\n  bind 10.0.0.1:443,10.0.0.2:443 ssl crt \"/a b.pem\"\n  bind ::1:8443 ssl crt /a.pem\n",
        "ssl crt BOTH\n  bind ::1:8443 ssl crt BOTH\n"
    )]
    public void HAProxy_is_changed_where_it_concerns_it(string text, string expected) =>
        Assert.Contains(
            Filled(expected),
            Planned(HaProxy(), "haproxy www", new WrittenFiles(("haproxy.cfg", "global\n  maxconn 9\n" + text + "backend b\n")), Together)
        );

    [Theory]
    [InlineData("frontend www\n bind :443 ssl crt /a.pem crt /b.pem\n", "several files")]
    [InlineData("frontend www\n bind :443 ssl crt-list /etc/list\n", "a list")]
    [InlineData("frontend www\n bind :443 ssl crt /etc\n", "a folder")]
    [InlineData("frontend www\n bind :443 ssl crt ${CERT}\n", "a variable")]
    [InlineData("frontend other\n bind :443 ssl crt /a\n", "No frontend")]
    [InlineData("bind :443\n", "stands in no section")]
    [InlineData("frontend www\n bind \":443\n", "a quote is not closed")]
    public void HAProxy_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(word, Refusal(HaProxy(), "haproxy www", new WrittenFiles(("haproxy.cfg", text))));

    [Fact]
    public void Each_frontend_of_HAProxy_is_a_service()
    {
        var text =
            "global\n crt-base /certs\nfrontend a\n bind unix@/run/a.sock\nfrontend b\n bind :80\n bind :443 ssl crt b.pem\nlisten c\n bind [::]:8080\nbackend d\n";
        var found = HaProxy().Discover(new WrittenFiles(("haproxy.cfg", text))).Services;
        Assert.Equal(
            [("haproxy b", "/certs/b.pem", "127.0.0.1:443 127.0.0.1:80"), ("haproxy c", null, "::1:8080")],
            found.Select(f => (f.Name, f.CertificateFile, string.Join(' ', f.Endpoints.Select(e => $"{e.Address}:{e.Port}"))))
        );
    }

    [Theory]
    // As Debian's package has it: the group is in a file of the folder.
    [InlineData("[mysqld]\nport=3306\n\n[embedded]\n", "[mysqld]\nport=3306\nssl_cert = CERT\nssl_key = KEY\n\n[embedded]\n")]
    [InlineData("[mariadb-10.11]\nloose-ssl-cert = '/a b' # old\nSSL_Key=/k\n", "loose-ssl-cert = CERT # old\nSSL_Key=KEY\n")]
    [InlineData("[client]\nssl_cert = /theirs\n[server]\n", "[client]\nssl_cert = /theirs\n[server]\nssl_cert = CERT\n")]
    [InlineData("[client]\r\nport = 1\r\n", "[mariadbd]\nssl_cert = CERT\n")]
    public void MariaDB_is_changed_where_it_concerns_it(string text, string expected)
    {
        var files = new WrittenFiles(
            ("my.cnf", "!includedir /etc/server/conf.d/\n"),
            ("conf.d/50-server.cnf", text),
            ("conf.d/notes.txt", "[broken\n")
        );
        Assert.Contains(Filled(expected), Planned(MariaDb(), "mariadb", files));
    }

    [Theory]
    [InlineData("[mysqld]\nskip-ssl\n", "switched off")]
    [InlineData("[mysqld]\nssl = 0\n", "switched off")]
    [InlineData("[mysqld\n", "line 1")]
    [InlineData("!include my.cnf\n", "too deeply")]
    [InlineData("!include gone.cnf\n", "gone.cnf is not there")]
    public void MariaDB_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(word, Refusal(MariaDb(), "mariadb", new WrittenFiles(("my.cnf", text))));

    [Theory]
    [InlineData("0::/system.slice/mariadb.service\n", "mariadb.service")]
    [InlineData("0::/system.slice/system-mariadb.slice/mariadb@fares.service/x\n", "mariadb@fares.service")]
    [InlineData("3:cpu:/other.service\n1:name=systemd:/system.slice/mariadb.service\n", "mariadb.service")]
    [InlineData("0::/user.slice/user-0.slice/session-3.scope\n", null)]
    [InlineData("0::/x;reboot.service\n", null)]
    [InlineData("", null)]
    public void What_a_service_manager_runs_is_restarted_by_it(string groups, string? unit) => Assert.Equal(unit, ServiceUnit.In(groups));

    [Fact]
    public void MariaDB_says_when_it_needs_a_restart_and_whether_clear_text_is_possible()
    {
        var bound = Filled("[mysqld]\nssl_cert=CERT\nssl_key=KEY\nrequire-secure-transport\n");
        var files = new WrittenFiles(("my.cnf", bound));
        Assert.Empty(Plan(MariaDb(), "mariadb", files).Warnings);
        Assert.False(Assert.Single(MariaDb().Discover(files).Services).Endpoints[0].ClearText);
        var first = Plan(MariaDb(), "mariadb", new WrittenFiles(("my.cnf", "[mysqld]\n"))).Warnings;
        Assert.Equal(["restart", "without TLS"], first.Select(w => w.Contains("restart") ? "restart" : "without TLS"));
        Assert.Contains("restart", MariaDb().UnbindingWarning(ChangeSet.RequiringTls("mariadb", [], [])));
        Assert.Empty(MariaDb().Discover(new WrittenFiles(("my.cnf", "[mysqld]\nskip-networking\n"))).Services[0].Endpoints);
    }

    [Theory]
    [InlineData("port 6379", "port 6379\ntls-cert-file CERT\ntls-key-file KEY\ntls-port 6380\ntls-auth-clients no\n")]
    [InlineData("tls-port 0\n", "tls-port 6380\n")]
    [InlineData(
        "port 0\r\ntls-port 6379\r\ntls-cert-file a.pem\r\ntls-key-file \"/k k\"\r\n",
        "tls-cert-file CERT\r\ntls-key-file KEY\r\n"
    )]
    // Where clients show certificates, they go on doing so.
    [InlineData("tls-ca-cert-file /ca.pem\n", "tls-ca-cert-file /ca.pem\ntls-cert-file CERT\ntls-key-file KEY\ntls-port 6380\n")]
    public void Redis_is_changed_where_it_concerns_it(string text, string expected) =>
        Assert.Contains(Filled(expected), Planned(Redis(), "redis", new WrittenFiles(("redis.conf", text))));

    [Theory]
    [InlineData("requirepass \"open\n", "a quote is not closed")]
    [InlineData("include /etc/server/gone.conf\n", "gone.conf is not there")]
    [InlineData("include /etc/server/redis.conf\n", "too deeply")]
    public void Redis_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(word, Refusal(Redis(), "redis", new WrittenFiles(("redis.conf", text))));

    private const string Ftp = "LoadModule mod_tls.c\n";

    [Theory]
    [InlineData(
        KeyAlgorithm.Ec,
        "Port 21\n",
        "Port 21\nTLSECCertificateFile CERT\nTLSECCertificateKeyFile KEY\nTLSCertificateChainFile CERT\nTLSEngine on\n"
    )]
    // As Debian's package writes it, for a key of the other kind.
    [InlineData(
        KeyAlgorithm.Ec,
        "<IfModule mod_tls.c>\nTLSEngine on\n TLSRSACertificateFile    /a.crt\n TLSRSACertificateKeyFile /a.key\n</IfModule>\n",
        " TLSECCertificateFile CERT\n TLSECCertificateKeyFile KEY\n</IfModule>\nTLSCertificateChainFile CERT\n"
    )]
    [InlineData(
        KeyAlgorithm.Rsa,
        "TLSEngine off\nTLSRSACertificateFile \"/a b\"\r\nTLSRSACertificateKeyFile /k\r\nTLSCertificateChainFile /c\r\n",
        "TLSEngine on\nTLSRSACertificateFile CERT\r\nTLSRSACertificateKeyFile KEY\r\nTLSCertificateChainFile CERT\r\n"
    )]
    public void ProFTPD_is_changed_where_it_concerns_it(KeyAlgorithm key, string text, string expected)
    {
        var plan = ProFtpd().PlanBinding(new("proftpd", Pair, null, [Www]) { Key = key }, new WrittenFiles(("proftpd.conf", Ftp + text)));
        Assert.Contains(Filled(expected), Assert.Single(plan.Edits).After);
    }

    [Theory]
    [InlineData("Port 21\n", "module for TLS")]
    [InlineData(Ftp + "<VirtualHost 10.0.0.1>\n TLSEngine on\n</VirtualHost>\n", "TLS settings of its own")]
    [InlineData(Ftp + "TLSRSACertificateFile /a\nTLSECCertificateFile /b\n", "each kind of key")]
    [InlineData(Ftp + "TLSPKCS12File /p\n", "a form that is not changed")]
    [InlineData(Ftp + "ServerType inetd\n", "inetd")]
    [InlineData(Ftp + "<Global>\n", "not closed")]
    [InlineData(Ftp + "</Global>\n", "closes what is not open")]
    [InlineData(Ftp + "Include /etc/server/proftpd.conf\n", "too deeply")]
    public void ProFTPD_is_left_where_it_is_not_clear(string text, string word) =>
        Assert.Contains(word, Refusal(ProFtpd(), "proftpd", new WrittenFiles(("proftpd.conf", text))));
}
