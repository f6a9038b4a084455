using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using CsCheck;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Tests;

/// <summary>What travels sealed, what lies in files that others made, and what an answer from outside is worth.</summary>
public sealed class WayTests
{
    private static readonly byte[] Words = "the key of a ticket gate"u8.ToArray();

    [Fact]
    public void What_is_sealed_opens_for_its_reader_and_purpose_alone_and_whole()
    {
        using var reader = Sealing.NewKey();
        using var other = Sealing.NewKey();
        var box = Sealing.Seal(Sealing.PublicKeyOf(reader), "gate", Words);
        Assert.Equal(Words, Sealing.Open(reader, "gate", box));
        Assert.NotEqual(box, Sealing.Seal(Sealing.PublicKeyOf(reader), "gate", Words));
        void Refused(Func<byte[]> open) => Assert.Equal(ProblemCode.DataDamaged, Assert.Throws<BeaconProblem>(open).Code);
        Refused(() => Sealing.Open(other, "gate", box));
        Refused(() => Sealing.Open(reader, "door", box));
        for (var i = 0; i < box.Length; i += 7)
        {
            var altered = box.ToArray();
            altered[i] ^= 0x40;
            Refused(() => Sealing.Open(reader, "gate", altered));
        }
        Refused(() => Sealing.Open(reader, "gate", box[..^1]));
        Refused(() => Sealing.Open(reader, "gate", []));
        foreach (var key in new[] { [], new byte[65], Sealing.PublicKeyOf(reader)[..64] })
            Assert.Equal(ProblemCode.InputInvalid, Assert.Throws<BeaconProblem>(() => Sealing.Seal(key, "gate", Words)).Code);
    }

    /// <summary>The intermediate values by the standard's own words, on other code: BouncyCastle's agreement and HKDF.</summary>
    [Fact]
    public void It_is_sealed_as_the_standard_has_it()
    {
        using var reader = Sealing.NewKey();
        var box = Sealing.Seal(Sealing.PublicKeyOf(reader), "gate", Words);
        var curve = Org.BouncyCastle.Crypto.EC.CustomNamedCurves.GetByName("P-256");
        var domain = new Org.BouncyCastle.Crypto.Parameters.ECDomainParameters(curve);
        var d = new Org.BouncyCastle.Math.BigInteger(1, reader.ExportParameters(true).D!);
        var enc = box[..65];
        var agreed = curve.Curve.DecodePoint(enc).Multiply(d).Normalize().AffineXCoord.GetEncoded();
        byte[] kem = [.. "KEM"u8, 0, 0x10],
            hpke = [.. "HPKE"u8, 0, 0x10, 0, 1, 0, 2];
        byte[] Extract(byte[] salt, byte[] suite, string label, byte[] input) =>
            Hmac(salt.Length == 0 ? new byte[32] : salt, [.. "HPKE-v1"u8, .. suite, .. Encoding.ASCII.GetBytes(label), .. input]);
        byte[] Expand(byte[] prk, byte[] suite, string label, byte[] info, byte length) =>
            Hmac(prk, [0, length, .. "HPKE-v1"u8, .. suite, .. Encoding.ASCII.GetBytes(label), .. info, 1])[..length];
        var shared = Expand(Extract([], kem, "eae_prk", agreed), kem, "shared_secret", [.. enc, .. Sealing.PublicKeyOf(reader)], 32);
        byte[] context = [0, .. Extract([], hpke, "psk_id_hash", []), .. Extract([], hpke, "info_hash", "gate"u8.ToArray())];
        var secret = Extract(shared, hpke, "secret", []);
        var cipher = new Org.BouncyCastle.Crypto.Modes.GcmBlockCipher(new Org.BouncyCastle.Crypto.Engines.AesEngine());
        cipher.Init(
            false,
            new Org.BouncyCastle.Crypto.Parameters.AeadParameters(
                new(Expand(secret, hpke, "key", context, 32)),
                128,
                Expand(secret, hpke, "base_nonce", context, 12)
            )
        );
        var opened = new byte[cipher.GetOutputSize(box.Length - 65)];
        cipher.DoFinal(opened, cipher.ProcessBytes(box, 65, box.Length - 65, opened, 0));
        Assert.Equal(Words, opened);

        static byte[] Hmac(byte[] key, byte[] data)
        {
            var mac = new Org.BouncyCastle.Crypto.Macs.HMac(new Org.BouncyCastle.Crypto.Digests.Sha256Digest());
            mac.Init(new Org.BouncyCastle.Crypto.Parameters.KeyParameter(key));
            mac.BlockUpdate(data, 0, data.Length);
            var result = new byte[32];
            mac.DoFinal(result, 0);
            return result;
        }
    }

