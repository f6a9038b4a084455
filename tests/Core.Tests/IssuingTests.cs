using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using Org.BouncyCastle.X509;

namespace OrderlyBeacon.Core.Tests;

public sealed class IssuingTests
{
    private static string Pem(X509 x) => Armor.Write(Armor.Certificate, x.Der.Span);

    public static TheoryData<string> Specs => ["ec-p256", "ec-p384", "rsa-2048"];

    [Theory]
    [MemberData(nameof(Specs))]
    public void Openssl_verifies_the_chain_strictly(string spec)
    {
        var w = new World(KeySpec.Parse(spec), DateTimeOffset.UtcNow.AddDays(-1));
        var leaf = w.Leaf(["a.example", "10.0.0.1"], null, DateTimeOffset.UtcNow.AddMinutes(-1), DateTimeOffset.UtcNow.AddDays(5));
        using var s = new Scratch();
        Programs.OpenSsl(
            $"verify -x509_strict -purpose sslserver -verify_hostname a.example -verify_depth 3 -CAfile {s.File("root.pem", Pem(w.Root))} -untrusted {s.File("int.pem", Pem(w.Issuing))} {s.File("leaf.pem", Pem(leaf))}"
        );
        Programs.OpenSsl($"verify -x509_strict -verify_ip 10.0.0.1 -CAfile {s["root.pem"]} -untrusted {s["int.pem"]} {s["leaf.pem"]}");
        Assert.NotEqual(
            0,
            Programs
                .Run(
                    "openssl",
                    $"verify -verify_hostname b.example -CAfile {s["root.pem"]} -untrusted {s["int.pem"]} {s["leaf.pem"]}".Split(' ')
                )
                .Code
        );
    }

    [Fact]
    public void Extensions_are_as_the_standard_wants_them()
    {
        var w = new World();
        var text = Programs.OpenSsl("x509 -noout -text", Encoding.ASCII.GetBytes(Pem(w.Leaf("a.example", "*.b.example"))));
        Assert.Contains("X509v3 Basic Constraints: critical\n                CA:FALSE", text);
        Assert.Contains("X509v3 Key Usage: critical\n                Digital Signature", text);
        Assert.Contains("X509v3 Extended Key Usage: \n                TLS Web Server Authentication", text);
        Assert.Contains("X509v3 Subject Alternative Name: \n                DNS:a.example, DNS:*.b.example", text);
        Assert.Contains("URI:http://beacon.thistledown.example/crl/issuing.crl", text);
        Assert.Contains("CA Issuers - URI:http://beacon.thistledown.example/issuer/issuing.cer", text);
        Assert.Contains("pathlen:0", Programs.OpenSsl("x509 -noout -text", Encoding.ASCII.GetBytes(Pem(w.Issuing))));
    }

    [Fact]
    public void With_an_empty_subject_the_names_are_critical()
    {
        var text = Programs.OpenSsl("x509 -noout -text", Encoding.ASCII.GetBytes(Pem(new World().Leaf(["a.example"], ""))));
        Assert.Contains("X509v3 Subject Alternative Name: critical", text);
    }

    [Fact]
    public void Bouncy_castle_reads_the_same()
    {
        var w = new World();
        for (var i = 0; i < 200; i++)
        {
            var names = Enumerable.Range(0, 1 + i % 7).Select(n => n % 3 == 2 ? $"10.0.{i}.{n}" : $"n{n}.r{i}.example").ToArray();
            var ours = w.Leaf(
                names,
                i % 5 == 0 ? "" : $"CN={names[0]},O=\"Rail, nr {i}\"",
                World.Now.AddDays(-i),
                World.Now.AddDays(i * 100)
            );
            var theirs = new X509CertificateParser().ReadCertificate(ours.Der.ToArray());
            theirs.Verify(new X509CertificateParser().ReadCertificate(w.Issuing.Der.ToArray()).GetPublicKey());
            Assert.Equal(ours.Serial.Hex, Convert.ToHexString(theirs.SerialNumber.ToByteArrayUnsigned()));
            Assert.Equal(ours.NotAfter.UtcDateTime, theirs.NotAfter.ToUniversalTime());
            Assert.Equal(ours.NotBefore.UtcDateTime, theirs.NotBefore.ToUniversalTime());
            Assert.Equal(names, theirs.GetSubjectAlternativeNames().Select(n => (string)n[1]));
            Assert.Equal(ours.Subject.Der.ToArray(), theirs.SubjectDN.GetDerEncoded());
        }
    }

