using System.Collections.Concurrent;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The renewal of authorities, with the same key and a new one, while openssl verifies chain, lists and OCSP of old and new editions the whole time.</summary>
public sealed class RenewalTests
{
    /// <summary>A client that goes by what stands in the certificates, and trusts one root alone.</summary>
    private sealed class Verifier(OfflineWorld world, string anchor) : IAsyncDisposable
    {
        private readonly ConcurrentQueue<(string Leaf, string Chain)> _editions = [];
        private readonly ConcurrentDictionary<string, bool> _dropped = [];
        private readonly CancellationTokenSource _end = new();
        private Task _loop = Task.CompletedTask;

        /// <summary>Held while nothing can be fetched, since the service is killed.</summary>
        public SemaphoreSlim Turn { get; } = new(1, 1);
        public ConcurrentQueue<string> Failures { get; } = [];
        public int Verified;

        public void Add((string Leaf, string Chain, string Name, X509 Edition) e) => _editions.Enqueue((e.Leaf, e.Chain));

        /// <summary>One that shall be revoked is not verified any more.</summary>
        public async Task DropAsync(string leaf)
        {
            _dropped[leaf] = true;
            for (var lap = Verified; Verified < lap + 1 && !_loop.IsCompleted; )
                await Task.Delay(20);
        }

        public void Start() =>
            _loop = Task.Run(() =>
            {
                while (!_end.IsCancellationRequested)
                    foreach (var (leaf, chain) in _editions)
                    {
                        if (_end.IsCancellationRequested)
                            return;
                        if (_dropped.ContainsKey(leaf))
                            continue;
                        Turn.Wait();
                        try
                        {
                            if (Fault(world, anchor, leaf, chain) is { } fault)
                                Failures.Enqueue(fault);
                        }
                        finally
                        {
                            Turn.Release();
                        }
                        Interlocked.Increment(ref Verified);
                    }
            });

        public async ValueTask DisposeAsync()
        {
            await _end.CancelAsync();
            await _loop;
        }
    }

    /// <summary>Chain and lists by openssl verify, the answer by openssl ocsp; null when both are content.</summary>
    private static string? Fault(OfflineWorld world, string anchor, string leaf, string chain, bool revoked = false)
    {
        using var s = new Scratch();
        var all = Armor.Read(File.ReadAllBytes(chain)).Blocks.Select(b => X509.Read(b.Der)).ToList();
        var lists = string.Concat(all.SelectMany(x => x.CrlUris).Distinct().Select(u => Armor.Write(Armor.Crl, world.Fetch(u))));
        var (code, output, error) = Programs.Run(
            "openssl",
            [
                .. $"verify -x509_strict -crl_check_all -CAfile {anchor} -untrusted {chain} -CRLfile {s.File("lists.pem", lists)} {leaf}".Split(
                    ' '
                ),
            ]
        );
        if (code != 0 != revoked)
            return $"verify {leaf}: {output}{error}";
        var issuer = s.File(
            "issuer.pem",
            Armor.Write(Armor.Certificate, world.Fetch(all[0].Access.Single(a => a.Method == Oids.CaIssuers).Uri))
        );
        (code, output, error) = Programs.Run(
            "openssl",
            [
                .. $"ocsp -issuer {issuer} -cert {leaf} -CAfile {anchor} -verify_other {chain} -url {all[0].Access.Single(a => a.Method == Oids.Ocsp).Uri}".Split(
                    ' '
                ),
            ]
        );
        return code == 0 && (output + error).Contains("Response verify OK") && output.Contains(revoked ? ": revoked" : ": good")
            ? null
            : $"ocsp {leaf}: {output}{error}";
    }

    private static string[] Json(OfflineWorld w, string field) =>
        [
            .. System
                .Text.Json.JsonDocument.Parse(w.Good("authority", "show", "issuing", "--json"))
                .RootElement.GetProperty("generations")
                .EnumerateArray()
                .Select(g => g.GetProperty(field).ToString()),
        ];

