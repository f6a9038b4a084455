using System.Diagnostics;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Dovecot;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Connectors.PostgreSql;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class NginxServer : RealServer
{
    private const int Plain = 8080,
        Tls = 8443;

    public NginxServer()
    {
        Directory.CreateDirectory(ConfigFolder);
        Directory.CreateDirectory(Path.Combine(Folder, "tmp"));
        File.WriteAllText(Path.Combine(Folder, "index.html"), "hello");
        Connector = new NginxConnector(new("nginx", "nginx", MainFile), new("nginx", "/usr/sbin/nginx", MainFile, Folder));
    }

    public override IConnector Connector { get; }
    public override string Service => Name;
    public override string Name => "www.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "nginx.conf");
    public override string BrokenLine => "no_such_directive on;";
    public override int Pid => int.Parse(File.ReadAllText(Path.Combine(Folder, "nginx.pid")));

    public override void Configure((string Certificate, string Key)? foreign) =>
        File.WriteAllText(
            MainFile,
            $$"""
            {{(Environment.UserName == "root" ? "user root;" : "")}}
            worker_processes 1;
            pid {{Folder}}/nginx.pid;
            error_log {{Folder}}/error.log notice;
            events { worker_connections 64; }
            http {
                access_log off;
                client_body_temp_path tmp/a; proxy_temp_path tmp/b; fastcgi_temp_path tmp/c; uwsgi_temp_path tmp/d; scgi_temp_path tmp/e;
                server {
                    listen {{Address}}:{{Plain}};
                    server_name {{Name}};
                    {{(
                foreign is { } f
                    ? $"listen {Address}:{Tls} ssl; ssl_certificate '{f.Certificate}'; ssl_certificate_key {f.Key};"
                    : "# no TLS"
            )}}
                    root {{Folder}};
                }
            }

            """
        );

    public override void Start()
    {
        var (code, _, error) = Programs.Run("/usr/sbin/nginx", ["-e", Folder + "/error.log", "-p", Folder, "-c", MainFile]);
        Assert.True(code == 0, error);
        Wait(Connector.IsRunning);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() => IsPageRead(Plain);

    // A worker goes on with a request that has begun: its last lines come after the swap.
    public override async Task<IConversation> TalkAsync() => await HalfRequest.OpenAsync(Address, Plain, "/index.html", Name);
}

internal sealed class PostfixServer : RealServer
{
    private const int Smtp = 2525,
        Submission = 2587;

    public PostfixServer()
    {
        foreach (var f in new[] { "etc", "queue", "data", "log", "mail" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        Programs.Run("chown", ["postfix:postfix", Path.Combine(Folder, "data"), Path.Combine(Folder, "mail")]);
        Connector = new PostfixConnector(new("postfix", "postfix", ConfigFolder), new("postfix", "/usr/sbin/postfix", ConfigFolder, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "postfix";
    public override string Name => "mail.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Smtp, "smtp"), new(Submission, "smtp")];
    public override string ConfigFolder => Path.Combine(Folder, "etc");
    public override string MainFile => Path.Combine(ConfigFolder, "main.cf");
    public override string BrokenLine => "this is no setting";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "queue/pid/master.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        var tls = foreign is { } f
            ? $"smtpd_tls_cert_file = {f.Certificate}\nsmtpd_tls_key_file=\n  {f.Key}\nsmtpd_tls_security_level = may\n"
            : "";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            compatibility_level = 3.6
            config_directory = {Folder}/etc
            queue_directory = {Folder}/queue
            data_directory = {Folder}/data
            mail_owner = postfix
            setgid_group = postdrop
            daemon_directory = /usr/lib/postfix/sbin
            command_directory = /usr/sbin
            meta_directory = /etc/postfix
            shlib_directory = /usr/lib/postfix
            maillog_file = {Folder}/log/maillog
            maillog_file_prefixes = {Folder}
            inet_interfaces = loopback-only
            inet_protocols = ipv4
            myhostname = mail.$mydomain
            mydomain = thistledown.example
            mydestination =
            mynetworks = 127.0.0.0/8
            alias_maps =
            alias_database =
            local_recipient_maps =
            default_transport = error:no outside delivery
            relay_transport = error:no outside delivery
            virtual_mailbox_domains = thistledown.example
            virtual_mailbox_base = {Folder}/mail
            virtual_mailbox_maps = static:inbox/
            virtual_uid_maps = static:{Id("-u")}
            virtual_gid_maps = static:{Id("-g")}
            virtual_minimum_uid = 1
            smtpd_client_connection_rate_limit = 0
            {tls}
            """
        );
        File.WriteAllText(
            Path.Combine(ConfigFolder, "master.cf"),
            $"""
            {Address}:{Smtp} inet  n - n - - smtpd
            {Address}:{Submission} inet  n - n - - smtpd
              -o syslog_name=postfix/submission
            pickup    unix  n - n 60 1 pickup
            cleanup   unix  n - n - 0 cleanup
            qmgr      unix  n - n 300 1 qmgr
            tlsmgr    unix  - - n 1000? 1 tlsmgr
            rewrite   unix  - - n - - trivial-rewrite
            bounce    unix  - - n - 0 bounce
            defer     unix  - - n - 0 bounce
            trace     unix  - - n - 0 bounce
            flush     unix  n - n 1000? 0 flush
            proxymap  unix  - - n - - proxymap
            error     unix  - - n - - error
            retry     unix  - - n - - error
            virtual   unix  - n n - - virtual
            anvil     unix  - - n - 1 anvil
            postlog   unix-dgram n - n - 1 postlogd

            """
        );
    }

    private static string Id(string what) => Programs.Run("id", [what, "postfix"]).Output.Trim();

    public override void Start()
    {
        StartDaemon($"/usr/sbin/postfix -c {ConfigFolder} start");
        Wait(() => Connector.IsRunning() && IsOpen(Smtp));
    }

    private bool IsOpen(int port)
    {
        using var client = new System.Net.Sockets.TcpClient();
        try
        {
            client.Connect(Address, port);
            return true;
        }
        catch (System.Net.Sockets.SocketException)
        {
            return false;
        }
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() => IsTaken(Smtp) || IsTaken(Submission);

    private bool IsTaken(int port)
    {
        var letter = Path.Combine(Folder, "letter");
        File.WriteAllText(letter, "Subject: the 8:15\r\n\r\nIt is late.\r\n");
        string[] way = ["-s", "-m", "10", $"smtp://{Address}:{port}/clerk", "--mail-from", "guard@thistledown.example"];
        return Programs.Run("curl", [.. way, "--mail-rcpt", "robin@thistledown.example", "-T", letter]).Code == 0;
    }

    public override Task<IConversation> TalkAsync() =>
        LineConversation.OpenAsync(Address, Smtp, false, [("", "220 "), ("EHLO client.example", "250 ")], "NOOP", "250 ");
}

internal sealed class DovecotServer : RealServer
{
    private const int Imap = 2143,
        Imaps = 2993,
        Pop3 = 2110;

    public DovecotServer()
    {
        foreach (var f in new[] { "etc", "etc/conf.d", "run", "state", "log", "mail" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        Programs.Run("chown", ["nobody:nogroup", Path.Combine(Folder, "mail")]);
        Connector = new DovecotConnector(
            new("dovecot", "dovecot", MainFile),
            new("dovecot", "/usr/sbin/dovecot", MainFile, null) { Names = [Name] }
        );
    }

    public override IConnector Connector { get; }
    public override string Service => "dovecot";
    public override string Name => "mail.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Imap, "imap"), new(Pop3, "pop3"), new(Imaps, null)];
    public override string ConfigFolder => Path.Combine(Folder, "etc");
    public override string MainFile => Path.Combine(ConfigFolder, "dovecot.conf");
    public override string BrokenLine => "no_such_setting = 1";
    public override int Pid => int.Parse(File.ReadAllText(Path.Combine(Folder, "run/master.pid")).Trim());

    public override void Configure((string Certificate, string Key)? foreign)
    {
        File.WriteAllText(Path.Combine(ConfigFolder, "users"), "robin:{PLAIN}pw\n");
        File.WriteAllText(
            Path.Combine(ConfigFolder, "conf.d/10-ssl.conf"),
            foreign is { } f ? $"ssl = yes # for all\nssl_cert = <{f.Certificate}\nssl_key =  <{f.Key}\n" : "# none yet\nssl = no\n"
        );
        File.WriteAllText(
            MainFile,
            $$"""
            base_dir = {{Folder}}/run
            state_dir = {{Folder}}/state
            log_path = {{Folder}}/log/dovecot.log
            listen = {{Address}}
            protocols = imap pop3
            disable_plaintext_auth = no
            mail_location = maildir:{{Folder}}/mail/%u
            first_valid_uid = 1
            first_valid_gid = 1
            !include conf.d/*.conf
            !include_try local.conf
            passdb {
              driver = passwd-file
              args = {{Folder}}/etc/users
            }
            userdb {
              driver = static
              args = uid=nobody gid=nogroup home={{Folder}}/mail/%u
            }
            service imap-login {
              inet_listener imap {
                port = {{Imap}}
              }
              inet_listener imaps {
                port = {{Imaps}}
                ssl = yes
              }
            }
            service pop3-login {
              inet_listener pop3 {
                port = {{Pop3}}
              }
              inet_listener pop3s {
                port = 0
              }
            }

            """
        );
    }

    public override void Start()
    {
        StartDaemon($"/usr/sbin/dovecot -c {MainFile}");
        Wait(Connector.IsRunning);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() => IsLetIn($"imap://{Address}:{Imap}/") || IsLetIn($"pop3://{Address}:{Pop3}/");

    private static bool IsLetIn(string url) => Programs.Run("curl", ["-s", "-m", "10", url, "-u", "robin:pw"]).Code == 0;

    public override Task<IConversation> TalkAsync() =>
        LineConversation.OpenAsync(Address, Imap, false, [("", "* OK"), ("a LOGIN robin pw", "a OK")], "b NOOP", "b OK");
}

internal sealed class PostgreSqlServer : RealServer
{
    private static readonly string PgPrograms = Path.Combine(
        Directory.GetDirectories("/usr/lib/postgresql").OrderBy(d => int.Parse(Path.GetFileName(d))).Last(),
        "bin"
    );
    private const int Port = 5440;
    private static readonly Lock Making = new();
    private static string? _made;

    public PostgreSqlServer()
    {
        // A cluster takes seconds to make and none to copy.
        Directory.CreateDirectory(Path.Combine(Folder, "run"));
        Programs.Run("cp", ["-a", Made(), ConfigFolder]);
        Programs.Run("chown", ["postgres:postgres", Path.Combine(Folder, "run")]);
        Connector = new PostgreSqlConnector(new("postgresql", "postgresql", MainFile), new("postgresql", PgPrograms, MainFile, null));
    }

    private static string Made()
    {
        lock (Making)
        {
            if (_made is not null)
                return _made;
            var folder = Directory.CreateTempSubdirectory("beacon-cluster-").FullName;
            Programs.Run("chown", ["postgres:postgres", folder]);
            var (code, _, error) = AsPostgres(
                $"{PgPrograms}/initdb",
                "-D",
                folder + "/data",
                "-U",
                "postgres",
                "--auth=trust",
                "-N",
                "--locale=C.UTF-8",
                "-E",
                "UTF8"
            );
            Assert.True(code == 0, error);
            AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(folder, recursive: true);
            return _made = folder + "/data";
        }
    }

    private static (int, string, string) AsPostgres(params string[] command) =>
        Programs.Run("setpriv", ["--reuid", "postgres", "--regid", "postgres", "--clear-groups", "--", .. command]);

    public override IConnector Connector { get; }
    public override string Service => "postgresql";
    public override string Name => "db.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, "postgres")];
    public override string ConfigFolder => Path.Combine(Folder, "data");
    public override string MainFile => Path.Combine(ConfigFolder, "postgresql.conf");
    public override string KeyOwner => "root:postgres:640";
    public override string BrokenLine => "listen_addresses 'not closed";
    public override int Pid => int.Parse(File.ReadLines(Path.Combine(ConfigFolder, "postmaster.pid")).First());

    protected override bool IsConfiguration(string path) =>
        Path.GetDirectoryName(path) == ConfigFolder && path.EndsWith(".conf", StringComparison.Ordinal);

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            Programs.Run("chown", ["postgres:postgres", f.Certificate, f.Key]);
        var tls = foreign is { } g ? $"ssl = on\nssl_cert_file = '{g.Certificate}' # snake oil\nssl_key_file='{g.Key}'\n" : "#ssl = off\n";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            listen_addresses = '{Address}'
            port = {Port}
            unix_socket_directories = '{Folder}/run'
            dynamic_shared_memory_type = mmap
            shared_buffers = 16MB
            max_connections 20
            fsync = off
            {tls}
            """
        );
        File.WriteAllText(
            Path.Combine(ConfigFolder, "pg_hba.conf"),
            "local all all trust\nhost    all   all   127.0.0.0/8   trust # the yard\n"
        );
        Programs.Run("chown", ["postgres:postgres", MainFile, Path.Combine(ConfigFolder, "pg_hba.conf")]);
    }

    public override void Start()
    {
        var (code, output, error) = AsPostgres($"{PgPrograms}/pg_ctl", "-D", ConfigFolder, "-w", "-l", $"{Folder}/run/pg.log", "start");
        Assert.True(code == 0, output + error);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            AsPostgres($"{PgPrograms}/pg_ctl", "-D", ConfigFolder, "-m", "immediate", "stop");
    }

    public override bool GoesInTheClear() =>
        Programs
            .Run("psql", ["-X", "-At", $"host={Address} port={Port} user=postgres dbname=postgres sslmode=disable", "-c", "select 40 + 2"])
            .Output.Trim() == "42";

    public override Task<IConversation> TalkAsync()
    {
        var psql = Process.Start(
            new ProcessStartInfo(
                "psql",
                ["-X", "-At", "-h", Path.Combine(Folder, "run"), "-p", Port.ToString(), "-U", "postgres", "-d", "postgres"]
            )
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            }
        )!;
        return Task.FromResult<IConversation>(new AskedClient(psql));
    }
}
