using System.Formats.Asn1;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

/// <summary>What a root decides, what an answer must be, and the bounds of names.</summary>
public sealed class CeremonyTests
{
    private static readonly KeySigner RootKey = new(KeySigner.NewKey(KeySpec.P256)),
        SubordinateKey = new(KeySigner.NewKey(KeySpec.P256));
    private static readonly DistinguishedName RootName = DistinguishedName.Parse("CN=Thistledown Root,O=Thistledown Rail"),
        SubordinateName = DistinguishedName.Parse("CN=Thistledown Issuing,O=Thistledown Rail");

    private static X509 Root(int? pathLength = null, string[]? permit = null, double years = 20) =>
        X509.Read(
            CertificateWriter.Issue(
                RootCeremony.Root(
                    RootName,
                    RootKey.PublicKey,
                    World.Serial(),
                    TimeSpan.FromDays(years * 365),
                    pathLength,
                    NameConstraints.Of(permit ?? [], []),
                    World.Now
                ),
                RootKey
            )
        );

    private static CertificationRequest Request(KeySigner? key = null, DistinguishedName? name = null) =>
        CertificationRequest.Read(CertificationRequest.Write(name ?? SubordinateName, [], key ?? SubordinateKey));

    private static SubordinateWish Wish(double days = 365, int depth = 0, NameConstraints? c = null) =>
        new(TimeSpan.FromDays(days), depth, c, ["http://pki.thistledown.example/root.crl"], []);

    private static X509 Signed(
        X509 root,
        CertificationRequest request,
        SubordinateWish? wish = null,
        Func<CertificateContent, CertificateContent>? bend = null
    )
    {
        var content = RootCeremony.Subordinate(root, request, wish ?? Wish(), [], World.Serial(), World.Now).Content;
        return X509.Read(CertificateWriter.Issue(bend?.Invoke(content) ?? content, RootKey));
    }

    [Fact]
    public void A_subordinate_ends_with_its_root_and_is_told_so()
    {
        var d = RootCeremony.Subordinate(Root(years: 3), Request(), Wish(3650), [], World.Serial(), World.Now);
        Assert.Equal(Root(years: 3).NotAfter, d.Content.NotAfter);
        Assert.Contains(d.Sentences, s => s.Contains("shorter than asked"));
        Assert.DoesNotContain(
            RootCeremony.Subordinate(Root(), Request(), Wish(), [], World.Serial(), World.Now).Sentences,
            s => s.Contains("shorter")
        );
    }

    public static TheoryData<string, ProblemCode, string> Refusals =>
        new()
        {
            { "root-name", ProblemCode.RequestRefused, "root's own name" },
            { "root-key", ProblemCode.RequestRefused, "root's own key" },
            { "no-name", ProblemCode.RequestRefused, "no common name" },
            { "too-deep", ProblemCode.RequestRefused, "at most 1" },
            { "weak-key", ProblemCode.RequestRefused, "1024" },
            { "brief", ProblemCode.InputInvalid, "at least a day" },
            { "taken-key", ProblemCode.RequestRefused, "belongs to" },
        };

    [Theory, MemberData(nameof(Refusals))]
    public void A_root_refuses(string what, ProblemCode code, string says)
    {
        var root = Root(pathLength: what == "too-deep" ? 1 : null);
        using var weak = RSA.Create(1024);
        var request = what switch
        {
            "root-name" => Request(name: RootName),
            "root-key" => Request(RootKey),
            "no-name" => Request(name: DistinguishedName.Parse("O=Thistledown Rail")),
            "weak-key" => Request(new KeySigner(weak)),
            _ => Request(),
        };
        X509[] others = what == "taken-key" ? [Signed(root, Request(name: DistinguishedName.Parse("CN=Another")))] : [];
        var p = Assert.Throws<BeaconProblem>(() =>
            RootCeremony.Subordinate(
                root,
                request,
                Wish(what == "brief" ? 0.5 : 365, what == "too-deep" ? 1 : 0),
                others,
                World.Serial(),
                World.Now
            )
        );
        Assert.Contains(says, p.Message);
        Assert.NotEmpty(p.Cure);
        if (what != "weak-key")
            Assert.Equal(code, p.Code);
    }

