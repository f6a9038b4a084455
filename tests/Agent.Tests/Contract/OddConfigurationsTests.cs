using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Apache;
using OrderlyBeacon.Agent.Connectors.Dovecot;
using OrderlyBeacon.Agent.Connectors.HaProxy;
using OrderlyBeacon.Agent.Connectors.MariaDb;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Connectors.PostgreSql;
using OrderlyBeacon.Agent.Connectors.ProFtpd;
using OrderlyBeacon.Agent.Connectors.Redis;
using OrderlyBeacon.Agent.Connectors.Samba;
using OrderlyBeacon.Agent.Connectors.Slapd;
using OrderlyBeacon.Agent.Connectors.Tomcat;
using OrderlyBeacon.Agent.Connectors.Vsftpd;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Files that were cut off, shuffled, or have odd bytes in them: each is read, or refused with its reason, and never takes the agent down.</summary>
public sealed class OddConfigurationsTests
{
    private const int Tries = 10_000;
    private static readonly UsedFiles Ours = new("/store/in-use/www/pair/certificates.pem", "/store/in-use/www/pair/key.pem");

    private static readonly string[] Bits =
    [
        "\0",
        "\n",
        "\r",
        "\t",
        " ",
        "\"",
        "'",
        "#",
        "\\",
        "{",
        "}",
        "<",
        ">",
        "</",
        "[",
        "]",
        "=",
        ":",
        "*",
        "/",
        "$",
        "${X}",
        "%",
        "99999999999",
        "-1",
        "0",
        "\xff",
        "include ",
        "!include ",
        "Include ",
        "<VirtualHost ",
        "</VirtualHost>",
        "bind ",
        "ssl ",
        "crt ",
        ",",
        ";",
    ];

    public static TheoryData<string, string, string> Kinds =>
        new()
        {
            {
                "nginx",
                "nginx.conf",
                "events {}\nhttp { server { listen 80; server_name www.example; location / { return 200; } } server { listen [::]:443 ssl; server_name 'b.example'; ssl_certificate /a; ssl_certificate_key /k; } }\n"
            },
            {
                "apache",
                "apache2.conf",
                "LoadModule ssl_module m.so\nListen 80\nListen [::1]:443 https\n<IfModule mod_ssl.c>\n<VirtualHost *:443>\n ServerName www.example\n ServerAlias a b\n SSLEngine on\n SSLCertificateFile \"/a b\"\n SSLCertificateKeyFile /k\n</VirtualHost>\n</IfModule>\n<VirtualHost 10.0.0.1>\n ServerName b.example\n</VirtualHost>\n"
            },
            {
                "haproxy",
                "haproxy.cfg",
                "global\n pidfile /run/x\nfrontend www\n bind :80,10.0.0.1:8080\n bind \"[::]:443\" ssl crt /a.pem # x\nlisten s\n bind unix@/x\n bind *:1 ssl crt '/b b'\nbackend z\n"
            },
            {
                "mariadb",
                "my.cnf",
                "[client]\nport=1\n[mysqld]\nssl-cert = \"/a b\" # x\nssl_key=/k\nbind-address = ::,10.0.0.1\nport= 3306\nskip-name-resolve\n"
            },
            {
                "proftpd",
                "proftpd.conf",
                "LoadModule mod_tls.c\nPort 21\n<IfModule mod_tls.c>\nTLSEngine on\nTLSRSACertificateFile \"/a b\"\nTLSRSACertificateKeyFile /k\nTLSOptions UseImplicitSSL\n</IfModule>\n<Global>\nx y\n</Global>\n"
            },
            {
                "vsftpd",
                "vsftpd.conf",
                "# listen=NO\nlisten=YES\nlisten_ipv6=NO\nlisten_port=21\nssl_enable=YES\nrsa_cert_file=/a b\nrsa_private_key_file=/k\nimplicit_ssl=NO\nrsa_cert_file=/c\n"
            },
            {
                "redis",
                "redis.conf",
                "bind -::1 10.0.0.1\nport 6379\ntls-port 6380\ntls-cert-file \"/a b\"\ntls-key-file '/k'\nrequirepass \"x # y\"\n"
            },
            {
                "dovecot",
                "dovecot.conf",
                "protocols = imap pop3\nlisten = *, ::\nssl = yes\nssl_cert = </a\nssl_key = </k\nlocal_name b.example {\n ssl_cert = </b\n ssl_key = </c\n}\nservice imap-login {\n inet_listener imap {\n port = 143\n }\n}\n"
            },
            {
                "postgresql",
                "postgresql.conf",
                "listen_addresses = 'localhost, ::1'\nport 5432\nssl = on\nssl_cert_file = '/a''b' # x\nssl_key_file='/k'\n"
            },
            {
                "slapd",
                "cn=config.ldif",
                "# CRC32 01234567\ndn: cn=config\nobjectClass: olcGlobal\ncn: config\nolcArgsFile: /etc/server/args\nolcSecurity: update_ssf=56\nolcTLSCertificateFile:: L2EgYg==\nolcTLSCertificateKeyFile: /k\n  l\nolcThreads: 4\n"
            },
            {
                "samba",
                "smb.conf",
                "[Global]\n\tserver role = active directory domain controller\n netbios name=DC1\nREALM = example\n tls  enabled = yes\n; x\n tls certfile = /a b\n tls keyfile=/k\nldap server require strong auth = no\n interfaces = lo, ::1 10.0.0.1/8\nbind interfaces only = yes\n[homes]\n comment = a \\\n b\n"
            },
            {
                "tomcat",
                "server.xml",
                "<?xml version=\"1.0\"?>\n<Server port='-1'>\n<!-- <Connector/> -->\n<Service name=\"Catalina\">\n<Connector port=\"8080\" address='::1' />\n<Connector port=\"8443\" SSLEnabled=\"true\">\n<SSLHostConfig>\n<Certificate certificateFile = \"/a b\" certificateKeyFile='/k' type=\"RSA\"/>\n</SSLHostConfig>\n</Connector>\n<Engine name=\"Catalina\" ><![CDATA[ < ]]></Engine>\n</Service>\n</Server>\n"
            },
            {
                "postfix",
                "main.cf",
                "myhostname = mail.$mydomain\nmydomain = example\nsmtpd_tls_chain_files = /a,\n  /b\nsmtpd_tls_security_level = may\n"
            },
        };

