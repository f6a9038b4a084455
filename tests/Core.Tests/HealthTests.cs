using System.Text;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

/// <summary>What is found at the addresses in certificates, judged; and profiles, whether they make sense.</summary>
public sealed class HealthTests
{
    private static readonly World Ours = new(),
        Other = new(from: World.Now.AddDays(-900));

    private static Fetched Got(
        ReadOnlyMemory<byte> body,
        int status = 200,
        string type = "application/octet-stream",
        DateTimeOffset? there = null
    ) => new(status, type, null, body, null, false, null, there);

    private static PointVerdict Judge(
        PointKind kind,
        Fetched f,
        DateTimeOffset? now = null,
        long? published = null,
        OcspCertId? asked = null,
        bool? revoked = null
    ) => PointJudge.Judge(new(kind, Ours.Issuing, [Ours.Issuing, Other.Issuing], published, asked, revoked), f, now ?? World.Now);

    private static PointFault? FaultOf(PointKind kind, Fetched f, DateTimeOffset? now = null, long? published = null) =>
        Judge(kind, f, now, published).Finding?.Fault;

    [Theory]
    [InlineData(404, PointFault.Missing)]
    [InlineData(410, PointFault.Missing)]
    [InlineData(301, PointFault.Redirected)]
    [InlineData(308, PointFault.Redirected)]
    [InlineData(403, PointFault.ServerError)]
    [InlineData(500, PointFault.ServerError)]
    public void What_the_server_says_is_told(int status, PointFault fault)
    {
        foreach (var kind in Enum.GetValues<PointKind>())
            Assert.Equal(fault, FaultOf(kind, Got(default, status)));
    }

    [Fact]
    public void Every_finding_has_a_reason_causes_and_a_cure()
    {
        var list = Ours.Crl(3, []);
        foreach (var kind in Enum.GetValues<PointKind>())
        foreach (
            var f in new[]
            {
                Got(default),
                Got(list),
                Got(Ours.Issuing.Der),
                Got(Other.Issuing.Der),
                Got(Other.Crl(3, [])),
                Got(Encoding.ASCII.GetBytes("-----BEGIN X509 CRL-----")),
                Got(Encoding.ASCII.GetBytes("<html>"), type: "text/html"),
                new Fetched(null, null, null, default, "the connection was refused.", false, null, null),
                new Fetched(null, null, null, default, "no answer in time.", true, null, null),
                new Fetched(null, null, null, default, null, false, 1 << 20, null),
                Got(OcspResponse.Refuse(OcspRefusal.TryLater)),
            }
        )
            if (Judge(kind, f).Finding is { } finding)
            {
                Assert.NotEmpty(finding.Reason);
                Assert.NotEmpty(finding.Causes);
                Assert.NotEmpty(finding.Hurts);
                Assert.NotEmpty(finding.Cure);
                Assert.True(finding.Severity >= Severity.Soon);
            }
            else
                Assert.NotEmpty(Judge(kind, f).Good);
    }

    [Fact]
    public void A_list_is_judged_by_key_number_and_time()
    {
        var list = Ours.Crl(3, []);
        Assert.Null(FaultOf(PointKind.Crl, Got(list), published: 3));
        Assert.Equal(PointFault.Stale, FaultOf(PointKind.Crl, Got(list), published: 4));
        // Half of a day's list is overlap: past three quarters it should have been followed.
        Assert.Null(FaultOf(PointKind.Crl, Got(list), World.Now.AddHours(17)));
        Assert.Equal(PointFault.ExpiresSoon, FaultOf(PointKind.Crl, Got(list), World.Now.AddHours(19)));
        Assert.Equal(PointFault.Expired, FaultOf(PointKind.Crl, Got(list), World.Now.AddHours(25)));
        Assert.Equal(PointFault.ClockSkew, FaultOf(PointKind.Crl, Got(list), World.Now.AddHours(-1)));
        Assert.Equal(PointFault.WrongType, FaultOf(PointKind.DeltaCrl, Got(list)));
        Assert.Equal(PointFault.WrongType, FaultOf(PointKind.Crl, Got(Ours.Crl(3, [], from: 2))));
        Assert.Null(FaultOf(PointKind.DeltaCrl, Got(Ours.Crl(3, [], from: 2))));
        Assert.Equal(PointFault.WrongGeneration, FaultOf(PointKind.Crl, Got(Other.Crl(3, []))));
        var altered = list.ToArray();
        altered[^1] ^= 1;
        Assert.Equal(PointFault.BadSignature, FaultOf(PointKind.Crl, Got(altered)));
        Assert.Equal(PointFault.ClockSkew, FaultOf(PointKind.Crl, Got(list, there: World.Now.AddMinutes(20))));
    }

