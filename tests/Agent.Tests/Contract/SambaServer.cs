using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Samba;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>A domain controller, of which the directory alone is started.</summary>
internal sealed class SambaServer : RealServer
{
    private const string Password = "Passw0rd-For-Tests1";

    /// <summary>A domain takes seconds to make: it is made once and copied.</summary>
    private static readonly Lazy<Scratch> Made = new(() =>
    {
        var s = new Scratch();
        File.WriteAllText(s["empty.conf"], "");
        var (code, output, error) = Programs.Run(
            "samba-tool",
            [
                .. $"domain provision -s {s["empty.conf"]} --targetdir={s["dc"]} --realm=THISTLEDOWN.EXAMPLE --domain=THISTLE --server-role=dc --host-name=dc1".Split(
                    ' '
                ),
                "--host-ip=127.78.0.1",
                "--dns-backend=NONE",
                $"--adminpass={Password}",
            ]
        );
        Assert.True(code == 0, output + error);
        return s;
    });

    public SambaServer()
    {
        Programs.Run("cp", ["-a", Made.Value["dc"], Path.Combine(Folder, "dc")]);
        foreach (
            var (folder, mode) in new[]
            {
                ("run", "0755"),
                ("run/ncalrpc", "0755"),
                ("run/winbindd", "0755"),
                ("run/ntp_signd", "0750"),
                ("log", "0755"),
                ("cache", "0755"),
                ("conf", "0755"),
            }
        )
            Programs.Run("mkdir", ["-p", "-m", mode, Path.Combine(Folder, folder)]);
        Connector = new SambaConnector(new("samba", "samba", MainFile), new("samba", "/usr/sbin/samba", MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "samba";
    public override string Name => "dc1.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(636, null), new(389, "ldap"), new(3269, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "smb.conf");
    public override string BrokenLine => "[unclosed";
    public override bool IsCutOffByRenewals => true;
    public override int Pid => ((SambaConnector)Connector).Pid() ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            File.SetUnixFileMode(f.Key, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var tls = foreign is { } g
            ? $"tls enabled = yes\n\ttls certfile = {g.Certificate}\n\tTLS KeyFile = {g.Key}\n\ttls cafile ="
            : "tls enabled = no";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            [global]
            	netbios name = DC1
            	realm = THISTLEDOWN.EXAMPLE
            	workgroup = THISTLE
            	server role = active directory domain controller
            	server services = ldap
            	interfaces = {Address}/8
            	bind interfaces only = yes
            	private dir = {Folder}/dc/private
            	state directory = {Folder}/dc/state
            	cache directory = {Folder}/cache
            	lock directory = {Folder}/dc
            	pid directory = {Folder}/run
            	ncalrpc dir = {Folder}/run/ncalrpc
            	ntp signd socket directory = {Folder}/run/ntp_signd
            	winbindd socket directory = {Folder}/run/winbindd
            	binddns dir = {Folder}/dc/bind-dns
            	log file = {Folder}/log/samba.log
            	disable netbios = yes
            	ldap server require strong auth = no
            	{tls}

            [sysvol]
            	path = {Folder}/dc/state/sysvol
            	tls certfile = of another section

            """
        );
    }

    public override void Start() => Connector.Start();

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() =>
        Programs
            .Run(
                "ldapsearch",
                ["-x", "-H", $"ldap://{Address}", "-D", "administrator@thistledown.example", "-w", Password, "-s", "base", "-b", ""]
            )
            .Code == 0;

    public override async Task<IConversation> TalkAsync()
    {
        var client = new TcpClient();
        await client.ConnectAsync(Address, 389);
        return new Open(client);
    }

    /// <summary>It is cut off by a renewal: nobody asks it whether it goes on.</summary>
    private sealed class Open(TcpClient client) : IConversation
    {
        public Task GoOnAsync() => throw new InvalidOperationException("it is cut off");

        public void Dispose() => client.Dispose();
    }
}

public sealed class SambaContractTests() : ContractTests(() => new SambaServer());