    [Theory]
    [InlineData("O=Nameless", 3650)]
    [InlineData("CN=Brief", 5)]
    [InlineData("CN=Endless", 30_000)]
    public void A_root_is_not_founded_like_that(string name, int days) =>
        Assert.Throws<BeaconProblem>(() =>
            RootCeremony.Root(
                DistinguishedName.Parse(name),
                RootKey.PublicKey,
                World.Serial(),
                TimeSpan.FromDays(days),
                null,
                null,
                World.Now
            )
        );

    [Fact]
    public void An_answer_is_found_among_files_in_any_form_and_order()
    {
        var (root, request) = (Root(), Request());
        var mine = Signed(root, request);
        var noise = new World().Leaf("a.thistledown.example");
        byte[] Pem(params X509[] all) =>
            System.Text.Encoding.ASCII.GetBytes(string.Concat(all.Select(x => Armor.Write(Armor.Certificate, x.Der.Span))));
        foreach (
            var files in new byte[][][]
            {
                [Pem(mine), Pem(root)],
                [root.Der.ToArray(), mine.Der.ToArray()],
                [Pem(noise, root, mine)],
                [Pkcs7.WriteCertificates([mine.Der, root.Der])],
            }
        )
        {
            var a = AuthorityAnswer.Find(request, files, [], [], World.Now);
            Assert.Equal((mine.Serial, root.Serial), (a.Certificate.Serial, a.Root.Serial));
        }
    }

    public static TheoryData<string, ProblemCode, string> Answers =>
        new()
        {
            { "another-key", ProblemCode.WrongFile, "None of this answers request" },
            { "root-only", ProblemCode.WrongFile, "Root certificate of CN=Thistledown Root" },
            { "request-itself", ProblemCode.WrongFile, "Certification request" },
            { "no-root", ProblemCode.WrongFile, "is not with it." },
            { "another-root", ProblemCode.WrongFile, "another root's is" },
            { "another-name", ProblemCode.AnswerRefused, "the request was for" },
            { "not-an-authority", ProblemCode.AnswerRefused, "not one of an authority" },
            { "no-cert-sign", ProblemCode.AnswerRefused, "not one of an authority" },
            { "no-crl-sign", ProblemCode.AnswerRefused, "to sign CRLs" },
            { "expired", ProblemCode.AnswerRefused, "expired on" },
            { "early", ProblemCode.AnswerRefused, "clock is wrong" },
        };

    [Theory, MemberData(nameof(Answers))]
    public void A_wrong_answer_is_named_for_what_it_is(string what, ProblemCode code, string says)
    {
        var (root, request) = (Root(), Request());
        var mine = Signed(
            root,
            request,
            bend: c =>
                what switch
                {
                    "another-name" => c with { Subject = DistinguishedName.Parse("CN=Somebody Else") },
                    "not-an-authority" => c with { IsAuthority = false, KeyUsage = KeyUsages.CrlSign, PathLength = null },
                    "no-cert-sign" => c with { KeyUsage = KeyUsages.DigitalSignature },
                    "no-crl-sign" => c with { KeyUsage = KeyUsages.KeyCertSign },
                    _ => c,
                }
        );
        var otherRequest = Request(new KeySigner(KeySigner.NewKey(KeySpec.P256)));
        byte[][] files = what switch
        {
            "another-key" => [Signed(root, otherRequest).Der.ToArray(), root.Der.ToArray()],
            "root-only" => [root.Der.ToArray()],
            "request-itself" => [request.Der.ToArray()],
            "no-root" => [mine.Der.ToArray()],
            "another-root" => [mine.Der.ToArray(), new World().Root.Der.ToArray()],
            _ => [mine.Der.ToArray(), root.Der.ToArray()],
        };
        var now = what switch
        {
            "expired" => World.Now.AddYears(30),
            "early" => World.Now.AddDays(-2),
            _ => World.Now,
        };
        var p = Assert.Throws<BeaconProblem>(() => AuthorityAnswer.Find(request, files, [], [], now));
        Assert.Equal(code, p.Code);
        Assert.Contains(says, p.Message);
        Assert.NotEmpty(p.Cure);
    }

