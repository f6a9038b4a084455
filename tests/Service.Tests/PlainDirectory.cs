using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Service.Domain;

namespace OrderlyBeacon.Service.Tests;

/// <summary>
/// A plain LDAP directory of Thistledown Rail: a real slapd, in the clear and over TLS, with web07, jay, a computer that one of its users made, groups in a circle, and an entry
/// that refers to <see cref="Elsewhere"/>.
/// </summary>
internal sealed class PlainDirectory : IDisposable
{
    public const string Base = "dc=thistledown,dc=example",
        Admin = "cn=admin," + Base;

    private const string Schema = """
        attributetype ( 1.2.840.113556.1.4.221 NAME 'sAMAccountName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 SINGLE-VALUE )
        attributetype ( 1.2.840.113556.1.4.619 NAME 'dNSHostName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )
        attributetype ( 1.2.840.113556.1.4.771 NAME 'servicePrincipalName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )
        attributetype ( 1.2.840.113556.1.4.1410 NAME 'mS-DS-CreatorSID' EQUALITY octetStringMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 SINGLE-VALUE )
        objectclass ( 1.2.840.113556.1.3.30 NAME 'computer' SUP top STRUCTURAL MUST ( cn $ sAMAccountName ) MAY ( dNSHostName $ servicePrincipalName $ mS-DS-CreatorSID ) )

        """;

    private readonly Scratch _scratch;
    private readonly TcpListener _elsewhere = new(IPAddress.Loopback, 0);
    private Process _slapd;

    public PlainDirectory(Scratch scratch)
    {
        _scratch = scratch;
        _elsewhere.Start();
        (Port, TlsPort) = (FreePort(), FreePort());
        Directory.CreateDirectory(scratch["ldap"]);
        scratch.File("domain.schema", Schema);
        MakeCertificate();
        scratch.File(
            "slapd.conf",
            $"""
            include /etc/ldap/schema/core.schema
            include /etc/ldap/schema/cosine.schema
            include /etc/ldap/schema/inetorgperson.schema
            include {scratch["domain.schema"]}
            pidfile {scratch["pid"]}
            modulepath /usr/lib/ldap
            moduleload back_mdb
            TLSCertificateFile {scratch["ldap.pem"]}
            TLSCertificateKeyFile {scratch["ldap.key"]}
            database mdb
            maxsize 104857600
            suffix {Base}
            rootdn {Admin}
            rootpw signal
            directory {scratch["ldap"]}
            index objectClass,sAMAccountName,dNSHostName,servicePrincipalName,uid,member,uniqueMember eq

            """
        );
        _slapd = Start();
        Add();
    }

    public int Port { get; }
    public int TlsPort { get; }

    /// <summary>Where the directory refers to. Nobody is to follow.</summary>
    public int Elsewhere => ((IPEndPoint)_elsewhere.LocalEndpoint).Port;

    /// <summary>Whether anybody followed the reference.</summary>
    public bool WasFollowed => _elsewhere.Pending();

    /// <summary>Folder with the authority that its certificate comes from.</summary>
    public string Trust => _scratch["trust"];

    public LdapDirectory Open(string? address = null, string @base = Base, string password = "signal", string trust = "") =>
        new(
            new(
                new(address ?? $"ldap://127.0.0.1:{Port}"),
                @base,
                "THISTLEDOWN.EXAMPLE",
                Admin,
                _scratch.File("password-" + password, password),
                trust
            )
        );

    public void Kill()
    {
        _slapd.Kill();
        _slapd.WaitForExit();
    }

    public void StartAgain() => _slapd = Start();

    /// <summary>Adds entries while it is down: thousands in a second.</summary>
    public void AddWhileDown(string entries)
    {
        var (code, output, error) = Programs.Run(
            "/usr/sbin/slapadd",
            ["-q", "-f", _scratch["slapd.conf"], "-l", _scratch.File("more.ldif", entries)]
        );
        Assert.True(code == 0, output + error);
    }

