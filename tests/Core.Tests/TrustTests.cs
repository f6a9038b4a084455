using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

public sealed class TrustTests
{
    private readonly World _w = new();

    private LookVerdict Judge(
        string name,
        X509[] served,
        X509[]? anchors = null,
        X509[]? known = null,
        DateTimeOffset? now = null,
        Crl? crl = null
    ) =>
        LookJudge.Judge(
            name,
            served,
            anchors ?? [_w.Root],
            known ?? [_w.Root, _w.Issuing],
            now ?? World.Now,
            crl is null ? null : (issuer, x) => RevocationStanding.Judge(x, issuer, [crl], [], now ?? World.Now)
        );

    private static LookFault Only(LookVerdict v)
    {
        Assert.False(v.Accepted);
        var p = Assert.Single(v.Problems);
        Assert.NotEmpty(p.Cure);
        Assert.NotEmpty(p.Hurts);
        return p.Fault;
    }

    [Fact]
    public void What_clients_accept_has_no_problem()
    {
        var v = Judge("a.example", [_w.Leaf("a.example"), _w.Issuing]);
        Assert.True(v.Accepted);
        Assert.Equal(
            ["a.example was issued by Test Issuing.", "Test Issuing was issued by Test Root.", "Test Root is a trust anchor."],
            v.Path!.Steps
        );
    }

    [Fact]
    public void A_missing_intermediate_is_named() =>
        Assert.Equal(LookFault.IntermediateMissing, Only(Judge("a.example", [_w.Leaf("a.example")])));

    [Fact]
    public void An_unknown_issuer_is_named() =>
        Assert.Equal(LookFault.UnknownIssuer, Only(Judge("a.example", [_w.Leaf("a.example")], known: [])));

    [Fact]
    public void A_foreign_root_is_named() =>
        Assert.Equal(
            LookFault.UnknownIssuer,
            Only(Judge("a.example", [_w.Leaf("a.example"), _w.Issuing, _w.Root], anchors: [new World().Root], known: []))
        );

    [Fact]
    public void A_wrong_name_is_named() =>
        Assert.Equal(LookFault.NameMissing, Only(Judge("b.example", [_w.Leaf("a.example"), _w.Issuing])));

    [Fact]
    public void An_expired_one_is_named() =>
        Assert.Equal(LookFault.Expired, Only(Judge("a.example", [_w.Leaf("a.example"), _w.Issuing], now: World.Now.AddDays(100))));

    [Fact]
    public void One_of_the_future_is_named() =>
        Assert.Equal(LookFault.NotYetValid, Only(Judge("a.example", [_w.Leaf(["a.example"], null, World.Now.AddDays(1)), _w.Issuing])));

    [Fact]
    public void A_name_in_the_common_name_alone_is_named()
    {
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var content = _w.Content(Keys.PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()), ["a.example"]) with { Names = [] };
        Assert.Equal(
            LookFault.CommonNameOnly,
            Only(Judge("a.example", [X509.Read(CertificateWriter.Issue(content, _w.IssuingSigner)), _w.Issuing]))
        );
    }

    [Fact]
    public void A_self_signed_one_is_named()
    {
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var signer = new Keys.KeySigner(key);
        var content = _w.Content(signer.PublicKey, ["a.example"]);
        var self = X509.Read(CertificateWriter.Issue(content with { Issuer = content.Subject, AuthorityKeyIdentifier = default }, signer));
        Assert.Equal(LookFault.SelfSigned, Only(Judge("a.example", [self])));
    }

    [Fact]
    public void A_client_certificate_is_of_the_wrong_purpose()
    {
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var content = _w.Content(Keys.PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()), ["a.example"]) with
        {
            ExtendedKeyUsage = [Oids.ClientAuth],
        };
        Assert.Equal(
            LookFault.WrongPurpose,
            Only(Judge("a.example", [X509.Read(CertificateWriter.Issue(content, _w.IssuingSigner)), _w.Issuing]))
        );
    }

    [Fact]
    public void A_revoked_one_is_named()
    {
        var leaf = _w.Leaf("a.example");
        var crl = Crl.Read(_w.Crl(2, [new(leaf.Serial, World.Now, RevocationReason.KeyCompromise)]));
        Assert.Equal(LookFault.Revoked, Only(Judge("a.example", [leaf, _w.Issuing], crl: crl)));
    }

    [Fact]
    public void A_path_length_is_kept()
    {
        // An authority below one that may have none below it.
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var signer = new Keys.KeySigner(key);
        var below = X509.Read(
            CertificateWriter.Issue(
                _w.Content(signer.PublicKey, ["x.example"], "CN=Below") with
                {
                    Names = [],
                    IsAuthority = true,
                    KeyUsage = KeyUsages.KeyCertSign,
                    ExtendedKeyUsage = [],
                },
                _w.IssuingSigner
            )
        );
        using var leafKey = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var leaf = X509.Read(
            CertificateWriter.Issue(
                _w.Content(Keys.PublicKeyInfo.Read(leafKey.ExportSubjectPublicKeyInfo()), ["a.example"]) with
                {
                    Issuer = below.Subject,
                    AuthorityKeyIdentifier = below.SubjectKeyIdentifier,
                },
                signer
            )
        );
        var path = PathJudge.Judge(new(leaf, [below, _w.Issuing], [], [_w.Root], World.Now));
        Assert.Equal(PathFault.PathLength, Assert.Single(path.Findings).Fault);
    }

    [Fact]
    public void Two_that_issue_each_other_end()
    {
        var a = new World();
        Assert.False(
            PathJudge.Judge(new(a.Leaf("a.example"), [a.Issuing, a.Root, a.Issuing, a.Root], [], [_w.Root], World.Now)).ReachesAnchor
        );
    }
}
