using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Slapd;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class SlapdServer : RealServer
{
    private const int Plain = 1389,
        Tls = 1636;

    public SlapdServer()
    {
        foreach (var f in new[] { "run", "db" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        Programs.Run("chown", ["openldap:openldap", Path.Combine(Folder, "run"), Path.Combine(Folder, "db")]);
        Connector = new SlapdConnector(new("slapd", "slapd", ConfigFolder), new("slapd", "/usr/sbin/slapd", ConfigFolder, null));
    }

    private string Socket => $"ldapi://{Path.Combine(Folder, "run/ldapi").Replace("/", "%2F", StringComparison.Ordinal)}";
    public override IConnector Connector { get; }
    public override string Service => "slapd";
    public override string Name => "ldap.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Plain, "ldap"), new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "slapd.d");
    public override string MainFile => Path.Combine(ConfigFolder, "cn=config.ldif");
    public override string KeyOwner => "root:openldap:640";
    public override string BrokenLine => "this is no attribute";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "run/slapd.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            Programs.Run("chown", ["openldap:openldap", f.Certificate, f.Key]);
        var tls = foreign is { } g ? $"olcTLSCertificateFile: {g.Certificate}\nolcTLSCertificateKeyFile: {g.Key}\n" : "";
        var ldif = $$"""
            dn: cn=config
            objectClass: olcGlobal
            cn: config
            olcPidFile: {{Folder}}/run/slapd.pid
            olcArgsFile: {{Folder}}/run/slapd.args
            olcThreads: 4
            {{tls}}
            dn: cn=module{0},cn=config
            objectClass: olcModuleList
            cn: module{0}
            olcModulePath: /usr/lib/ldap
            olcModuleLoad: back_mdb

            dn: cn=schema,cn=config
            objectClass: olcSchemaConfig
            cn: schema

            include: file:///etc/ldap/schema/core.ldif

            dn: olcDatabase={0}config,cn=config
            objectClass: olcDatabaseConfig
            olcDatabase: {0}config
            olcAccess: to * by dn.exact=gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth manage by * none

            dn: olcDatabase={1}mdb,cn=config
            objectClass: olcDatabaseConfig
            objectClass: olcMdbConfig
            olcDatabase: {1}mdb
            olcDbDirectory: {{Folder}}/db
            olcSuffix: dc=thistledown,dc=example
            olcDbMaxSize: 16777216

            """.Replace("\r", "").Replace("\n\n\n", "\n\n");
        if (Directory.Exists(ConfigFolder))
            Directory.Delete(ConfigFolder, recursive: true);
        Directory.CreateDirectory(ConfigFolder);
        var path = Path.Combine(Folder, "init.ldif");
        File.WriteAllText(path, ldif);
        var (code, output, error) = Programs.Run("slapadd", ["-n", "0", "-F", ConfigFolder, "-l", path]);
        Assert.True(code == 0, output + error);
        Programs.Run("chown", ["-R", "openldap:openldap", ConfigFolder]);
        // What it listens at it writes down when it starts.
        File.WriteAllText(Path.Combine(Folder, "run/slapd.args"), $"/usr/sbin/slapd -h {Listens} -u openldap");
        Programs.Run("chown", ["openldap", Path.Combine(Folder, "run/slapd.args")]);
    }

    private string Listens => $"ldap://{Address}:{Plain} ldaps://{Address}:{Tls} {Socket}";

    public override void Start()
    {
        var (code, output, error) = Programs.Run("slapd", ["-F", ConfigFolder, "-h", Listens, "-u", "openldap", "-g", "openldap"]);
        Assert.True(code == 0, output + error);
        Wait(Connector.IsRunning);
    }

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-KILL", Pid.ToString()]);
    }

    /// <summary>Its values; it notes beside them when and by whom they were changed, and in which order.</summary>
    public override string Snapshot()
    {
        string[] notes = ["# ", "entryCSN", "modifiersName", "modifyTimestamp"];
        return string.Join(
            '\n',
            File.ReadAllText(MainFile)
                .Replace("\n ", "", StringComparison.Ordinal)
                .Split('\n')
                .Where(l => !notes.Any(l.StartsWith))
                .Order(StringComparer.Ordinal)
        );
    }

    /// <summary>It writes its file anew when it is told to read the pair again.</summary>
    public override DateTime ChangedAt() => DateTime.MinValue;

    public override void ByAnotherHand()
    {
        var path = Path.Combine(Folder, "hand.ldif");
        File.WriteAllText(path, "dn: cn=config\nchangetype: modify\nreplace: olcIdleTimeout\nolcIdleTimeout: 77\n");
        var (code, _, error) = Programs.Run("ldapmodify", ["-Q", "-Y", "EXTERNAL", "-H", Socket, "-f", path]);
        Assert.True(code == 0, error);
    }

    public override string WithAnotherHand(string snapshot) =>
        string.Join('\n', snapshot.Split('\n').Append("olcIdleTimeout: 77").Order(StringComparer.Ordinal));

    public override bool GoesInTheClear() =>
        Programs.Run("ldapsearch", ["-x", "-H", $"ldap://{Address}:{Plain}", "-s", "base", "-b", ""]).Code == 0;

    public override Task<IConversation> TalkAsync()
    {
        var client = new TcpClient();
        client.Connect(Address, Plain);
        return Task.FromResult<IConversation>(new Binds(client));
    }

    /// <summary>Binds without a name, again and again on one connection (RFC 4511, section 4.2).</summary>
    private sealed class Binds(TcpClient client) : IConversation
    {
        private static readonly byte[] Bind = Convert.FromHexString("300C020101600702010304008000");

        public async Task GoOnAsync()
        {
            await client.GetStream().WriteAsync(Bind);
            var answer = new byte[14];
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
            await client.GetStream().ReadExactlyAsync(answer, limit.Token);
            Assert.Equal(0, answer[9]);
        }

        public void Dispose() => client.Dispose();
    }
}

public sealed class SlapdContractTests() : ContractTests(() => new SlapdServer());