    [Fact]
    public async Task Authorities_are_renewed_and_nobody_notices()
    {
        await using var w = new OfflineWorld();
        await w.FoundAllAsync();
        var oldRoot = w.Scratch.File("old-root.pem", File.ReadAllText(w.Service.RootPem));
        var first = w.Enrol();
        await using var verifier = new Verifier(w, oldRoot);
        verifier.Add(first);
        verifier.Start();

        // With the same key: what a rehearsal says, then the request, the answer, and the step after which it issues.
        var rehearsal = w.Good("authority", "rehearse", "issuing");
        foreach (
            var said in new[]
            {
                "same key",
                "generation 2",
                "fits the older editions too",
                "one list of the key goes on",
                "until",
                "take-up",
            }
        )
            Assert.Contains(said, rehearsal);
        w.Bad("The root's key is offline", "authority", "renew", "root");
        w.Bad("No generation", "authority", "take-up", "issuing");
        w.Good("authority", "renew", "issuing");
        w.Bad("on its way already", "authority", "renew", "issuing");
        w.Bad("has no certificate yet", "authority", "take-up", "issuing");
        w.Bad("that CN=Thistledown Rail Issuing", "authority", "install", "issuing", w.Out("authority-certificate*"));
        verifier.Add(w.Enrol());
        w.SignAndInstall();
        Assert.Equal(["in-use", "published"], Json(w, "state"));
        await verifier.Turn.WaitAsync(TestContext.Current.CancellationToken);
        w.Service.KillHard();
        await w.Service.StartAsync();
        verifier.Turn.Release();
        Assert.Equal(["in-use", "published"], Json(w, "state"));
        Assert.Contains("issues from now on", w.Good("authority", "take-up", "issuing"));
        Assert.Equal(["past", "in-use"], Json(w, "state"));
        var second = w.Enrol();
        verifier.Add(second);
        Assert.Equal(first.Edition.CrlUris, second.Edition.CrlUris);
        w.Bad("editions were issued under generation 2", "authority", "undo", "issuing");

        // With a new key: taken back once in each stage, then gone through with.
        Assert.Contains("each signed by a responder of its own", w.Good("authority", "rehearse", "issuing", "--new-key", "ec-p384"));
        w.Good("authority", "renew", "issuing", "--new-key", "ec-p384");
        Assert.Contains("withdrawn", w.Good("authority", "undo", "issuing"));
        w.Good("authority", "renew", "issuing", "--new-key", "ec-p256");
        w.SignAndInstall();
        w.Good("authority", "take-up", "issuing");
        Assert.Contains("generation 2 issues", w.Good("authority", "undo", "issuing"));
        w.Bad("editions were issued under generation 2", "authority", "undo", "issuing");
        verifier.Add(w.Enrol());
        w.Good("authority", "renew", "issuing", "--new-key", "rsa-2048");
        w.SignAndInstall();
        verifier.Add(w.Enrol());
        w.Good("authority", "take-up", "issuing");
        var third = w.Enrol();
        verifier.Add(third);
        Assert.NotEqual(first.Edition.CrlUris, third.Edition.CrlUris);
        Assert.NotEqual(first.Edition.AuthorityKeyIdentifier.ToArray(), third.Edition.AuthorityKeyIdentifier.ToArray());
        Assert.Contains(
            "Issuing Distribution Point: critical",
            Programs.OpenSsl("crl -inform DER -noout -text", w.Fetch(third.Edition.CrlUris[0]))
        );
        Assert.DoesNotContain(
            "Issuing Distribution Point",
            Programs.OpenSsl("crl -inform DER -noout -text", w.Fetch(first.Edition.CrlUris[0]))
        );

        // The older key's list and answers go on: what is revoked under it shows there, and only there.
        await verifier.DropAsync(second.Leaf);
        w.Good("cert", "revoke", second.Name, "--reason", "superseded", "--serial", second.Edition.Serial.Hex);
        Assert.Null(Fault(w, oldRoot, third.Leaf, third.Chain));
        Assert.Null(Fault(w, oldRoot, second.Leaf, second.Chain, revoked: true));

        // The root, with a new key: cross certificates carry clients that trust only the old one, or only the new one.
        w.Good("ceremony", "renew", w.Root, "--new-key", "ec-p384", "--passphrase-fd", "3");
        var renewed = w.Out("root-certificate*");
        w.Bad("no cross certificate", "authority", "install", "root", renewed);
        w.Bad("is new here", "authority", "install", "root", renewed, w.Out("cross-old-by-new*"));
        Assert.Contains(
            "a new key",
            w.Good("authority", "install", "root", w.Out("cross-new-by-old*"), renewed, w.Out("cross-old-by-new*"))
        );
        w.Good("authority", "publish-crl", w.Out("root-crl*"));
        w.Good("authority", "renew", "issuing");
        w.SignAndInstall();
        w.Good("authority", "take-up", "issuing");
        var last = w.Enrol();
        verifier.Add(last);
        Assert.Equal(3, Armor.Read(File.ReadAllBytes(last.Chain)).Blocks.Count);
        foreach (var e in new[] { first, third, last })
        {
            // Who trusts only the new root has the cross certificate from EST's list of authorities.
            var (_, cacerts, _) = w.Service.Curl($"{w.Service.Url}/.well-known/est/server/cacerts");
            var all =
                File.ReadAllText(e.Chain)
                + string.Concat(
                    Pkcs7
                        .ReadCertificates(Convert.FromBase64String(cacerts))
                        .Select(X509.Read)
                        .Where(x => !x.IsSelfSigned)
                        .Select(x => Armor.Write(Armor.Certificate, x.Der.Span))
                );
            if (Fault(w, renewed, e.Leaf, w.Scratch.File("whole.pem", all)) is { } fault)
                Assert.Fail(fault);
        }
        var (health, report, why) = w.Run("authority", "health");
        Assert.True(health == 0, report + why + w.Service.Errors);
        await Task.Delay(500);
        await verifier.DisposeAsync();
        Assert.Empty(verifier.Failures);
        Assert.True(verifier.Verified > 20, $"only {verifier.Verified} verifications");
        TestContext.Current.TestOutputHelper?.WriteLine($"{verifier.Verified} verifications, none failed");

        // A client that knows only the old root still reaches the service, whose own certificate hangs below the new one once it is renewed.
        w.Service.KillHard();
        File.Delete(Path.Combine(w.Service.Data, "keys", "service.p12"));
        await w.Service.StartAsync();
        var (code, _, error) = Programs.Run("curl", ["-sS", "--cacert", oldRoot, $"{w.Service.Url}/readyz"]);
        Assert.True(code == 0, error);
        w.Good("journal", "verify");
        foreach (
            var act in new[]
            {
                "authority.renewal-begun",
                "authority.answered",
                "authority.taken-up",
                "authority.renewal-undone",
                "authority.root-renewed",
            }
        )
            Assert.Contains(act, w.Good("journal", "list", act, "--json"));
    }
}
