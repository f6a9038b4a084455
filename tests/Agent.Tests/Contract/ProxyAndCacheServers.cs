using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.HaProxy;
using OrderlyBeacon.Agent.Connectors.Redis;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class HaProxyServer : RealServer
{
    private const int Plain = 8080,
        Tls = 8443;

    public HaProxyServer()
    {
        Directory.CreateDirectory(ConfigFolder);
        Connector = new HaProxyConnector(new("haproxy", "haproxy", MainFile), new("haproxy", "/usr/sbin/haproxy", MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "haproxy tickets";
    public override string Name => "tickets.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "haproxy.cfg");
    public override string BrokenLine => "    no such keyword";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "haproxy.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        var tls = "";
        if (foreign is { } f)
        {
            File.AppendAllText(f.Certificate, File.ReadAllText(f.Key));
            tls = $"    bind {Address}:{Tls} ssl crt {f.Certificate} alpn http/1.1\n";
        }
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            global
                pidfile {Folder}/haproxy.pid
                maxconn 100
            defaults
                mode http
                timeout connect 5s
                timeout client 30s
                timeout server 30s
            frontend tickets
                bind {Address}:{Plain}
            {tls}    http-request return status 200 content-type text/plain string "hello # not a comment"
            backend unused
                server one 127.0.0.1:1

            """
        );
    }

    public override void Start()
    {
        StartDaemon($"/usr/sbin/haproxy -W -D -q -f {MainFile}");
        Wait(Connector.IsRunning);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() => IsPageRead(Plain);

    // The worker from before goes on with what has begun.
    public override async Task<IConversation> TalkAsync() => await HalfRequest.OpenAsync(Address, Plain, "/", Name);
}

internal sealed class RedisServer : RealServer
{
    private const int Plain = 6390,
        Tls = 6391;

    public RedisServer()
    {
        Directory.CreateDirectory(ConfigFolder);
        Directory.CreateDirectory(Path.Combine(Folder, "data"));
        Programs.Run("chown", ["redis:redis", ConfigFolder, Path.Combine(Folder, "data")]);
        Connector = new RedisConnector(new("redis", "redis", MainFile), new("redis", "/usr/bin/redis-server", MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "redis";
    public override string Name => "cache.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "redis.conf");
    public override string KeyOwner => "root:redis:640";
    public override string BrokenLine => "no-such-setting 1";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "data/redis.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            Programs.Run("chown", ["redis:redis", f.Certificate, f.Key]);
        var tls = foreign is { } g ? $"tls-port {Tls}\ntls-cert-file \"{g.Certificate}\"\nTLS-KEY-FILE {g.Key}\ntls-auth-clients no\n" : "";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            bind {Address}
            port {Plain}
            dir {Folder}/data
            pidfile {Folder}/data/redis.pid
            logfile {Folder}/data/redis.log
            save ""
            requirepass "a pass # word"
            {tls}
            """
        );
        Programs.Run("chown", ["redis:redis", MainFile]);
    }

    public override void Start()
    {
        var account = ServerAccount.OwnerOf(MainFile)!;
        StartDaemon(string.Join(' ', account.Command("/usr/bin/redis-server", MainFile, "--daemonize", "yes")));
        Wait(Connector.IsRunning);
        // A pid file comes before the listeners.
        Wait(() => Programs.Run("redis-cli", ["-h", Address, "-p", Plain.ToString(), "ping"]).Output.Contains("NOAUTH"));
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-KILL", Pid.ToString()]);
    }

    public override bool GoesInTheClear() =>
        Programs.Run("redis-cli", ["-h", Address, "-p", Plain.ToString(), "ping"]).Output.Contains("NOAUTH");

    public override Task<IConversation> TalkAsync() =>
        LineConversation.OpenAsync(Address, Plain, false, [("AUTH \"a pass # word\"", "+OK")], "PING", "+PONG");
}

public sealed class HaProxyContractTests() : ContractTests(() => new HaProxyServer())
{
    [Fact]
    public void A_master_that_writes_its_pid_file_anew_is_not_dead()
    {
        using var s = new HaProxyServer();
        s.Configure(null);
        s.Start();
        var master = s.Pid;
        s.Connector.TakeUp();
        File.WriteAllText(Path.Combine(s.Folder, "haproxy.pid"), "");
        Assert.True(s.Connector.IsRunning());
        ServerProcess.WaitUntil(s.Connector.IsSettled);
        File.WriteAllText(Path.Combine(s.Folder, "haproxy.pid"), $"{master}\n");
        s.Stop();
        ServerProcess.WaitUntil(() => !s.Connector.IsRunning());
        Assert.False(s.Connector.IsRunning());
    }
}

public sealed class RedisContractTests() : ContractTests(() => new RedisServer());