    private readonly World _w = new();

    private (X509 Leaf, ECDsa Key) Leaf(params string[] names)
    {
        var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var content = new CertificateContent
        {
            Serial = World.Serial(),
            Issuer = _w.Issuing.Subject,
            Subject = DistinguishedName.ForCommonName(names[0]),
            Names = [.. names.Select(AlternativeName.Parse)],
            PublicKey = PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
            NotBefore = World.Now.AddDays(-1),
            NotAfter = World.Now.AddDays(60),
            KeyUsage = KeyUsages.DigitalSignature,
            ExtendedKeyUsage = [Oids.ServerAuth],
            AuthorityKeyIdentifier = _w.Issuing.SubjectKeyIdentifier,
        };
        return (X509.Read(CertificateWriter.Issue(content, _w.IssuingSigner)), key);
    }

    [Theory]
    [InlineData(Pkcs12Strength.Modern)]
    [InlineData(Pkcs12Strength.Legacy)]
    public void A_pkcs12_file_opens_in_other_programs_with_its_label_and_its_pair(Pkcs12Strength strength)
    {
        using var s = new Scratch();
        var (leaf, key) = Leaf("gate.thistledown.example");
        const string passphrase = "fünf leise Wörter";
        var file = s.File("x.p12", Pkcs12.Write([leaf.Der, _w.Issuing.Der], key, passphrase, new byte[16], "ticket gate", strength));
        var words = s.File("words", passphrase);
        var (code, output, error) = Programs.Run(
            "openssl",
            ["pkcs12", .. strength == Pkcs12Strength.Legacy ? new[] { "-legacy" } : [], "-in", file, "-passin", "file:" + words, "-nodes"]
        );
        Assert.True(code == 0, error);
        Assert.Contains("friendlyName: ticket gate", output);
        Assert.Equal(2, output.Split("BEGIN CERTIFICATE").Length - 1);
        // A Java service looks its entry up by the alias; these two read a passphrase by the machine's own character set.
        const string plainWords = "five quiet words";
        var plain = s.File("plain.p12", Pkcs12.Write([leaf.Der, _w.Issuing.Der], key, plainWords, new byte[16], "ticket gate", strength));
        var (_, listed, _) = Programs.Run(
            "keytool",
            ["-list", "-keystore", plain, "-storetype", "PKCS12", "-storepass:file", s.File("plain", plainWords)]
        );
        Assert.Contains("ticket gate", listed);
        Assert.Contains("PrivateKeyEntry", listed);
        var store = new Org.BouncyCastle.Pkcs.Pkcs12StoreBuilder().Build();
        using (var stream = File.OpenRead(plain))
            store.Load(stream, plainWords.ToCharArray());
        Assert.Equal(2, store.GetCertificateChain("ticket gate").Length);
        Assert.NotNull(store.GetKey("ticket gate"));
        using var bag = CertificateBag.Read([new("x.p12", File.ReadAllBytes(file))], passphrase, withKeys: true);
        Assert.NotNull(bag.KeyOf(bag.Leaves.Single()));
        Assert.Equal(
            ProblemCode.PassphraseWrong,
            Assert.Throws<BeaconProblem>(() => CertificateBag.Read([new("x.p12", File.ReadAllBytes(file))], "other", withKeys: true)).Code
        );
    }

    [Fact]
    public void Keys_come_in_every_form_in_which_others_write_them()
    {
        using var s = new Scratch();
        var (leaf, key) = Leaf("gate.thistledown.example");
        var certificate = new GivenFile("leaf.cer", leaf.Der);
        var pem = s.File("key.pem", key.ExportPkcs8PrivateKeyPem());
        Programs.OpenSsl($"ec -in {pem} -out {s["sec1.pem"]}");
        Programs.OpenSsl($"ec -in {pem} -aes256 -passout pass:secret-words -out {s["old-encrypted.pem"]}");
        Programs.OpenSsl($"pkcs8 -topk8 -in {pem} -passout pass:secret-words -v2 aes-256-cbc -out {s["encrypted.pem"]}");
        Programs.OpenSsl($"pkcs8 -topk8 -in {pem} -nocrypt -outform DER -out {s["key.der"]}");
        foreach (var name in new[] { "key.pem", "sec1.pem", "encrypted.pem", "key.der" })
        {
            using var bag = CertificateBag.Read(
                [certificate, new(name, File.ReadAllBytes(s[name]))],
                name == "encrypted.pem" ? "secret-words" : null,
                withKeys: true
            );
            Assert.True(bag.KeyOf(leaf) is not null, name);
            var refused = Assert.Throws<BeaconProblem>(() =>
                CertificateBag.Read([certificate, new(name, File.ReadAllBytes(s[name]))], null, withKeys: false)
            );
            Assert.Equal(ProblemCode.WrongFile, refused.Code);
        }
        // Encrypted in the manner of before PKCS#8 (RFC 1421): not read, and said so by name.
        var old = Assert.Throws<BeaconProblem>(() =>
            CertificateBag.Read(
                [certificate, new("old-encrypted.pem", File.ReadAllBytes(s["old-encrypted.pem"]))],
                "secret-words",
                withKeys: true
            )
        );
        Assert.Contains("old-encrypted.pem", old.Message);
    }

