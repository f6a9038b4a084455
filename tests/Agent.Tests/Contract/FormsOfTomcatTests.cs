using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Tomcat;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>server.xml as it is found in real life: what is changed, what is left, and what is refused.</summary>
public sealed class FormsOfTomcatTests
{
    private const string Keystore = "/store/in-use/www/keystore.tomcat/keystore.p12",
        Ours =
            "certificateKeystoreFile=\"/store/in-use/www/keystore.tomcat/keystore.p12\" certificateKeystorePasswordFile=\"/store/in-use/www/keystore.tomcat/passphrase\" certificateKeystoreType=\"PKCS12\" certificateKeyAlias=\"beacon\"";

    private static readonly TomcatConnector Tomcat = new(
        new("tomcat", "tomcat", "/etc/server/conf/server.xml"),
        new("tomcat", "/usr/share/tomcat10/bin/catalina.sh", "/etc/server/conf/server.xml", null) { Host = "web01.thistledown.example" }
    );

    private static WrittenFiles Files(string connectors, string engine = "<Engine name=\"Catalina\" />") =>
        new(
            (
                "conf/server.xml",
                $"<?xml version=\"1.0\"?>\n<Server>\n  <Service name=\"Catalina\">\n{connectors}    {engine}\n  </Service>\n</Server>\n"
            )
        );

    private static ChangeSet Plan(IFiles files) =>
        Tomcat.PlanBinding(new("tomcat Catalina", new(Keystore, Keystore), null, ["www.thistledown.example"]), files);

    [Theory]
    // As it is delivered: the connectors with TLS are comments.
    [InlineData(
        "    <Connector port=\"8080\" protocol=\"HTTP/1.1\" redirectPort=\"8443\" />\n    <!--\n    <Connector port=\"8443\" SSLEnabled=\"true\"><SSLHostConfig/></Connector>\n    -->\n    <Connector protocol=\"AJP/1.3\" address=\"::1\" port=\"8009\" />\n",
        "redirectPort=\"8443\" />\n    <Connector port=\"8443\" protocol=\"HTTP/1.1\" SSLEnabled=\"true\" scheme=\"https\" secure=\"true\">\n        <SSLHostConfig>\n            <Certificate OURS />\n        </SSLHostConfig>\n    </Connector>\n    <!--"
    )]
    // A keystore with its passphrase in the file gives way, over several lines and in either quotes; what is not ours to say stays.
    [InlineData(
        "    <Connector port='443' SSLEnabled='true'>\n      <SSLHostConfig protocols='TLSv1.3'>\n        <Certificate certificateKeystoreFile='conf/old.jks'\n                     certificateKeystorePassword='chang&amp;eit'\n                     certificateVerification=\"none\"/>\n      </SSLHostConfig>\n    </Connector>\n",
        "<SSLHostConfig protocols='TLSv1.3'>\n        <Certificate certificateKeystoreFile='/store/in-use/www/keystore.tomcat/keystore.p12'\n                     certificateVerification=\"none\" certificateKeystorePasswordFile="
    )]
    // Its own site is left; who names none gets ours.
    [InlineData(
        "    <Connector port=\"443\" SSLEnabled=\"true\" defaultSSLHostConfigName=\"www.thistledown.example\">\n      <SSLHostConfig hostName=\"b.example\"><Certificate certificateFile=\"/b\" certificateKeyFile=\"/k\" /></SSLHostConfig>\n      <SSLHostConfig hostName=\"www.thistledown.example\"><Certificate certificateFile=\"/w\" certificateKeyFile=\"/v\" type=\"RSA\" /></SSLHostConfig>\n    </Connector>\n",
        "<SSLHostConfig hostName=\"b.example\"><Certificate certificateFile=\"/b\" certificateKeyFile=\"/k\" /></SSLHostConfig>\n      <SSLHostConfig hostName=\"www.thistledown.example\"><Certificate OURS /></SSLHostConfig>"
    )]
    public void What_is_understood_is_changed_and_the_rest_is_left(string connectors, string expected)
    {
        var edit = Assert.Single(Plan(Files(connectors)).Edits);
        Assert.Contains(expected.Replace("OURS", Ours), edit.After);
        // What comes out is read again, and then nothing is left to change.
        var again = new WrittenFiles(("conf/server.xml", edit.After!));
        Assert.Empty(Plan(again).Edits);
        Assert.Equal(Keystore, Assert.Single(Tomcat.Discover(again).Services).CertificateFile);
    }

    [Theory]
    [InlineData("<Connector port=\"${https.port}\" SSLEnabled=\"true\"><SSLHostConfig/></Connector>", "decided when Tomcat starts")]
    [InlineData(
        "<Connector port=\"443\" SSLEnabled=\"true\"><SSLHostConfig hostName=\"b.example\"/></Connector>",
        "which is meant is not clear"
    )]
    [InlineData(
        "<Connector port=\"443\" SSLEnabled=\"true\"><SSLHostConfig><Certificate type=\"RSA\"/><Certificate type=\"EC\"/></SSLHostConfig></Connector>",
        "which is meant is not clear"
    )]
    [InlineData("<Connector port=\"80\"><Connector>", "line")]
    public void What_is_not_understood_is_refused_with_its_place(string connectors, string said)
    {
        var p = Assert.Throws<BeaconProblem>(() => Plan(Files(connectors + "\n")));
        Assert.Contains(said, p.Message);
        Assert.Contains("/etc/server/conf/server.xml", p.Message);
        Assert.NotEmpty(p.Cure);
    }

    [Fact]
    public void Entities_from_elsewhere_are_not_read()
    {
        var files = new WrittenFiles(
            ("conf/server.xml", "<!DOCTYPE Server [<!ENTITY x SYSTEM \"file:///etc/passwd\">]>\n<Server>&x;</Server>\n")
        );
        Assert.Contains("server.xml, line 1", Assert.IsType<BeaconProblem>(Tomcat.Discover(files).Problem).Message);
    }

    [Fact]
    public void Rules_of_an_engine_are_not_mixed_with_ours()
    {
        const string tls =
            "<Connector port=\"80\" /><Connector port=\"443\" SSLEnabled=\"true\"><SSLHostConfig><Certificate/></SSLHostConfig></Connector>\n";
        var theirs = Files(
            tls,
            "<Engine name=\"Catalina\"><Valve className=\"org.apache.catalina.valves.rewrite.RewriteValve\"/></Engine>"
        );
        Assert.Contains("rules of its own", Assert.Throws<BeaconProblem>(() => Tomcat.PlanRequireTls("tomcat Catalina", theirs)).Message);
    }
}