    /// <summary>It takes connections and answers nothing, until <paramref name="signal"/> is CONT.</summary>
    /// <summary>It stands still: no thread of it runs when this returns. A signal that was sent has not arrived yet.</summary>
    public void StandStill()
    {
        Signal("STOP");
        Assert.True(SpinWait.SpinUntil(() => Directory.GetDirectories($"/proc/{_slapd.Id}/task").All(IsStopped), 10_000), "slapd runs on");
    }

    public void GoOn() => Signal("CONT");

    private void Signal(string signal) => Programs.Run("kill", ["-" + signal, _slapd.Id.ToString()]);

    private static bool IsStopped(string thread)
    {
        try
        {
            return File.ReadAllText(Path.Combine(thread, "stat")).Split(") ")[^1].StartsWith('T');
        }
        catch (IOException)
        {
            // It has ended meanwhile: all are looked at once more.
            return false;
        }
    }

    private void MakeCertificate()
    {
        Directory.CreateDirectory(Trust);
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {_scratch["ldap.key"]} -out {_scratch["ldap.pem"]} -days 30 -subj /CN=Directory -addext subjectAltName=DNS:localhost,IP:127.0.0.1"
        );
        File.Copy(_scratch["ldap.pem"], Path.Combine(Trust, "directory.pem"));
    }

    private void Add()
    {
        var entries = $"""
            dn: {Base}
            objectClass: dcObject
            objectClass: organization
            o: Thistledown Rail
            dc: thistledown

            dn: cn=web07,{Base}
            objectClass: computer
            cn: web07
            sAMAccountName: web07$
            dNSHostName: web07.thistledown.example
            servicePrincipalName: HTTP/shop.thistledown.example

            dn: cn=lap01,{Base}
            objectClass: computer
            cn: lap01
            sAMAccountName: lap01$
            dNSHostName: lap01.thistledown.example
            mS-DS-CreatorSID:: AQUAAAAAAAUVAAAA

            dn: uid=jay,{Base}
            objectClass: inetOrgPerson
            uid: jay
            cn: Jay
            sn: Jay

            dn: cn=web-team,{Base}
            objectClass: groupOfNames
            cn: web-team
            member: uid=jay,{Base}

            dn: cn=laptops,{Base}
            objectClass: groupOfNames
            cn: laptops
            member: cn=lap01,{Base}

            dn: cn=everything,{Base}
            objectClass: groupOfNames
            cn: everything
            member: cn=laptops,{Base}

            dn: cn=web-servers,{Base}
            objectClass: groupOfNames
            cn: web-servers
            member: cn=web07,{Base}
            member: cn=all-servers,{Base}

            dn: cn=all-servers,{Base}
            objectClass: groupOfNames
            cn: all-servers
            member: cn=web-servers,{Base}

            dn: cn=elsewhere,{Base}
            objectClass: referral
            objectClass: extensibleObject
            cn: elsewhere
            ref: ldap://127.0.0.1:{Elsewhere}/{Base}

            """;
        var (code, _, error) = Programs.Run(
            "ldapadd",
            ["-x", "-H", $"ldap://127.0.0.1:{Port}", "-D", Admin, "-w", "signal"],
            System.Text.Encoding.UTF8.GetBytes(entries)
        );
        Assert.True(code == 0, error);
    }

    private static int FreePort() => Ports.Free();

    private Process Start()
    {
        var addresses = $"'ldap://127.0.0.1:{Port} ldaps://127.0.0.1:{TlsPort}'";
        var command = $"exec /usr/sbin/slapd -d 0 -f {_scratch["slapd.conf"]} -h {addresses} > {_scratch["slapd.log"]} 2>&1";
        var p = Process.Start(new ProcessStartInfo("bash", ["-c", command]))!;
        for (var i = 0; i < 1200 && !p.HasExited; i++)
        {
            using var tcp = new TcpClient();
            try
            {
                tcp.Connect(IPAddress.Loopback, TlsPort);
                return p;
            }
            catch (SocketException)
            {
                Thread.Sleep(50);
            }
        }
        throw new InvalidOperationException(File.ReadAllText(_scratch["slapd.log"]));
    }

    public void Dispose()
    {
        if (!_slapd.HasExited)
            _slapd.Kill();
        _slapd.Dispose();
        _elsewhere.Dispose();
    }
}
