using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Tests.Contract;

namespace OrderlyBeacon.Agent.Tests.Trust;

/// <summary>Where each kind of server says whom it trusts.</summary>
public sealed class AnchorFilesTests
{
    private const string Site = "server { listen 443 ssl; server_name www.example; ssl_certificate /a; ssl_certificate_key /k; ";

    [Theory]
    [InlineData(
        "nginx",
        "nginx.conf",
        "http { " + Site + "location / { proxy_ssl_trusted_certificate 'behind.pem'; } } }",
        "/etc/server/behind.pem",
        false
    )]
    [InlineData("nginx", "nginx.conf", "http { " + Site + "ssl_client_certificate /staff.pem; } }", "/staff.pem", true)]
    [InlineData(
        "postfix",
        "main.cf",
        "config_directory = /etc/server\nsmtp_tls_CAfile = $config_directory/p.pem\n",
        "/etc/server/p.pem",
        false
    )]
    [InlineData("postfix", "main.cf", "smtpd_tls_CAfile=/c.pem\n", "/c.pem", true)]
    [InlineData("dovecot", "dovecot.conf", "ssl = yes\nssl_ca = </c.pem\n", "/c.pem", true)]
    [InlineData(
        "apache",
        "apache2.conf",
        "<VirtualHost *:443>\nServerName a.example\nSSLCACertificateFile staff.pem\n</VirtualHost>\n",
        "/etc/server/staff.pem",
        true
    )]
    [InlineData("apache", "apache2.conf", "SSLProxyCACertificateFile \"/b d.pem\"\n", "/b d.pem", false)]
    [InlineData(
        "haproxy",
        "haproxy.cfg",
        "global\n ca-base /ca\nfrontend www\n bind :443 ssl crt /a.pem ca-file staff.pem verify required\n",
        "/ca/staff.pem",
        true
    )]
    [InlineData("redis", "redis.conf", "dir ./\ntls-ca-cert-file /ca.pem\n", "/ca.pem", true)]
    [InlineData("mariadb", "my.cnf", "[mariadbd]\ndatadir = /data\nssl-ca = ca.pem\n", "/data/ca.pem", true)]
    [InlineData("redis", "redis.conf", "tls-ca-cert-file \"\"\n", null, false)]
    public void It_is_found_with_whom_it_says_it_of(string kind, string name, string text, string? path, bool letsIn)
    {
        var config = kind == "postfix" ? "/etc/server" : "/etc/server/" + name;
        var server = Assert.Single(Instances.Of([new(kind, "/usr/sbin/" + kind, config, null)], "host.example").All);
        (string, string)[] others = kind == "postfix" ? [("master.cf", "smtp inet n - n - - smtpd\n")] : [];
        var found = server.AnchorFiles(new WrittenFiles([(name, text), .. others]));
        if (path is null)
            Assert.Empty(found);
        else
            Assert.Equal((path, letsIn), (Assert.Single(found).Path, found[0].LetsIn));
    }
}
