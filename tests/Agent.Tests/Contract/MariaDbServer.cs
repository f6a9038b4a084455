using System.Diagnostics;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.MariaDb;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class MariaDbServer : RealServer
{
    private const int Port = 3390;
    private static readonly ServerAccount Owner = new("www-data", 33, 33);
    private static readonly Lock Making = new();
    private static string? _made;

    public MariaDbServer()
    {
        Directory.CreateDirectory(ConfigFolder);
        Programs.Run("cp", ["-a", Made(), Data]);
        Connector = new MariaDbConnector(new("mariadb", "mariadb", MainFile), new("mariadb", "/usr/sbin/mariadbd", MainFile, null));
    }

    private string Data => Path.Combine(Folder, "data");

    /// <summary>Tables of its own take seconds to make and none to copy.</summary>
    private static string Made()
    {
        lock (Making)
        {
            if (_made is not null)
                return _made;
            var folder = Directory.CreateTempSubdirectory("beacon-tables-").FullName;
            Programs.Run("chown", ["www-data:www-data", folder]);
            var (code, output, error) = Programs.Run(
                "setpriv",
                [
                    .. Owner.Command(
                        "mariadb-install-db",
                        "--no-defaults",
                        $"--datadir={folder}/data",
                        "--auth-root-authentication-method=socket",
                        "--auth-root-socket-user=root",
                        "--skip-test-db",
                        "--innodb-log-file-size=4M"
                    )[1..],
                ],
                seconds: 60
            );
            Assert.True(code == 0, output + error);
            AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(folder, recursive: true);
            return _made = folder + "/data";
        }
    }

    public override IConnector Connector { get; }
    public override string Service => "mariadb";
    public override string Name => "fares.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, "mysql")];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "my.cnf");
    public override string KeyOwner => "root:www-data:640";
    public override string BrokenLine => "no-such-setting = 1";
    public override int Pid => ServerProcess.InFile(Path.Combine(Data, "m.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            Programs.Run("chown", ["www-data:www-data", f.Certificate, f.Key]);
        var tls = foreign is { } g ? $"ssl-cert={g.Certificate}  # snake oil\nssl_key = '{g.Key}'\n" : "";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            [client]
            port = 1
            [mariadbd]
            datadir = {Data}
            socket = {Data}/m.sock
            pid-file = m.pid
            log_error = {Data}/error.log
            bind_address = {Address}
            port = {Port}
            innodb_buffer_pool_size = 8M
            innodb_log_file_size = 4M
            innodb_flush_log_at_trx_commit = 0
            aria_pagecache_buffer_size = 1M
            key_buffer_size = 1M
            performance_schema = OFF
            skip_name_resolve
            {tls}
            """
        );
        Programs.Run("chown", ["www-data:www-data", MainFile]);
    }

    public override void Start()
    {
        Connector.Start();
        // Who has no account for where it calls from is sent away before there is any talk of TLS.
        var (code, _, error) = Programs.Run(
            "mariadb",
            ["--no-defaults", "-S", Data + "/m.sock", "-e", "create user if not exists clerk@'127.%' identified by 'signal'"]
        );
        Assert.True(code == 0, error);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-KILL", Pid.ToString()]);
    }

    public override bool GoesInTheClear() =>
        Programs
            .Run(
                "mariadb",
                ["--no-defaults", "--skip-ssl", "-h", Address, "-P", Port.ToString(), "-u", "clerk", "-psignal", "-NBe", "select 40 + 2"]
            )
            .Output.Trim() == "42";

    public override Task<IConversation> TalkAsync()
    {
        var client = Process.Start(
            new ProcessStartInfo("mariadb", ["--no-defaults", "-S", Data + "/m.sock", "-N", "-B", "-n"])
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            }
        )!;
        return Task.FromResult<IConversation>(new AskedClient(client));
    }
}

public sealed class MariaDbContractTests() : ContractTests(() => new MariaDbServer());
