using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>An authority whose key is in a real PKCS#11 token (SoftHSM2): founded, issuing, renewed, the token pulled and put back.</summary>
public sealed class TokenTests
{
    private const string Module = "/usr/lib/softhsm/libsofthsm2.so";

    [Theory]
    [InlineData("ec-p256", "rsa-2048", "pkcs1")]
    [InlineData("rsa-2048", "ec-p384", "pss")]
    public async Task A_token_is_founded_on_renewed_pulled_and_put_back(string first, string second, string signature)
    {
        Assert.True(File.Exists(Module), "softhsm2 is missing: apt-get install softhsm2");
        await using var w = new OfflineWorld();
        var s = w.Scratch;
        var tokens = Directory.CreateDirectory(s["tokens"]).FullName;
        var conf = s.File("softhsm2.conf", $"directories.tokendir = {tokens}\nobjectstore.backend = file\nlog.level = ERROR\n");
        var environment = new Dictionary<string, string> { ["SOFTHSM2_CONF"] = conf };
        var (code, output, error) = Programs.Run(
            "softhsm2-util",
            ["--init-token", "--free", "--label", "signal-box", "--so-pin", "so-pin-77", "--pin", "4711"],
            [],
            environment
        );
        Assert.True(code == 0, output + error);
        var settings = new Dictionary<string, string>
        {
            ["SOFTHSM2_CONF"] = conf,
            ["BEACON_TOKENMODULE"] = Module,
            ["BEACON_TOKENLABEL"] = "signal-box",
            ["BEACON_TOKENPINFILE"] = s.File("pin", "4711\n"),
            ["BEACON_AUTHORITYKEY"] = first,
            ["BEACON_AUTHORITYSIGNATURE"] = signature,
            ["BEACON_HEALTHMINUTES"] = "60",
        };
        w.Found();
        await w.StartAsync(settings);
        w.SignAndInstall();
        w.Good("authority", "publish-crl", w.Out("root-crl*"));
        // No key lies in a file.
        Assert.Empty(Directory.EnumerateFiles(Path.Combine(w.Service.Data, "keys"), "issuing*"));
        var one = w.Enrol();
        Programs.OpenSsl($"verify -x509_strict -CAfile {w.Service.RootPem} -untrusted {one.Chain} {one.Leaf}");
        w.Good("cert", "revoke", one.Name, "--reason", "superseded");
        Assert.Equal(
            signature == "pss",
            Programs
                .OpenSsl("crl -inform DER -noout -text", w.Fetch($"{w.Plain}/crl/issuing.crl"))
                .Contains("Signature Algorithm: rsassaPss")
        );

        // Pulled in the middle: what is asked for waits, what is served goes on, the reason is on Today, and nothing is lost.
        Directory.Move(tokens, tokens + ".away");
        Directory.CreateDirectory(tokens);
        var csr = EstTests.Make(s, "DNS:waits.thistledown.example").Csr;
        for (var i = 0; i < 50 && EstTests.Enrol(w.Service, s, csr).Status != "503"; i++)
            await Task.Delay(100, TestContext.Current.CancellationToken);
        var (_, waiting, _) = w.Run("request", "new", "--csr", csr);
        Assert.Contains("waiting outside", waiting);
        var number = System.Text.RegularExpressions.Regex.Match(waiting, @"Request (\d+)").Groups[1].Value;
        var status = Flat(w.Good("status"));
        Assert.Contains("signal-box", status);
        Assert.Contains("1 granted request waits for the authority's key", status);
        w.Fetch($"{w.Plain}/crl/issuing.crl");
        // Over a restart too: the service starts without the token, to say so.
        w.Service.KillHard();
        await w.Service.StartAsync(new(OfflineWorld.Waiting.Concat(settings)));
        Assert.Contains("waiting outside", w.Good("request", "show", number));

        Directory.Delete(tokens);
        Directory.Move(tokens + ".away", tokens);
        for (var i = 0; i < 150 && !w.Good("request", "show", number).Contains(" issued"); i++)
            await Task.Delay(200, TestContext.Current.CancellationToken);
        Assert.True(
            w.Good("request", "show", number).Contains(" issued"),
            w.Good("request", "show", number) + w.Run("authority", "health").Output + w.Service.Errors
        );
        w.Enrol();

        // Renewed with a new key in the token; the older key in it goes on signing its lists.
        w.Good("authority", "renew", "issuing", "--new-key", second);
        w.SignAndInstall();
        w.Good("authority", "take-up", "issuing");
        var two = w.Enrol();
        Programs.OpenSsl($"verify -x509_strict -CAfile {w.Service.RootPem} -untrusted {two.Chain} {two.Leaf}");
        Assert.StartsWith(
            second.Split('-')[0],
            X509.Read(Armor.Read(File.ReadAllBytes(two.Chain)).Blocks[1].Der).PublicKey.Spec.ToString()
        );
        w.Good("authority", "issue-crl", "issuing");
        var (health, report, why) = w.Run("authority", "health");
        Assert.True(health == 0, report + why + w.Service.Errors);

        // A wrong PIN is named, once, and not tried until the token locks.
        w.Service.KillHard();
        settings["BEACON_TOKENPINFILE"] = s.File("wrong-pin", "0000");
        await w.Service.StartAsync(new(OfflineWorld.Waiting.Concat(settings)));
        Assert.Contains("PIN is wrong", Flat(w.Run("authority", "health").Output));
        w.Good("journal", "verify");
    }

    [Fact]
    public async Task A_key_in_a_file_signs_with_pss()
    {
        await using var w = new OfflineWorld();
        w.Found();
        await w.StartAsync(new() { ["BEACON_AUTHORITYKEY"] = "rsa-3072", ["BEACON_AUTHORITYSIGNATURE"] = "pss" });
        w.SignAndInstall();
        var e = w.Enrol();
        Assert.Contains("rsassaPss", Programs.OpenSsl($"x509 -noout -text -in {e.Leaf}"));
        var lists = Armor.Write(Armor.Crl, w.Fetch($"{w.Plain}/crl/issuing.crl"));
        Programs.OpenSsl(
            $"verify -x509_strict -crl_check -CAfile {w.Service.RootPem} -untrusted {e.Chain} -CRLfile {w.Scratch.File("list.pem", lists)} {e.Leaf}"
        );
    }

    private static string Flat(string text) => System.Text.RegularExpressions.Regex.Replace(text, @"\s+", " ");
}