    [Fact]
    public void A_certificate_is_judged_by_key_and_generation()
    {
        Assert.Null(FaultOf(PointKind.IssuerCertificate, Got(Ours.Issuing.Der)));
        Assert.Null(FaultOf(PointKind.IssuerCertificate, Got(Formats.Pkcs7.WriteCertificates([Ours.Root.Der, Ours.Issuing.Der]))));
        Assert.Contains("previous generation", Judge(PointKind.IssuerCertificate, Got(Other.Issuing.Der)).Finding!.Reason);
        Assert.Equal(PointFault.WrongIssuer, FaultOf(PointKind.IssuerCertificate, Got(Ours.Root.Der)));
        Assert.Equal(PointFault.Expired, FaultOf(PointKind.IssuerCertificate, Got(Ours.Issuing.Der), World.Now.AddYears(9)));
    }

    [Fact]
    public void An_answer_is_judged_by_its_signer_and_what_it_says()
    {
        var (responder, signer) = Ours.Responder();
        var id = OcspCertId.Of(Ours.Issuing, World.Serial(), sha256: false);
        byte[] Write(OcspStatus status, X509 by, KeySigner with, DateTimeOffset? until = null) =>
            OcspResponse.Write(
                [
                    new(
                        id,
                        status,
                        status == OcspStatus.Revoked ? new(id.Serial, World.Now, RevocationReason.Superseded) : null,
                        World.Now,
                        until ?? World.Now.AddHours(4)
                    ),
                ],
                World.Now,
                default,
                by.PublicKey.KeyIdentifier(),
                by.Der.Span,
                with
            );
        PointFault? Of(byte[] der, bool revoked = false, DateTimeOffset? now = null) =>
            Judge(PointKind.Ocsp, Got(der), now, asked: id, revoked: revoked).Finding?.Fault;
        Assert.Null(Of(Write(OcspStatus.Good, responder, signer)));
        Assert.Null(Of(Write(OcspStatus.Revoked, responder, signer), revoked: true));
        Assert.Equal(PointFault.WrongAnswer, Of(Write(OcspStatus.Good, responder, signer), revoked: true));
        Assert.Equal(PointFault.WrongAnswer, Of(Write(OcspStatus.Unknown, responder, signer)));
        Assert.Equal(PointFault.Expired, Of(Write(OcspStatus.Good, responder, signer), now: World.Now.AddHours(5)));
        var (others, otherSigner) = Other.Responder();
        Assert.Equal(PointFault.WrongGeneration, Of(Write(OcspStatus.Good, others, otherSigner)));
        Assert.Equal(PointFault.BadSignature, Of(Write(OcspStatus.Good, responder, otherSigner)));
        Assert.Equal(PointFault.ResponderRefuses, Of(OcspResponse.Refuse(OcspRefusal.Unauthorized)));
    }

    /// <summary>Whatever comes from an address: a verdict, never an exception.</summary>
    [Fact]
    public void Anything_may_come_from_an_address()
    {
        var random = new Random(20261125);
        byte[][] seeds =
        [
            Ours.Crl(3, []).ToArray(),
            Ours.Issuing.Der.ToArray(),
            OcspResponse.Refuse(OcspRefusal.TryLater),
            Formats.Pkcs7.WriteCertificates([Ours.Issuing.Der]),
        ];
        for (var i = 0; i < 4000; i++)
        {
            var body = seeds[random.Next(seeds.Length)].ToArray();
            for (var n = random.Next(1, 6); n > 0; n--)
                body[random.Next(body.Length)] = (byte)random.Next(256);
            if (random.Next(4) == 0)
                body = body[..random.Next(body.Length)];
            foreach (var kind in Enum.GetValues<PointKind>())
                Judge(kind, Got(body), asked: OcspCertId.Of(Ours.Issuing, new SerialNumber("4711"), sha256: false));
        }
    }

    private static Profile Server => StartingSet.All.Single(p => p.Id == "server");

    private static IReadOnlyList<string> Fields(Profile p, int days = 3000, int? depth = 0) =>
        [.. ProfileSense.Faults(p, TimeSpan.FromDays(days), depth).Select(f => f.Field)];

    [Fact]
    public void The_starting_set_makes_sense() =>
        Assert.All(StartingSet.All, p => Assert.Empty(ProfileSense.Faults(p, TimeSpan.FromDays(8 * 365), 1)));