    private static IConnector Of(string kind, string file)
    {
        var config = kind is "postfix" or "slapd" ? "/etc/server" : "/etc/server/" + file;
        var (id, settings) = (new InstanceId(kind, kind, config), new ConnectorSettings(kind, "/usr/sbin/" + kind, config, null));
        return kind switch
        {
            "nginx" => new NginxConnector(id, settings),
            "apache" => new ApacheConnector(id, settings),
            "haproxy" => new HaProxyConnector(id, settings),
            "mariadb" => new MariaDbConnector(id, settings),
            "proftpd" => new ProFtpdConnector(id, settings),
            "vsftpd" => new VsftpdConnector(id, settings),
            "slapd" => new SlapdConnector(id, settings),
            "samba" => new SambaConnector(id, settings),
            "tomcat" => new TomcatConnector(id, settings),
            "redis" => new RedisConnector(id, settings),
            "dovecot" => new DovecotConnector(id, settings),
            "postgresql" => new PostgreSqlConnector(id, settings),
            _ => new PostfixConnector(id, settings),
        };
    }

    [Theory]
    [MemberData(nameof(Kinds))]
    public void Each_is_read_or_refused(string kind, string file, string text)
    {
        var connector = Of(kind, file);
        var random = new Random(20261127);
        var read = 0;
        for (var i = 0; i < Tries; i++)
        {
            var odd = Odd(text, random);
            var written = new WrittenFiles(
                (file, odd),
                ("master.cf", "smtp inet n - y - - smtpd\n"),
                ("pg_hba.conf", "host all all all md5\n")
            );
            IFiles files = kind == "slapd" ? new SlapdFiles(written, "/etc/server") : written;
            try
            {
                var found = connector.Discover(files).Services;
                read += found.Count > 0 ? 1 : 0;
                AnchorFiles(connector, files);
                foreach (var service in found)
                    Plan(connector, service, files);
            }
            catch (Exception e) when (e is not BeaconProblem)
            {
                Assert.Fail($"{e}\n--- with\n{odd}");
            }
        }
        // Most of what was read once can be read with an odd byte too, else nothing was tried.
        Assert.InRange(read, Tries / 20, Tries);
    }

    private static void AnchorFiles(IConnector connector, IFiles files)
    {
        try
        {
            Assert.All(connector.AnchorFiles(files), f => Assert.StartsWith("/", f.Path));
        }
        catch (BeaconProblem p)
        {
            Assert.NotEmpty(p.Cure);
        }
    }

    private static void Plan(IConnector connector, FoundService service, IFiles files)
    {
        try
        {
            var plan = connector.PlanBinding(new(service.Name, Ours, 443, ["www.example"]), files);
            Assert.All(plan.Edits, e => Assert.Equal(files.Find(e.Path), e.Before));
            if (!service.Endpoints.Any(e => e.Tls) || service.Endpoints.All(e => e.ClearText == false))
                return;
            var demand = connector.PlanRequireTls(service.Name, files);
            Assert.All(demand.Edits, e => Assert.Equal(files.Find(e.Path), e.Before));
        }
        catch (BeaconProblem p)
        {
            Assert.NotEmpty(p.Cure);
        }
    }

    private static string Odd(string text, Random random)
    {
        for (var n = random.Next(1, 4); n > 0; n--)
        {
            var at = random.Next(text.Length + 1);
            var (to, bit) = (Math.Min(text.Length, at + random.Next(12)), Bits[random.Next(Bits.Length)]);
            text = random.Next(5) switch
            {
                0 => text[..at] + text[to..],
                1 => text[..at] + bit + text[to..],
                2 => text[..at] + text[at..to] + text[at..],
                3 => text[..at],
                _ => text[..at] + bit + text[at..],
            };
        }
        return text;
    }
}