    public static TheoryData<string, string[], string[], bool> Bounds =>
        new()
        {
            { "a.thistledown.example", ["thistledown.example"], [], true },
            { "thistledown.example", ["thistledown.example"], [], true },
            { "THISTLEDOWN.example", ["thistledown.EXAMPLE"], [], true },
            { "notthistledown.example", ["thistledown.example"], [], false },
            { "a.b.thistledown.example", ["thistledown.example", "other.example"], [], true },
            { "*.thistledown.example", ["thistledown.example"], [], true },
            { "*.lab.thistledown.example", ["thistledown.example"], ["lab.thistledown.example"], false },
            { "lab.thistledown.example", ["thistledown.example"], ["lab.thistledown.example"], false },
            { "a.other.example", [], ["lab.thistledown.example"], true },
            { "10.0.0.1", ["thistledown.example"], [], true },
        };

    [Theory, MemberData(nameof(Bounds))]
    public void Bounds_hold_below_their_zone_and_nowhere_else(string name, string[] permit, string[] exclude, bool within)
    {
        var bound = NameConstraints.Of(permit, exclude)!;
        Assert.Equal(within, bound.FirstAgainst([AlternativeName.Parse(name)]) is null);
        var back = NameConstraints.Read(bound.Write());
        Assert.Equal(
            (bound.Permitted, bound.Excluded),
            (back.Permitted, back.Excluded),
            (a, b) => a.Item1.SequenceEqual(b.Item1) && a.Item2.SequenceEqual(b.Item2)
        );
    }

    [Fact]
    public void A_form_of_names_that_is_bound_and_not_judged_counts_as_against()
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
        using (w.PushSequence())
            w.WriteOctetString([10, 0, 0, 0, 255, 0, 0, 0], new Asn1Tag(TagClass.ContextSpecific, 7));
        var bound = NameConstraints.Read(w.Encode());
        Assert.Null(bound.FirstAgainst([AlternativeName.Parse("10.0.0.1")]));
        Assert.NotNull(bound.FirstAgainst([AlternativeName.Parse("11.0.0.1")]));
        Assert.Null(bound.FirstAgainst([AlternativeName.Parse("a.example")]));

