using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text.Json;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Lists and certificates brought to a folder, a real OpenSSH and a real slapd: each is read back there by its own client.</summary>
public sealed class PushTests
{
    private static int FreePort() => Ports.Free();

    [Fact]
    public async Task A_folder_an_sftp_server_and_a_directory_have_what_is_published()
    {
        foreach (
            var (program, package) in new[]
            {
                ("/usr/sbin/sshd", "openssh-server"),
                ("/usr/sbin/slapd", "slapd"),
                ("/usr/bin/ldapsearch", "ldap-utils"),
            }
        )
            Assert.True(File.Exists(program), $"{program} is missing: apt-get install {package}");
        await using var service = new RunningService();
        var s = service.Scratch;
        s.File("password", RunningService.Password);
        var (sshPort, ldapPort) = (FreePort(), FreePort());
        using var sshd = Sshd(s, sshPort);
        using var slapd = Slapd(s, ldapPort);
        var hostKey = Programs.Run("ssh-keygen", ["-lf", s["host_key.pub"]]).Output.Split(' ')[1];
        var (folder, remote) = (s["web"], Directory.CreateDirectory(s["remote"]).FullName);
        string Pushes(string key) =>
            $"folder:{folder};sftp://{Environment.UserName}@127.0.0.1:{sshPort}{remote}?key={s["user_key"]}&host-key={Uri.EscapeDataString(key)};ldap://127.0.0.1:{ldapPort}/ou=pki,dc=thistledown,dc=example?bind=cn=admin,dc=thistledown,dc=example&password-file={s.File("ldap-password", "signal")}";
        var settings = new Dictionary<string, string> { ["BEACON_PUSHES"] = Pushes(hostKey), ["BEACON_HEALTHMINUTES"] = "600" };
        await service.StartAsync(settings);
        var home = service.Home();

        var report = await HealthAsync(service, home, r => r.GetProperty("pushes").GetArrayLength() == 3 && Good(r) == 3);
        Assert.True(Good(report) == 3, report.ToString() + service.Errors);
        Compare();

        // A revocation is there within seconds, in all three.
        using var work = new Scratch();
        var (status, body) = EstTests.Enrol(service, work, EstTests.Make(work, "DNS:pushed.thistledown.example").Csr);
        Assert.True(status == "200", body);
        Assert.Equal(0, service.Beacon(home, "cert", "revoke", "pushed.thistledown.example@robin", "--reason", "superseded").Code);
        for (var i = 0; i < 100 && Crl.Read(File.ReadAllBytes(Path.Combine(folder, "issuing.crl"))).Revoked.Count == 0; i++)
            await Task.Delay(100, TestContext.Current.CancellationToken);
        await HealthAsync(service, home, r => Good(r) == 3);
        await Task.Delay(3000, TestContext.Current.CancellationToken);
        Compare();
        Assert.Single(Crl.Read(File.ReadAllBytes(Path.Combine(remote, "issuing.crl"))).Revoked);

        // The SFTP server away, another host key, and a folder that cannot be written: named, and what was there stays.
        sshd.Kill();
        await sshd.WaitForExitAsync(TestContext.Current.CancellationToken);
        service.KillHard();
        settings["BEACON_PUSHES"] = Pushes(hostKey) + ";folder:/proc/nowhere";
        await service.StartAsync(settings);
        report = await HealthAsync(service, home, r => r.GetProperty("pushes").GetArrayLength() == 4);
        Assert.Equal(2, Good(report));
        Assert.Contains("push-failed", service.Beacon(home, "status", "--json").Output);
        Assert.Contains("cannot be written", report.ToString());
        using (var other = Sshd(s, sshPort, "other_key"))
        {
            service.KillHard();
            await service.StartAsync(settings);
            report = await HealthAsync(service, home, r => r.GetProperty("pushes").GetArrayLength() == 4);
            Assert.Contains("somebody is in between", report.ToString());
            other.Kill();
        }
        Assert.Single(Crl.Read(File.ReadAllBytes(Path.Combine(remote, "issuing.crl"))).Revoked);
        slapd.Kill();

        void Compare()
        {
            using var http = new HttpClient();
            foreach (
                var (path, file) in new[]
                {
                    ("crl", "issuing.crl"),
                    ("crl", "issuing-delta.crl"),
                    ("crl", "root.crl"),
                    ("issuer", "issuing.cer"),
                    ("issuer", "root.cer"),
                }
            )
            {
                Programs.Run("curl", ["-sSf", "-o", s["ours"], $"http://localhost:{service.PublicationPort}/{path}/{file}"]);
                var ours = File.ReadAllBytes(s["ours"]);
                Assert.Equal(ours, File.ReadAllBytes(Path.Combine(folder, file)));
                Assert.Equal(ours, File.ReadAllBytes(Path.Combine(remote, file)));
                var list = file.Contains("delta") ? "deltaRevocationList;binary" : "certificateRevocationList;binary";
                var attribute = file.EndsWith(".cer") ? "cACertificate;binary" : list;
                var (code, output, error) = Programs.Run(
                    "ldapsearch",
                    [
                        "-x",
                        "-LLL",
                        "-o",
                        "ldif-wrap=no",
                        "-H",
                        $"ldap://127.0.0.1:{ldapPort}",
                        "-b",
                        $"cn=Thistledown Rail {(file.StartsWith("root") ? "Root" : "Issuing")},ou=pki,dc=thistledown,dc=example",
                        attribute,
                    ]
                );
                Assert.True(code == 0, error);
                Assert.Equal(
                    ours,
                    Convert.FromBase64String(
                        output.Split('\n').Single(l => l.StartsWith(attribute + "::", StringComparison.Ordinal)).Split(":: ")[1]
                    )
                );
            }
        }
    }

