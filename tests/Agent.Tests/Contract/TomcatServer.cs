using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Tomcat;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class TomcatServer : RealServer
{
    private const int Plain = 8080,
        Tls = 8443;
    private const string CatalinaScript = "/usr/share/tomcat10/bin/catalina.sh";

    public TomcatServer()
    {
        foreach (var f in new[] { "conf", "logs", "temp", "work", "bin", "webapps/ROOT" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        File.WriteAllText(Path.Combine(Folder, "webapps/ROOT/index.html"), "05:12 Thistledown\n");
        File.WriteAllText(
            Path.Combine(ConfigFolder, "web.xml"),
            """
            <web-app xmlns="https://jakarta.ee/xml/ns/jakartaee" version="6.0">
              <servlet><servlet-name>files</servlet-name><servlet-class>org.apache.catalina.servlets.DefaultServlet</servlet-class></servlet>
              <servlet-mapping><servlet-name>files</servlet-name><url-pattern>/</url-pattern></servlet-mapping>
              <welcome-file-list><welcome-file>index.html</welcome-file></welcome-file-list>
            </web-app>
            """
        );
        // Small, and soon there: what is searched for pages and their libraries otherwise is a third of a start.
        File.WriteAllText(
            Path.Combine(ConfigFolder, "context.xml"),
            """<Context containerSciFilter=".*"><JarScanner scanClassPath="false" scanManifest="false" /></Context>"""
        );
        File.WriteAllText(
            Path.Combine(Folder, "bin/setenv.sh"),
            "JAVA_OPTS='-Xmx96m -XX:+UseSerialGC -XX:TieredStopAtLevel=1 -Xshare:auto -XX:+UnlockDiagnosticVMOptions -XX:-BytecodeVerificationRemote -XX:-UsePerfData -Djava.security.egd=file:/dev/urandom'\n"
        );
        Programs.Run(
            "chown",
            ["-R", "tomcat:tomcat", .. new[] { "conf", "logs", "temp", "work", "webapps" }.Select(f => Path.Combine(Folder, f))]
        );
        Connector = new TomcatConnector(new("tomcat", "tomcat", MainFile), new("tomcat", CatalinaScript, MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "tomcat Catalina";
    public override string Name => "timetable.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "server.xml");
    public override string KeyOwner => "root:tomcat:640";
    public override string BrokenLine => "<Connector>";
    public override bool IsCutOffByRenewals => true;
    public override int Pid => ((TomcatConnector)Connector).Pid() ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        var tls = "";
        if (foreign is { } f)
        {
            Programs.Run("chown", ["tomcat:tomcat", f.Certificate, f.Key]);
            tls = $"""

                    <Connector port="{Tls}" address="{Address}" SSLEnabled="true" scheme="https" secure="true">
                      <SSLHostConfig protocols="TLSv1.2+TLSv1.3">
                        <!-- <Certificate certificateKeystoreFile="conf/of-former-days.jks" /> -->
                        <Certificate certificateFile="{f.Certificate}" certificateKeyFile='{f.Key}'
                                     type="EC" />
                      </SSLHostConfig>
                    </Connector>
                """;
        }
        File.WriteAllText(
            MainFile,
            $"""
            <!-- Thistledown Rail -->
            <Server port="-1">
              <Service name="Catalina">
                <Connector port="{Plain}" address="{Address}" maxThreads="10" minSpareThreads="2" />{tls}
                <Engine name="Catalina" defaultHost="localhost">
                  <Host name="localhost" appBase="webapps" unpackWARs="false" autoDeploy="false" />
                </Engine>
              </Service>
            </Server>

            """
        );
        Programs.Run("chown", ["tomcat:tomcat", MainFile]);
    }

    // What comes behind the last element it reads with a warning only.
    public override void Break() => File.WriteAllText(MainFile, "<" + File.ReadAllText(MainFile) + BrokenLine + "\n");

    public override void Start() => Connector.Start();

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-KILL", Pid.ToString()]);
    }

    public override void ByAnotherHand() => File.WriteAllText(MainFile, "<!-- by another hand -->\n" + File.ReadAllText(MainFile));

    public override string WithAnotherHand(string snapshot)
    {
        var (now, changed) = (Snapshot(), File.ReadAllText(MainFile));
        Assert.StartsWith("<!-- by another hand -->\n", changed);
        File.WriteAllText(MainFile, changed["<!-- by another hand -->\n".Length..]);
        var without = Snapshot();
        File.WriteAllText(MainFile, changed);
        Assert.Equal(snapshot, without);
        return now;
    }

    public override void Spoil(string used, string otherKey)
    {
        // Somebody's keystore, with a passphrase that is not the one beside it.
        var pem = Path.Combine(Folder, "spoil.pem");
        Programs.OpenSsl($"pkcs12 -export -nocerts -inkey {otherKey} -passout pass:another -out {pem}");
        File.WriteAllBytes(used, File.ReadAllBytes(pem));
    }

    public override bool GoesInTheClear() => IsPageRead(Plain);

    public override async Task<IConversation> TalkAsync() => await HalfRequest.OpenAsync(Address, Plain, "/", Name);
}

public sealed class TomcatContractTests() : ContractTests(() => new TomcatServer())
{
    [Fact]
    public void A_process_that_only_looks_like_it_is_given_no_key()
    {
        using var s = new TomcatServer();
        s.Configure(null);
        var java = Path.Combine(s.Folder, "java");
        File.WriteAllText(java, "#!/bin/sh\nsleep 30\n");
        File.SetUnixFileMode(java, UnixFileMode.UserRead | UnixFileMode.OtherRead | UnixFileMode.OtherExecute | UnixFileMode.UserExecute);
        using var stranger = System.Diagnostics.Process.Start(
            "setpriv",
            [
                "--reuid",
                "nobody",
                "--regid",
                "nogroup",
                "--clear-groups",
                java,
                $"-Dcatalina.base={s.Folder}",
                "org.apache.catalina.startup.Bootstrap",
            ]
        );
        Assert.True(SpinWait.SpinUntil(() => ServerProcess.Living(stranger.Id) is { Program: "java" }, 5000));
        Assert.False(s.Connector.IsRunning());
        Assert.Equal("tomcat", s.Connector.Needs.Reader?.Name);
        stranger.Kill(entireProcessTree: true);
        stranger.WaitForExit();
    }
}