    [Fact]
    public void What_makes_no_sense_is_named_by_its_field()
    {
        Assert.Equal(["id"], Fields(Server with { Id = "Server" }));
        Assert.Equal(["title"], Fields(Server with { Title = " " }));
        Assert.Equal(["life"], Fields(Server with { Life = TimeSpan.FromSeconds(5) }));
        Assert.Equal(["life"], Fields(Server, days: 60));
        Assert.Equal(["keys"], Fields(Server with { Keys = [] }));
        Assert.Equal(["keyUsage"], Fields(Server with { KeyUsage = KeyUsages.DigitalSignature | KeyUsages.KeyCertSign }));
        Assert.Equal(["keyUsage"], Fields(Server with { KeyUsage = KeyUsages.DigitalSignature | KeyUsages.CrlSign }));
        Assert.Contains("keyUsage", Fields(Server with { KeyUsage = KeyUsages.None }));
        // Elliptic keys do not encipher: nothing would be left.
        Assert.Contains("keyUsage", Fields(Server with { Keys = [KeySpec.P256], KeyUsage = KeyUsages.KeyEncipherment }));
        Assert.Empty(Fields(Server with { Keys = [KeySpec.Rsa2048], KeyUsage = KeyUsages.KeyEncipherment }));
        Assert.Equal(["extendedKeyUsage"], Fields(Server with { ExtendedKeyUsage = ["1.2.3.x"] }));
        Assert.Equal(["extendedKeyUsage"], Fields(Server with { ExtendedKeyUsage = [Oids.OcspSigning] }));
        Assert.Equal(["names"], Fields(Server with { Names = new(false, false, false) { HostNames = false } }));
        Assert.Equal(["names"], Fields(Server with { Names = new(true, true, false) { HostNames = false } }));
        Assert.Equal(["names.most"], Fields(Server with { Names = Server.Names with { Most = 0 } }));
        Assert.Equal(["approvals"], Fields(Server with { Approvals = 3 }));
        var subordinate = StartingSet.All.Single(p => p.Id == "subordinate");
        Assert.Equal(["authorityDepth"], Fields(subordinate));
        Assert.Empty(Fields(subordinate, depth: 1));
        Assert.Equal(["authorityDepth"], Fields(subordinate with { AuthorityDepth = 1 }, depth: 1));
        Assert.Equal(["approvals"], Fields(subordinate with { Approvals = 0 }, depth: 1));
        Assert.Equal(["extendedKeyUsage"], Fields(subordinate with { ExtendedKeyUsage = [Oids.ServerAuth] }, depth: 1));
    }

    [Fact]
    public void Names_are_bound_by_profile_and_authority()
    {
        var facts = new NameFacts { Groups = ["web"], Zones = [new(DnsName.Parse("thistledown.example"), "web")] };
        VerdictReason[] Of(Profile p, NameConstraints[] bounds, params string[] names) =>
            [.. NameDecision.Decide(names, p, facts, bounds).Select(v => v.Reason)];
        var narrow = Server with { Names = Server.Names with { Within = [DnsName.Parse("depots.thistledown.example")], Most = 2 } };
        Assert.Equal(
            [VerdictReason.ZoneHeld, VerdictReason.ProfileOtherZone, VerdictReason.ProfileTooMany],
            Of(narrow, [], "a.depots.thistledown.example", "b.thistledown.example", "c.depots.thistledown.example")
        );
        Assert.Equal(
            [VerdictReason.OutOfBounds, VerdictReason.ZoneHeld],
            Of(
                Server,
                [NameConstraints.Of(["depots.thistledown.example"], [])!],
                "web.thistledown.example",
                "web.depots.thistledown.example"
            )
        );
        Assert.Equal(
            [VerdictReason.ProfileNoHostNames],
            Of(StartingSet.All.Single(p => p.Id == "subordinate"), [], "web.thistledown.example")
        );
    }

    /// <summary>openssl reads our PSS parameters and checks the signature.</summary>
    [Fact]
    public void Pss_signatures_are_as_the_standard_has_them()
    {
        using var s = new Scratch();
        var signer = new KeySigner(KeySigner.NewKey(KeySpec.Rsa2048), pss: true);
        var name = DistinguishedName.Parse("CN=Pss Root,O=Thistledown Rail");
        var der = CertificateWriter.Issue(
            new()
            {
                Serial = World.Serial(),
                Issuer = name,
                Subject = name,
                PublicKey = signer.PublicKey,
                NotBefore = DateTimeOffset.UtcNow.AddDays(-1),
                NotAfter = DateTimeOffset.UtcNow.AddDays(30),
                IsAuthority = true,
                KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            },
            signer
        );
        Assert.True(X509.Read(der).IsSelfSigned);
        var pem = s.File("pss.pem", Formats.Armor.Write(Formats.Armor.Certificate, der));
        var text = Programs.OpenSsl($"x509 -noout -text -in {pem}");
        Assert.Contains("rsassaPss", text);
        Assert.Contains("Salt Length: 0x20", text);
        Programs.OpenSsl($"verify -x509_strict -check_ss_sig -CAfile {pem} {pem}");
    }
}