    [Fact]
    public void A_bag_of_anything_ends_in_certificates_or_in_a_clear_word()
    {
        var (leaf, _) = Leaf("gate.thistledown.example");
        var seeds = new[] { leaf.Der.ToArray(), Pkcs7.WriteCertificates([leaf.Der]), "PK\u0003\u0004rest"u8.ToArray() };
        Gen.Select(Gen.Int[0, seeds.Length - 1], Gen.Int[0, 2000], Gen.Byte)
            .Sample(
                (which, at, value) =>
                {
                    var bytes = seeds[which].ToArray();
                    bytes[at % bytes.Length] = value;
                    try
                    {
                        CertificateBag.Read([new("x", bytes)], "x", withKeys: true).Dispose();
                    }
                    catch (BeaconProblem p)
                    {
                        Assert.NotEmpty(p.Cure);
                    }
                },
                iter: 3000,
                threads: 1
            );
    }

    [Fact]
    public void A_pkcs12_file_that_was_damaged_ends_in_a_clear_word()
    {
        var (leaf, key) = Leaf("gate.thistledown.example");
        var whole = Pkcs12.Write([leaf.Der], key, "five quiet words", new byte[16], null, Pkcs12Strength.Legacy);
        for (var at = 0; at < whole.Length; at += 11)
        {
            var bytes = whole.ToArray();
            bytes[at] ^= 0x21;
            try
            {
                CertificateBag.Read([new("x.p12", bytes)], "five quiet words", withKeys: true).Dispose();
            }
            catch (BeaconProblem p)
            {
                Assert.NotEmpty(p.Cure);
            }
        }
    }

    [Fact]
    public void An_answer_is_worth_what_its_path_and_its_names_are()
    {
        var (leaf, _) = Leaf("gate.thistledown.example");
        IReadOnlyList<AlternativeName> asked = [AlternativeName.Parse("gate.thistledown.example")];
        OutsideAnswer Judge(IReadOnlyList<X509> along, IReadOnlyList<X509> anchors, IReadOnlyList<AlternativeName> names) =>
            OutsideAnswers.Judge(leaf, along, [], anchors, names, "harbour", World.Now);
        var good = Judge([_w.Root, _w.Issuing], [_w.Root], asked);
        Assert.Empty(good.Differences);
        Assert.Equal([leaf.Thumbprint, _w.Issuing.Thumbprint], good.Chain.Select(c => c.Thumbprint));
        Assert.Contains("Test Issuing", Assert.Throws<BeaconProblem>(() => Judge([], [_w.Root], asked)).Message);
        Assert.Contains(
            "not an anchor",
            Assert.Throws<BeaconProblem>(() => Judge([_w.Root, _w.Issuing], [new World().Root], asked)).Message
        );
        Assert.Single(Judge([_w.Issuing], [_w.Root], [.. asked, AlternativeName.Parse("more.thistledown.example")]).Differences);
        Assert.Single(
            Judge([_w.Issuing], [_w.Root], [AlternativeName.Parse("other.thistledown.example")]).Differences,
            d => d.Contains("not asked")
        );
        Assert.Contains(
            "Clients would refuse",
            Assert
                .Throws<BeaconProblem>(() =>
                    OutsideAnswers.Judge(leaf, [_w.Issuing], [], [_w.Root], asked, "harbour", World.Now.AddDays(90))
                )
                .Message
        );
    }

    [Fact]
    public void Two_certificates_are_compared_with_what_differs_first()
    {
        var (a, _) = Leaf("gate.thistledown.example");
        var (b, _) = Leaf("gate.thistledown.example");
        var fields = CertificateComparison.Run(a, b);
        Assert.Equal(fields.OrderBy(f => f.IsSame).Select(f => f.Field), fields.Select(f => f.Field));
        Assert.Contains(fields, f => f is { Field: "names", IsSame: true });
        Assert.Contains("different keys", CertificateComparison.Verdict(a, b));
        Assert.Equal("They are the same certificate.", CertificateComparison.Verdict(a, a));
    }
}
