using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The directory file and a plain LDAP directory (a real slapd); the domain's own is tested in Domain.Tests.</summary>
public sealed class DirectoryTests
{
    private const string Rail = """
        computers:
          web07:
            names: [web07.thistledown.example]
            principals: [HOST/web07, HTTP/shop.thistledown.example, HTTP/shop.thistledown.example:8443]
          mail01: { names: [mail01.thistledown.example] }
        people: { jay: }
        groups:
          web-servers: [WEB07$, all-servers]
          all-servers: [web-servers]
          web-team: [jay]
        """;

    private static async Task<BeaconProblem> AwayAsync(string yaml)
    {
        using var s = new Scratch();
        return await Assert.ThrowsAsync<BeaconProblem>(() =>
            new EmbeddedDirectory(s.File("d.yaml", yaml)).ComputerOfAccountAsync("web07$", CancellationToken.None)
        );
    }

    [Fact]
    public async Task A_file_says_who_is_in_what_and_is_read_again()
    {
        using var s = new Scratch();
        var path = s.File("d.yaml", Rail);
        var d = new EmbeddedDirectory(path);
        var web07 = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
        // Groups in a circle are each taken once.
        Assert.Equal(["all-servers", "web-servers"], web07.Groups.Select(g => g.Name));
        Assert.Equal("HTTP/shop.thistledown.example", DirectoryBook.ServiceNames(web07)["shop.thistledown.example"]);
        Assert.Equal("WEB07$", Assert.Single(await d.ComputersOfNameAsync("web07.thistledown.example", CancellationToken.None)).Account);
        var owners = await d.OwnersAsync(
            ["shop.thistledown.example", "mail01.thistledown.example", "nobody.example"],
            CancellationToken.None
        );
        Assert.Equal(["MAIL01$", "WEB07$"], owners.SelectMany(o => o.Value).Order());
        Assert.Equal("web-team", Assert.Single((await d.PersonAsync("Jay", CancellationToken.None))!.Groups).Name);
        File.WriteAllText(path, Rail.Replace("[jay]", "[jay, wren]"));
        File.SetLastWriteTimeUtc(path, DateTime.UtcNow.AddSeconds(5));
        Assert.NotNull(await d.PersonAsync("wren", CancellationToken.None));
    }

    [Theory]
    [InlineData("", "empty")]
    [InlineData("computers: [a, b]", "line 1")]
    [InlineData("computers:\n  web07: { adresses: [a] }", "adresses")]
    [InlineData("servers: {}", "servers")]
    [InlineData("groups:\n  web: web07", "line 2")]
    [InlineData("groups: {web: [[a]]}", "not a name")]
    [InlineData("groups: {web: [", "line")]
    [InlineData("computers: { web07: {}, WEB07$: {} }", "twice")]
    [InlineData("groups: { Web: [a], web: [b] }", "twice")]
    [InlineData("a: &a [*a]", "")]
    public async Task A_file_that_makes_no_sense_is_away_with_the_place(string yaml, string said)
    {
        var p = await AwayAsync(yaml);
        Assert.Equal(ProblemCode.DirectoryAway, p.Code);
        Assert.Contains(said, p.Message);
    }

    [Fact]
    public void Values_in_filters_are_values()
    {
        Assert.Equal("\\2a\\29\\28objectClass=\\2a\\00\\5c", LdapDirectory.Escape("*)(objectClass=*\0\\"));
        Assert.Equal("m\\c3\\bcller", LdapDirectory.Escape("müller"));
    }