    [Theory]
    [InlineData(90, 90, 3000, 90, ValidityLimit.AsAsked)]
    [InlineData(365, 90, 3000, 90, ValidityLimit.Profile)]
    [InlineData(90, 90, 10, 10, ValidityLimit.Issuer)]
    public void A_life_is_cut_and_the_reason_said(int asked, int most, int issuerDays, int got, ValidityLimit limit)
    {
        var v = Validity.Work(
            World.Now,
            TimeSpan.FromDays(asked),
            TimeSpan.FromDays(most),
            World.Now.AddDays(-10),
            World.Now.AddDays(issuerDays)
        );
        Assert.Equal(limit, v.Limit);
        Assert.Equal(got, (int)Math.Round((v.NotAfter - World.Now).TotalDays));
        Assert.Equal(limit == ValidityLimit.AsAsked, v.Reason is null);
    }

    [Fact]
    public void Nothing_is_issued_under_an_ended_authority() =>
        Assert.Equal(
            ProblemCode.AuthorityNotReady,
            Assert
                .Throws<BeaconProblem>(() =>
                    Validity.Work(World.Now, null, TimeSpan.FromDays(90), World.Now.AddDays(-10), World.Now.AddDays(-1))
                )
                .Code
        );

    [Fact]
    public void A_crl_is_read_by_openssl_and_bouncy_castle_and_ourselves()
    {
        var w = new World();
        var revoked = Enumerable
            .Range(0, 500)
            .Select(i => new RevokedCertificate(
                World.Serial(),
                World.Now.AddMinutes(-i),
                (RevocationReason)new[] { 0, 1, 3, 4, 5, 9 }[i % 6]
            ))
            .ToList();
        var der = w.Crl(42, revoked).ToArray();
        var ours = Crl.Read(der);
        Assert.True(ours.SignedBy(w.Issuing.PublicKey));
        Assert.Equal(42, ours.Number);
        var theirs = new X509CrlParser().ReadCrl(der);
        theirs.Verify(new X509CertificateParser().ReadCertificate(w.Issuing.Der.ToArray()).GetPublicKey());
        foreach (var r in revoked)
        {
            Assert.Equal(r, ours.Find(r.Serial));
            Assert.NotNull(theirs.GetRevokedCertificate(new Org.BouncyCastle.Math.BigInteger(r.Serial.Hex, 16)));
        }
        Assert.Null(ours.Find(World.Serial()));
        using var s = new Scratch();
        var text = Programs.OpenSsl($"crl -inform DER -in {s.File("a.crl", der)} -noout -text");
        Assert.Contains("X509v3 CRL Number: \n                42", text);
        Assert.Contains("Key Compromise", text);
        Programs.OpenSsl($"crl -inform DER -in {s["a.crl"]} -CAfile {s.File("i.pem", Pem(w.Issuing))} -noout");
    }

    [Fact]
    public void An_empty_crl_has_no_empty_list()
    {
        var w = new World();
        var der = w.Crl(1, []).ToArray();
        using var s = new Scratch();
        Assert.Contains("No Revoked Certificates", Programs.OpenSsl($"crl -inform DER -in {s.File("a.crl", der)} -noout -text"));
    }

    [Fact]
    public void Bundles_are_read_by_openssl()
    {
        var w = new World();
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var leaf = X509.Read(
            CertificateWriter.Issue(w.Content(PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()), ["a.example"]), w.IssuingSigner)
        );
        using var s = new Scratch();
        var p7 = Pkcs7.WriteCertificates([leaf.Der, w.Issuing.Der]);
        Assert.Equal(
            2,
            Programs.OpenSsl($"pkcs7 -inform DER -in {s.File("a.p7b", p7)} -print_certs").Split("BEGIN CERTIFICATE").Length - 1
        );
        Assert.Equal(leaf.Der.ToArray(), Pkcs7.ReadCertificates(p7)[0].ToArray());
        var p12 = Pkcs12.Write([leaf.Der, w.Issuing.Der], key, "secret words", new byte[16]);
        Assert.Equal(
            2,
            Programs
                .OpenSsl($"pkcs12 -in {s.File("a.p12", p12)} -passin file:{s.File("pw", "secret words")} -nodes -nokeys")
                .Split("BEGIN CERTIFICATE")
                .Length - 1
        );
        Assert.Contains("PRIVATE KEY", Programs.OpenSsl($"pkcs12 -in {s["a.p12"]} -passin file:{s["pw"]} -nodes -nocerts"));
    }
}
