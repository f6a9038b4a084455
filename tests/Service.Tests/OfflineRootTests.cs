using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The whole way in client commands: a root in a folder, an authority in the service, request and answer carried by file, and the first certificate.</summary>
public sealed class OfflineRootTests
{
    [Fact]
    public async Task An_authority_is_founded_under_an_offline_root_and_issues()
    {
        await using var world = new OfflineWorld();
        var (service, s, folder) = (world.Service, world.Scratch, world.Root);
        string Good(params string[] args) => world.Good(args);
        string Bad(string says, params string[] args) => world.Bad(says, args);
        string Out(string pattern) => world.Out(pattern);
        world.Found();
        await world.StartAsync();

        // Until the answer is in, it says plainly what it waits for.
        Assert.Contains("waits for the answer to request", Good("authority", "list"));
        Assert.Contains("waits for the answer to its request", Good("status"));
        var (_, ready, _) = Programs.Run("curl", ["-s", $"http://localhost:{service.PublicationPort}/readyz"]);
        Assert.Contains("waits for the answer", ready);
        var csr = EstTests.Make(s, "DNS:api.thistledown.example").Csr;
        Assert.Equal("503", EstTests.Enrol(service, s, csr).Status);
        Bad("waits for the answer", "host", "invite", "web01.thistledown.example");
        service.KillHard();
        await service.StartAsync(OfflineWorld.Waiting);

        Assert.Contains("ceremony sign", Good("authority", "request", "issuing"));
        var request = Assert.Single(Directory.EnumerateFiles(world.Carried, "issuing-request--*.pem"));
        Good("ceremony", "sign", folder, request, "--permit", "thistledown.example", "--passphrase-fd", "3");
        // Bound so that the service could not have a certificate itself: seen before anything is changed.
        Assert.Contains(
            "localhost",
            Bad("a name of this service itself", "authority", "install", "issuing", Out("authority-certificate*"), Out("root-certificate*"))
        );
        Good("ceremony", "sign", folder, request, "--permit", "thistledown.example", "localhost", "--passphrase-fd", "3");
        var second = System
            .Text.Json.JsonDocument.Parse(Good("ceremony", "show", folder, "--json"))
            .RootElement.GetProperty("subordinates")[1]
            .GetProperty("serial")
            .GetString()!;
        var (answer, root) = (Out($"authority-certificate*{second[..8].ToLowerInvariant()}*"), Out("root-certificate*"));

        // The wrong file, of several with similar names, is named for what it is.
        Bad("Root certificate of CN=Thistledown Root", "authority", "install", "issuing", root);
        Bad("Certification request", "authority", "install", "issuing", request);
        Bad("is not with it", "authority", "install", "issuing", answer);
        var other = s["other"];
        Good("ceremony", "create", other, "--name", "CN=Thistledown Root, O=Thistledown Rail", "--key", "ec-p256", "--passphrase-fd", "3");
        Bad("another root's is", "authority", "install", "issuing", answer, Path.Combine(other, "root-1.pem"));
        Assert.Contains("waits for the answer", Good("authority", "show", "issuing"));

        Assert.Contains("is ready", Good("authority", "install", "issuing", root, answer));
        Bad("waits for no answer", "authority", "install", "issuing", root, answer);
        Assert.Contains("No CRL of the root is published", Good("status"));
        Assert.Contains("Published: number 1", Good("authority", "publish-crl", Out("root-crl*")));
        Assert.DoesNotContain("CRL of the root", Good("status"));
        Bad("is published already", "authority", "publish-crl", Out("root-crl*"));
        Bad(
            "was not signed by our root",
            "authority",
            "publish-crl",
            Directory.EnumerateFiles(Path.Combine(other, "out"), "root-crl*").Single()
        );

        // In effect without a restart: the service's own certificate, the lists and the first edition hang below the offline root.
        var (status, body) = EstTests.Enrol(service, s, csr);
        Assert.True(status == "200", body);
        var leaf = EstTests.Leaf(s, body);
        var (_, cacerts, _) = service.Curl($"{service.Url}/.well-known/est/server/cacerts");
        s.File("cas.pem", Programs.OpenSsl("pkcs7 -inform DER -print_certs", Convert.FromBase64String(cacerts)));
        var lists = "";
        foreach (var list in new[] { "issuing", "root" })
        {
            Programs.Run("curl", ["-sSf", "-o", s[list + ".der"], $"http://localhost:{service.PublicationPort}/crl/{list}.crl"]);
            lists += Programs.OpenSsl($"crl -inform DER -in {s[list + ".der"]}");
        }
        Programs.OpenSsl(
            $"verify -x509_strict -crl_check_all -CAfile {root} -untrusted {s["cas.pem"]} -CRLfile {s.File("lists.pem", lists)} {leaf}"
        );
        Assert.Equal(File.ReadAllText(root), File.ReadAllText(service.RootPem));
        Good("host", "invite", "web01.thistledown.example");
        // Out of the authority's bounds: told before anything is signed.
        var (no, why) = EstTests.Enrol(service, s, EstTests.Make(s, "DNS:api.other.example").Csr);
        Assert.True(no is "403" or "422", why);

        // And it stays so over a kill.
        service.KillHard();
        await service.StartAsync();
        Assert.Equal(
            X509.Read(Armor.Read(File.ReadAllBytes(answer)).Blocks[0].Der).Serial.Hex,
            System
                .Text.Json.JsonDocument.Parse(Good("authority", "list", "--json"))
                .RootElement.EnumerateArray()
                .Single(a => a.GetProperty("id").GetString() == "issuing")
                .GetProperty("generations")[0]
                .GetProperty("serial")
                .GetString()
        );
        Good("journal", "verify");
    }
}