    [Fact]
    public async Task A_plain_directory_is_followed_level_by_level()
    {
        using var s = new Scratch();
        var port = FreePort();
        using var slapd = Slapd(s, port);
        try
        {
            using var d = new LdapDirectory(
                new(
                    new($"ldap://127.0.0.1:{port}"),
                    "dc=thistledown,dc=example",
                    "THISTLEDOWN.EXAMPLE",
                    "cn=admin,dc=thistledown,dc=example",
                    s.File("pw", "signal"),
                    ""
                )
            );
            var web07 = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
            Assert.Equal(["all-servers", "web-servers"], web07.Groups.Select(g => g.Name).Order());
            Assert.NotEmpty(web07.Id);
            Assert.NotNull(web07.Groups[0].Changed);
            var owners = await d.OwnersAsync(
                ["shop.thistledown.example", "web07.thistledown.example", "x.example"],
                CancellationToken.None
            );
            Assert.Equal(2, owners.Count);
            Assert.Contains((await d.PersonAsync("jay@thistledown.example", CancellationToken.None))!.Groups, g => g.Name == "web-team");
            // Who writes a filter into a name finds nobody.
            foreach (var name in new[] { "*", "jay)(uid=*", "*)(objectClass=*", "jay\0", "\\2a" })
            {
                Assert.Null(await d.PersonAsync(name, CancellationToken.None));
                Assert.Null(await d.ComputerOfAccountAsync(name, CancellationToken.None));
                Assert.Empty(await d.OwnersAsync([name], CancellationToken.None));
            }
            using var wrong = new LdapDirectory(
                new(new($"ldap://127.0.0.1:{port}"), "", "", "cn=admin,dc=thistledown,dc=example", s.File("wrong", "guess"), "")
            );
            var refused = await Assert.ThrowsAsync<BeaconProblem>(() => wrong.PersonAsync("jay", CancellationToken.None));
            Assert.Contains("was refused", refused.Cure);
            // It dies; what was kept is no help, and the next answer comes once it is back.
            slapd.Kill();
            slapd.WaitForExit();
            var away = await Assert.ThrowsAsync<BeaconProblem>(() => d.PersonAsync("jay", CancellationToken.None));
            Assert.Equal(ProblemCode.DirectoryAway, away.Code);
            using var again = Start(s, port);
            Assert.NotNull(await d.PersonAsync("jay", CancellationToken.None));
            again.Kill();
        }
        finally
        {
            if (!slapd.HasExited)
                slapd.Kill();
        }
    }

    [Fact]
    public async Task With_a_file_groups_give_zones_and_roles_and_a_new_membership_is_said()
    {
        var world = new AttackedWorld();
        using var s = new Scratch();
        var path = s.File("d.yaml", Rail);
        world.Settings["BEACON_DIRECTORY"] = path;
        world.Settings["BEACON_DNS"] = "none";
        world.Settings["BEACON_ZONES"] = AttackedWorld.Zones + ";apps.thistledown.example=directory:shop-team";
        world.Settings["BEACON_ROLES"] = "auditors=web-team";
        await ((IAsyncLifetime)world).InitializeAsync();
        try
        {
            // web-team of the file makes jay an auditor; a group there that is called administrators makes nobody one.
            Assert.True((await CallAsync(world.Jay, "GET", "people")).IsDone);
            Change(path, Rail + "\n  shop-team: [finch]\n  administrators: [jay]\n");
            await CallAsync(world.Jay, "POST", "directory/refresh", "{}");
            Assert.Equal("not-allowed", (await CallAsync(world.Jay, "POST", "consents/1", "{}")).Code);
            var csr = Csrs.Make(s, "DNS:a.apps.thistledown.example");
            async Task<(string Verdict, string Warnings)> PreviewAsync()
            {
                var p = await CallAsync(world.Jay, "POST", "requests/preview", Wish(csr).ToJsonString());
                Assert.True(p.IsDone, p.ToString());
                return (p.Json!["verdicts"]![0]!["reason"]!.GetValue<string>(), p.Json["warnings"]!.ToJsonString());
            }
            Assert.Equal("zone-of-others", (await PreviewAsync()).Verdict);
            Change(path, Rail + "\n  shop-team: [finch, jay]\n");
            // What was said some seconds ago stands; that it has changed is seen when somebody is refused by it.
            await Task.Delay(5500);
            var (verdict, warnings) = await PreviewAsync();
            Assert.Equal("zone-of-others", verdict);
            Assert.Contains("jay joined", warnings);
            Assert.Equal("zone-held", (await PreviewAsync()).Verdict);
            // A file that cannot be read grants nothing; administrators come in and see why.
            Change(path, "groups: [");
            await CallAsync(world.Robin, "POST", "directory/refresh", "{}");
            Assert.Equal("directory-away", (await CallAsync(world.Robin, "POST", "requests/preview", Wish(csr).ToJsonString())).Code);
            var state = await CallAsync(world.Robin, "GET", "directory");
            Assert.Contains("cannot be read", state.Json!["away"]!["message"]!.GetValue<string>());
        }
        finally
        {
            await world.DisposeAsync();
        }
    }