    private static int Good(JsonElement report) =>
        report.GetProperty("pushes").EnumerateArray().Count(p => p.GetProperty("good").GetBoolean());

    private static async Task<JsonElement> HealthAsync(RunningService service, string home, Func<JsonElement, bool> until)
    {
        for (var i = 0; ; i++)
        {
            var report = JsonDocument.Parse(service.Beacon(home, "authority", "health", "--json").Output).RootElement;
            if (until(report) || i > 40)
                return report;
            await Task.Delay(300, TestContext.Current.CancellationToken);
        }
    }

    private static Process Sshd(Scratch s, int port, string hostKey = "host_key")
    {
        foreach (var key in new[] { hostKey, "user_key" })
            if (!File.Exists(s[key]))
                Programs.Run("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", s[key]]);
        Directory.CreateDirectory("/run/sshd");
        s.File("authorized_keys", File.ReadAllText(s["user_key.pub"]));
        var conf = s.File(
            hostKey + ".conf",
            $"Port {port}\nListenAddress 127.0.0.1\nHostKey {s[hostKey]}\nAuthorizedKeysFile {s["authorized_keys"]}\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin yes\nPidFile none\nSubsystem sftp internal-sftp\n"
        );
        return Start("/usr/sbin/sshd", port, ["-D", "-e", "-f", conf], s[hostKey + ".log"]);
    }

    private static Process Slapd(Scratch s, int port)
    {
        Directory.CreateDirectory(s["ldap-data"]);
        var conf = s.File(
            "slapd.conf",
            $"include /etc/ldap/schema/core.schema\npidfile {s["slapd.pid"]}\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\ndatabase mdb\nmaxsize 104857600\nsuffix dc=thistledown,dc=example\nrootdn cn=admin,dc=thistledown,dc=example\nrootpw signal\ndirectory {s["ldap-data"]}\n"
        );
        var p = Start("/usr/sbin/slapd", port, ["-d", "0", "-f", conf, "-h", $"ldap://127.0.0.1:{port}"], s["slapd.log"]);
        var (code, _, error) = Programs.Run(
            "ldapadd",
            ["-x", "-H", $"ldap://127.0.0.1:{port}", "-D", "cn=admin,dc=thistledown,dc=example", "-w", "signal"],
            System.Text.Encoding.ASCII.GetBytes(
                "dn: dc=thistledown,dc=example\nobjectClass: dcObject\nobjectClass: organization\no: Thistledown Rail\ndc: thistledown\n\ndn: ou=pki,dc=thistledown,dc=example\nobjectClass: organizationalUnit\nou: pki\n"
            )
        );
        Assert.True(code == 0, error);
        return p;
    }

    private static Process Start(string program, int port, string[] args, string log)
    {
        var p = Process.Start(new ProcessStartInfo("bash", ["-c", $"exec {program} {string.Join(' ', args)} > {log} 2>&1"]))!;
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
                Thread.Sleep(100);
            }
        }
        throw new InvalidOperationException($"{program} does not listen: {File.ReadAllText(log)}");
    }
}
