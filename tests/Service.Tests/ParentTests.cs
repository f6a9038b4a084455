using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>An issuing authority whose parent is another service: asked over the network, approved there by a person, collected by itself.</summary>
public sealed class ParentTests
{
    [Fact]
    public async Task A_parent_service_signs_after_a_person_there_approved()
    {
        await using var parent = new OfflineWorld();
        parent.Found();
        await parent.StartAsync();
        // The parent may have authorities below itself.
        parent.Good("authority", "request", "issuing");
        parent.Good(
            "ceremony",
            "sign",
            parent.Root,
            Directory.EnumerateFiles(parent.Carried, "issuing-request--*.pem").Single(),
            "--path-length",
            "1",
            "--passphrase-fd",
            "3"
        );
        parent.Good("authority", "install", "issuing", parent.Out("authority-certificate*"), parent.Out("root-certificate*"));
        parent.Good("authority", "publish-crl", parent.Out("root-crl*"));
        await AddAsync(parent, "wren", "approvers");

        await using var child = new OfflineWorld();
        await child.Service.StartAsync(new(OfflineWorld.Waiting.Append(new("BEACON_ORGANIZATION", "Thistledown Depots"))));
        child.Good(
            "sign-in",
            "--service",
            child.Service.Url,
            "--name",
            "robin",
            "--root",
            child.Service.RootPem,
            "--password-file",
            child.Scratch["password"]
        );
        child.Bad(
            "cannot be reached",
            "authority",
            "ask",
            "issuing",
            "--parent",
            "https://localhost:1",
            "--parent-root",
            parent.Service.RootPem,
            "--name",
            "robin",
            "--password-file",
            child.Scratch["password"]
        );
        child.Bad(
            "cannot be reached",
            "authority",
            "ask",
            "issuing",
            "--parent",
            parent.Service.Url,
            "--parent-root",
            child.Service.RootPem,
            "--name",
            "robin",
            "--password-file",
            child.Scratch["password"]
        );
        child.Bad(
            "401",
            "authority",
            "ask",
            "issuing",
            "--parent",
            parent.Service.Url,
            "--parent-root",
            parent.Service.RootPem,
            "--name",
            "robin",
            "--password-file",
            child.Scratch.File("wrong", "not that")
        );
        Assert.Contains(
            "request 1",
            child.Good(
                "authority",
                "ask",
                "issuing",
                "--parent",
                parent.Service.Url,
                "--parent-root",
                parent.Service.RootPem,
                "--name",
                "robin",
                "--password-file",
                child.Scratch["password"]
            )
        );
        // Asked again, as after a lost answer: it stays one request.
        Assert.Contains(
            "request 1",
            child.Good(
                "authority",
                "ask",
                "issuing",
                "--parent",
                parent.Service.Url,
                "--parent-root",
                parent.Service.RootPem,
                "--name",
                "robin",
                "--password-file",
                child.Scratch["password"]
            )
        );
        Assert.Contains("waiting for approval", child.Good("authority", "show", "issuing"));
        child.Service.KillHard();
        await child.Service.StartAsync(OfflineWorld.Waiting);

        // Never by who asked; by somebody else, who sees what it is.
        parent.Bad("is your own", "request", "approve", "1");
        parent.Good(
            "sign-in",
            "--service",
            parent.Service.Url,
            "--name",
            "wren",
            "--root",
            parent.Service.RootPem,
            "--password-file",
            parent.Scratch["password"]
        );
        Assert.Contains("CN=Thistledown Depots Issuing", parent.Good("request", "show", "1"));
        parent.Good("request", "approve", "1");
        for (var i = 0; i < 150 && !child.Run("authority", "show", "issuing").Output.Contains("in use"); i++)
            await Task.Delay(200, TestContext.Current.CancellationToken);
        child.Good(
            "sign-in",
            "--service",
            child.Service.Url,
            "--name",
            "robin",
            "--root",
            parent.Service.RootPem,
            "--password-file",
            child.Scratch["password"]
        );
        Assert.Contains("in use", child.Good("authority", "show", "issuing"));

        // What it issues is good for who trusts the root alone: with both authorities in the chain, and the lists of all three.
        var e = child.Enrol();
        var chain = Armor.Read(File.ReadAllBytes(e.Chain)).Blocks.Select(b => X509.Read(b.Der)).ToList();
        Assert.Equal(3, chain.Count);
        Assert.Equal(0, chain[1].PathLength);
        var lists = string.Concat(chain.SelectMany(x => x.CrlUris).Select(u => Armor.Write(Armor.Crl, child.Fetch(u))));
        Programs.OpenSsl(
            $"verify -x509_strict -crl_check_all -CAfile {parent.Service.RootPem} -untrusted {e.Chain} -CRLfile {child.Scratch.File("lists.pem", lists)} {e.Leaf}"
        );
        var (code, report, error) = child.Run("authority", "health");
        Assert.True(code == 0, report + error);
        Assert.Contains("Thistledown Rail Issuing", report);
        Assert.DoesNotContain("CRL of the root", child.Good("status"));

        // Renewed the same way; refused there once, with the reason here.
        child.Good("authority", "renew", "issuing", "--new-key", "ec-p256");
        child.Good(
            "authority",
            "ask",
            "issuing",
            "--parent",
            parent.Service.Url,
            "--parent-root",
            parent.Service.RootPem,
            "--name",
            "robin",
            "--password-file",
            child.Scratch["password"]
        );
        parent.Good("request", "refuse", "2", "--reason", "Ask again in spring.");
        for (var i = 0; i < 150 && !child.Good("authority", "show", "issuing", "--json").Contains("Ask again in spring"); i++)
            await Task.Delay(200, TestContext.Current.CancellationToken);
        Assert.Contains("Ask again in spring", child.Good("authority", "show", "issuing", "--json"));
        // Asked again after a refusal it is a new request there.
        Assert.Contains(
            "request 3",
            child.Good(
                "authority",
                "ask",
                "issuing",
                "--parent",
                parent.Service.Url,
                "--parent-root",
                parent.Service.RootPem,
                "--name",
                "robin",
                "--password-file",
                child.Scratch["password"]
            )
        );
        child.Good("authority", "undo", "issuing");
        child.Good("journal", "verify");
    }

    [Fact]
    public async Task An_authority_that_may_not_have_others_below_says_so()
    {
        await using var w = new OfflineWorld();
        await w.FoundAllAsync();
        var csr = w.Scratch["sub.csr"];
        Programs.OpenSsl(
            $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {w.Scratch["sub.key"]} -out {csr} -subj /CN=Depot"
        );
        w.Bad("path length 0", "request", "new", "--csr", csr, "--profile", "subordinate");
    }

    private static async Task AddAsync(OfflineWorld w, string name, string group)
    {
        using var robin = await w.Service.SignInAsync("robin");
        await RunningService.PostAsync(
            robin,
            "/api/v1/people",
            new NewPerson(name, RunningService.Password, [group]),
            BeaconJson.Default.NewPerson,
            BeaconJson.Default.PersonInfo
        );
    }
}