    private static void Change(string path, string text)
    {
        var before = File.GetLastWriteTimeUtc(path);
        File.WriteAllText(path, text);
        File.SetLastWriteTimeUtc(path, before.AddSeconds(1));
    }

    private static int FreePort()
    {
        using var l = new TcpListener(IPAddress.Loopback, 0);
        l.Start();
        return ((IPEndPoint)l.LocalEndpoint).Port;
    }

    private static Process Slapd(Scratch s, int port)
    {
        Directory.CreateDirectory(s["ldap"]);
        s.File(
            "domain.schema",
            """
            attributetype ( 1.2.840.113556.1.4.221 NAME 'sAMAccountName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 SINGLE-VALUE )
            attributetype ( 1.2.840.113556.1.4.619 NAME 'dNSHostName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )
            attributetype ( 1.2.840.113556.1.4.771 NAME 'servicePrincipalName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )
            objectclass ( 1.2.840.113556.1.3.30 NAME 'computer' SUP top STRUCTURAL MUST ( cn $ sAMAccountName ) MAY ( dNSHostName $ servicePrincipalName ) )

            """
        );
        s.File(
            "slapd.conf",
            $"include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude /etc/ldap/schema/inetorgperson.schema\ninclude {s["domain.schema"]}\npidfile {s["pid"]}\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\ndatabase mdb\nmaxsize 104857600\nsuffix dc=thistledown,dc=example\nrootdn cn=admin,dc=thistledown,dc=example\nrootpw signal\ndirectory {s["ldap"]}\n"
        );
        var p = Start(s, port);
        const string End = "dc=thistledown,dc=example";
        var entries = $"""
            dn: {End}
            objectClass: dcObject
            objectClass: organization
            o: Thistledown Rail
            dc: thistledown

            dn: cn=web07,{End}
            objectClass: computer
            cn: web07
            sAMAccountName: web07$
            dNSHostName: web07.thistledown.example
            servicePrincipalName: HTTP/shop.thistledown.example

            dn: uid=jay,{End}
            objectClass: inetOrgPerson
            uid: jay
            cn: Jay
            sn: Jay

            dn: cn=web-team,{End}
            objectClass: groupOfNames
            cn: web-team
            member: uid=jay,{End}

            dn: cn=web-servers,{End}
            objectClass: groupOfNames
            cn: web-servers
            member: cn=web07,{End}
            member: cn=all-servers,{End}

            dn: cn=all-servers,{End}
            objectClass: groupOfNames
            cn: all-servers
            member: cn=web-servers,{End}

            """;
        var (code, _, error) = Programs.Run(
            "ldapadd",
            ["-x", "-H", $"ldap://127.0.0.1:{port}", "-D", "cn=admin," + End, "-w", "signal"],
            System.Text.Encoding.UTF8.GetBytes(entries)
        );
        Assert.True(code == 0, error);
        return p;
    }

    private static Process Start(Scratch s, int port)
    {
        var p = Process.Start(
            new ProcessStartInfo(
                "bash",
                ["-c", $"exec /usr/sbin/slapd -d 0 -f {s["slapd.conf"]} -h ldap://127.0.0.1:{port} > {s["slapd.log"]} 2>&1"]
            )
        )!;
        for (var i = 0; i < 100; i++)
        {
            using var tcp = new TcpClient();
            try
            {
                tcp.Connect(IPAddress.Loopback, port);
                return p;
            }
            catch (SocketException)
            {
                Thread.Sleep(50);
            }
        }
        throw new InvalidOperationException(File.ReadAllText(s["slapd.log"]));
    }
}