        // Registered identifiers: nobody here compares them, so a name of that form is against any bound on them.
        var unknown = new AsnWriter(AsnEncodingRules.DER);
        using (unknown.PushSequence())
        using (unknown.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 1)))
        using (unknown.PushSequence())
            unknown.WriteObjectIdentifier("1.2.3", new Asn1Tag(TagClass.ContextSpecific, 8));
        bound = NameConstraints.Read(unknown.Encode());
        Assert.NotNull(bound.FirstAgainst([new(NameKind.Other, "8")]));
        Assert.Null(bound.FirstAgainst([AlternativeName.Parse("a.example")]));
        Assert.Throws<BeaconProblem>(() => NameConstraints.Of(["*.thistledown.example"], []));
    }

    [Fact]
    public void A_chain_out_of_bounds_says_which_authority_and_which_name()
    {
        var root = Root(permit: ["thistledown.example"]);
        var issuing = Signed(root, Request());
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        X509 Leaf(string name) =>
            X509.Read(
                CertificateWriter.Issue(
                    new()
                    {
                        Serial = World.Serial(),
                        Issuer = issuing.Subject,
                        Subject = DistinguishedName.ForCommonName(name),
                        PublicKey = PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
                        NotBefore = World.Now.AddDays(-1),
                        NotAfter = World.Now.AddDays(9),
                        Names = [AlternativeName.Parse(name)],
                        AuthorityKeyIdentifier = issuing.SubjectKeyIdentifier,
                    },
                    SubordinateKey
                )
            );
        TrustPath Judge(string name) => PathJudge.Judge(new(Leaf(name), [issuing], [], [root], World.Now));
        Assert.True(Judge("a.thistledown.example").IsAccepted);
        var path = Judge("a.other.example");
        Assert.Equal(PathFault.OutOfBounds, Assert.Single(path.Findings).Fault);
        Assert.Contains("Thistledown Root may not certify a.other.example", path.Steps[^1]);
    }

    [Fact]
    public void A_log_shows_every_alteration()
    {
        var first = CeremonyLog.Append(
            null,
            World.Now,
            "robin",
            "root.founded",
            "CN=R",
            new Dictionary<string, string> { ["a"] = "1", ["b"] = "2" },
            new byte[] { 1, 2, 3 },
            RootKey
        );
        var second = CeremonyLog.Append(
            first,
            World.Now,
            "robin",
            "crl.signed",
            "CN=R",
            new Dictionary<string, string>(),
            default,
            RootKey
        );
        PublicKeyInfo[] keys = [RootKey.PublicKey];
        Assert.Null(CeremonyLog.Fault(null, first, keys));
        Assert.Null(CeremonyLog.Fault(first, second, keys));
        foreach (
            var (bent, says) in new[]
            {
                (first with { Der = new byte[] { 1, 2, 4 } }, "another thing now"),
                (first with { Facts = new Dictionary<string, string> { ["a"] = "9" } }, "facts"),
                (first with { Record = first.Record with { Actor = "wren" } }, "altered"),
                (first with { Signature = second.Signature }, "not signed"),
            }
        )
            Assert.Contains(says, CeremonyLog.Fault(null, bent, keys));
        Assert.Contains("missing", CeremonyLog.Fault(null, second, keys));
        Assert.Contains("not signed", CeremonyLog.Fault(null, first, [SubordinateKey.PublicKey]));
    }

    [Theory]
    [InlineData("Thistledown Root", "root-certificate--thistledown-root--2026-11-25.pem")]
    [InlineData("  A/B\\..\\C  ", "root-certificate--a-b-c--2026-11-25.pem")]
    [InlineData("Ärger & Söhne", "root-certificate--rger-s-hne--2026-11-25.pem")]
    [InlineData("…", "root-certificate--unnamed--2026-11-25.pem")]
    public void Files_tell_what_they_are_and_never_leave_their_folder(string whom, string file) =>
        Assert.Equal(file, TellingName.Of("root-certificate", whom, World.Now));

    /// <summary>The encoder that writes from the end writes what the platform's reader takes, at every length of a header.</summary>
    [Theory]
    [InlineData(0)]
    [InlineData(127)]
    [InlineData(128)]
    [InlineData(255)]
    [InlineData(256)]
    [InlineData(65_536)]
    public void Long_keys_and_nonces_stay_well_formed(int size)
    {
        var id = OcspCertId.Of(new World().Issuing, World.Serial(), sha256: true);
        var responder = new byte[size];
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteOctetString(responder);
        var der = OcspResponse.Write(
            [new(id, OcspStatus.Good, null, World.Now, null)],
            World.Now,
            default,
            new byte[20],
            w.Encode(),
            RootKey
        );
        var outer = new AsnReader(der, AsnEncodingRules.DER).ReadSequence();
        outer.ReadEncodedValue();
        var typed = outer.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 0)).ReadSequence();
        typed.ReadObjectIdentifier();
        var basic = new AsnReader(typed.ReadOctetString(), AsnEncodingRules.DER).ReadSequence();
        for (var i = 0; i < 3; i++)
            basic.ReadEncodedValue();
        Assert.Equal(size, basic.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 0)).ReadSequence().ReadOctetString().Length);
    }
}
