using System.Security.Cryptography;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using Org.BouncyCastle.Asn1;
using Org.BouncyCastle.Asn1.X509;
using Org.BouncyCastle.Ocsp;
using Org.BouncyCastle.X509;
using BigInteger = Org.BouncyCastle.Math.BigInteger;

namespace OrderlyBeacon.Core.Tests;

public sealed class RevocationTests
{
    private static readonly RevocationReason[] Reasons =
    [
        .. Enum.GetValues<RevocationReason>().Where(r => r != RevocationReason.RemoveFromCrl),
    ];
    private readonly World _w = new();
    private readonly Random _random = new(20261125);

    private static BigInteger Big(SerialNumber serial) => new(serial.Hex, 16);

    private RevokedCertificate Any(DateTimeOffset from) =>
        new(World.Serial(), from.AddSeconds(-_random.Next(100_000_000)), Reasons[_random.Next(Reasons.Length)]);

    /// <summary>A few thousand entries in lists of every size: an independent reader sees what we wrote, and nothing else.</summary>
    [Fact]
    public void Full_and_delta_lists_agree_with_bouncy_castle()
    {
        var key = new X509CertificateParser().ReadCertificate(_w.Issuing.Der.ToArray()).GetPublicKey();
        var total = 0;
        for (var round = 0; round < 60; round++)
        {
            var listed = Enumerable
                .Range(
                    0,
                    round switch
                    {
                        0 => 0,
                        < 10 => round,
                        < 50 => _random.Next(60),
                        _ => 200,
                    }
                )
                .Select(_ => Any(World.Now))
                .ToList();
            total += listed.Count;
            long? from = round % 2 == 1 ? _random.Next(1, 1000) : null;
            string[] points = round % 3 == 0 ? ["http://beacon.thistledown.example/crl/issuing-2.crl"] : [];
            string[] freshest = round % 4 < 2 ? ["http://beacon.thistledown.example/crl/issuing-delta.crl"] : [];
            var der = _w.Crl(1000 + round, listed, from, freshest, points);

            var ours = Crl.Read(der);
            Assert.True(ours.SignedBy(_w.Issuing.PublicKey));
            Assert.Equal((1000 + round, from), ((long)ours.Number!, (long?)ours.BaseNumber));
            Assert.Equal(points, ours.PointUris);
            Assert.Equal(from is null ? freshest : [], ours.FreshestUris);
            Assert.Empty(ours.UnknownCritical);

            var theirs = new X509CrlParser().ReadCrl(der.ToArray());
            theirs.Verify(key);
            Assert.Equal(listed.Count, theirs.GetRevokedCertificates()?.Count ?? 0);
            foreach (var r in listed)
            {
                var entry = theirs.GetRevokedCertificate(Big(r.Serial));
                Assert.Equal(r.At.UtcDateTime, entry.RevocationDate);
                var reason = entry.GetExtensionValue(new DerObjectIdentifier(Oids.ReasonCode));
                Assert.Equal(
                    (int)r.Reason,
                    reason is null ? 0 : DerEnumerated.GetInstance(Asn1Object.FromByteArray(reason.GetOctets())).IntValueExact
                );
                Assert.Equal(r, ours.Find(r.Serial));
            }
            Assert.Equal(
                from is null ? [] : new[] { Oids.DeltaCrlIndicator },
                theirs.GetCriticalExtensionOids().Cast<string>().Where(o => o == Oids.DeltaCrlIndicator)
            );
            Assert.Equal(
                from is null && freshest.Length > 0,
                theirs.GetNonCriticalExtensionOids().Cast<string>().Contains(Oids.FreshestCrl)
            );
            Assert.Equal(points.Length > 0, theirs.GetCriticalExtensionOids().Cast<string>().Contains(Oids.IssuingDistributionPoint));
        }
        Assert.True(total > 1500, $"{total} entries only");
    }

    public static TheoryData<string, long, long?, long, bool> Pairs =>
        new()
        {
            { "the delta goes on from this very list", 10, 10, 12, true },
            { "from an older one", 10, 8, 12, true },
            { "from a newer one", 10, 11, 12, false },
            { "itself older than the list", 10, 8, 9, false },
            { "not a delta", 10, null, 12, false },
        };

    [Theory, MemberData(nameof(Pairs))]
    public void A_delta_fits_its_list_or_not(string why, long full, long? from, long delta, bool fits) =>
        Assert.True(fits == Crl.Read(_w.Crl(full, [])).Fits(Crl.Read(_w.Crl(delta, [], from))), why);

    [Fact]
    public void A_delta_adds_and_takes_away()
    {
        var (held, revoked, late) = (
            new RevokedCertificate(World.Serial(), World.Now, RevocationReason.CertificateHold),
            Any(World.Now),
            Any(World.Now)
        );
        var full = Crl.Read(_w.Crl(5, [held, revoked]));
        var delta = Crl.Read(_w.Crl(6, [held with { Reason = RevocationReason.RemoveFromCrl }, late], 5));
        Assert.Null(full.Find(held.Serial, delta));
        Assert.Equal(held, full.Find(held.Serial));
        Assert.Equal(late, full.Find(late.Serial, delta));
        Assert.Equal(revoked, full.Find(revoked.Serial, delta));
        // Of another point, and so of another scope.
        Assert.False(full.Fits(Crl.Read(_w.Crl(6, [], 5, points: ["http://other.example/a.crl"]))));
    }

    [Fact]
    public void Openssl_reads_a_delta_with_its_list()
    {
        using var s = new Scratch();
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        X509 Leaf() =>
            X509.Read(
                CertificateWriter.Issue(
                    _w.Content(
                        PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
                        ["a.example"],
                        from: DateTimeOffset.UtcNow.AddDays(-1),
                        to: DateTimeOffset.UtcNow.AddDays(9)
                    ) with
                    {
                        FreshestCrlUris = ["http://beacon.thistledown.example/crl/issuing-delta.crl"],
                    },
                    _w.IssuingSigner
                )
            );
        var (good, late) = (Leaf(), Leaf());
        var now = DateTimeOffset.UtcNow.AddMinutes(-1);
        now = now.AddTicks(-(now.Ticks % TimeSpan.TicksPerSecond));
        string CrlPem(long number, IReadOnlyCollection<RevokedCertificate> list, long? from) =>
            Armor.Write(Armor.Crl, _w.Crl(number, list, from, ["http://beacon.thistledown.example/crl/issuing-delta.crl"], at: now).Span);
        var lists = s.File("lists.pem", CrlPem(3, [], null) + CrlPem(4, [new(late.Serial, now, RevocationReason.KeyCompromise)], 3));
        var trust = s.File(
            "trust.pem",
            Armor.Write(Armor.Certificate, _w.Root.Der.Span) + Armor.Write(Armor.Certificate, _w.Issuing.Der.Span)
        );
        (int Code, string Text) Verify(X509 leaf, string more)
        {
            var (code, output, error) = Programs.Run(
                "openssl",
                [
                    .. $"verify {more} -extended_crl -crl_check -partial_chain -CAfile {trust} -CRLfile {lists} {s.File("leaf.pem", Armor.Write(Armor.Certificate, leaf.Der.Span))}".Split(
                        ' ',
                        StringSplitOptions.RemoveEmptyEntries
                    ),
                ]
            );
            return (code, output + error);
        }
        Assert.Equal(0, Verify(good, "-use_deltas").Code);
        var seen = Verify(late, "-use_deltas");
        Assert.Contains("certificate revoked", seen.Text);
        // Without the delta it is not seen: the full list is from before.
        Assert.Equal(0, Verify(late, "").Code);
    }

    /// <summary>A few thousand random questions: BouncyCastle reads our answers, and we read its requests.</summary>
    [Fact]
    public void Answers_agree_with_bouncy_castle()
    {
        var issuer = new X509CertificateParser().ReadCertificate(_w.Issuing.Der.ToArray());
        var known = new OcspIssuer(_w.Issuing);
        var (responder, signer) = _w.Responder();
        var responderKey = new X509CertificateParser().ReadCertificate(responder.Der.ToArray()).GetPublicKey();
        var asked = 0;
        for (var round = 0; round < 500; round++)
        {
            var serials = Enumerable.Range(0, 1 + _random.Next(10)).Select(_ => World.Serial()).ToList();
            var nonce = RandomNumberGenerator.GetBytes(1 + _random.Next(128));
            var generator = new OcspReqGenerator();
            foreach (var serial in serials)
                generator.AddRequest(
                    new CertificateID(
                        new AlgorithmIdentifier(new DerObjectIdentifier(round % 2 == 0 ? Oids.Sha1 : Oids.Sha256), DerNull.Instance),
                        issuer,
                        Big(serial)
                    )
                );
            var withNonce = round % 3 == 0;
            if (withNonce)
                generator.SetRequestExtensions(
                    new X509Extensions(
                        new Dictionary<DerObjectIdentifier, X509Extension>
                        {
                            [new(Oids.OcspNonce)] = new(false, new DerOctetString(new DerOctetString(nonce).GetEncoded())),
                        }
                    )
                );
            var request = OcspRequest.Read(generator.Generate().GetEncoded());
            Assert.Equal(serials, request.Questions.Select(q => q.Serial));
            Assert.All(request.Questions, q => Assert.True(q.IsOf(known)));
            Assert.Equal(withNonce ? nonce : null, request.Nonce?.ToArray());

            var answers = request
                .Questions.Select(q =>
                    (OcspStatus)_random.Next(3) is var status && status == OcspStatus.Revoked
                        ? new OcspAnswer(q, status, Any(World.Now) with { Serial = q.Serial }, World.Now, World.Now.AddHours(1))
                        : new(q, status, null, World.Now, round % 5 == 0 ? null : World.Now.AddHours(1))
                )
                .ToList();
            var der = OcspResponse.Write(
                answers,
                World.Now,
                request.Nonce is { } n ? n.Span : default,
                signer.PublicKey.KeyIdentifier(),
                responder.Der.Span,
                signer
            );

            var theirs = (BasicOcspResp)new OcspResp(der).GetResponseObject();
            Assert.True(theirs.Verify(responderKey));
            Assert.Equal(responder.Der.ToArray(), theirs.GetCerts()[0].GetEncoded());
            Assert.Equal(withNonce, theirs.GetExtensionValue(new DerObjectIdentifier(Oids.OcspNonce)) is not null);
            Assert.Equal(answers.Count, theirs.Responses.Length);
            foreach (var (ours, one) in answers.Zip(theirs.Responses))
            {
                asked++;
                Assert.Equal(Big(ours.Id.Serial), one.GetCertID().SerialNumber);
                Assert.Equal(
                    ours.Status,
                    one.GetCertStatus() switch
                    {
                        null => OcspStatus.Good,
                        RevokedStatus => OcspStatus.Revoked,
                        _ => OcspStatus.Unknown,
                    }
                );
                if (one.GetCertStatus() is RevokedStatus r)
                {
                    Assert.Equal(ours.Revocation!.At.UtcDateTime, r.RevocationTime);
                    Assert.Equal((int)ours.Revocation.Reason, r.HasRevocationReason ? r.RevocationReason : 0);
                }
                Assert.Equal(ours.NextUpdate?.UtcDateTime, one.NextUpdate);
            }

            var back = OcspResponse.Read(der);
            Assert.Equal(
                answers.Select(a => (a.Id.Serial, a.Status, a.Revocation, a.ThisUpdate, a.NextUpdate)),
                back.Answers.Select(a => (a.Id.Serial, a.Status, a.Revocation, a.ThisUpdate, a.NextUpdate))
            );
            Assert.Null(back.Objection(_w.Issuing, World.Now));
        }
        Assert.True(asked > 2000, $"{asked} questions only");
    }

    [Fact]
    public void An_answer_that_must_not_be_relied_on_says_why()
    {
        var (responder, signer) = _w.Responder();
        var id = OcspCertId.Of(_w.Issuing, World.Serial(), sha256: true);
        OcspResponse Answer(DateTimeOffset at, X509 with) =>
            OcspResponse.Read(
                OcspResponse.Write(
                    [new(id, OcspStatus.Good, null, at, at.AddHours(1))],
                    at,
                    default,
                    signer.PublicKey.KeyIdentifier(),
                    with.Der.Span,
                    signer
                )
            );
        Assert.Null(Answer(World.Now, responder).Objection(_w.Issuing, World.Now));
        Assert.Contains("another generation", Answer(World.Now, responder).Objection(new World().Issuing, World.Now));
        Assert.Contains("good until", Answer(World.Now, responder).Objection(_w.Issuing, World.Now.AddHours(2)));
        Assert.Contains("clock", Answer(World.Now.AddHours(1), responder).Objection(_w.Issuing, World.Now));
        Assert.Contains("Neither", Answer(World.Now, _w.Leaf("a.example")).Objection(_w.Issuing, World.Now));
        var plain = X509.Read(CertificateWriter.Issue(_w.Content(signer.PublicKey, ["a.example"]), _w.IssuingSigner));
        Assert.Contains("not for signing OCSP", Answer(World.Now, plain).Objection(_w.Issuing, World.Now));
        Assert.Equal(OcspRefusal.TryLater, OcspResponse.Read(OcspResponse.Refuse(OcspRefusal.TryLater)).Refusal);
    }

    [Fact]
    public void Odd_requests_are_refused_with_the_reason()
    {
        var id = OcspCertId.Of(_w.Issuing, World.Serial(), sha256: false);
        var cases = new (string Why, byte[] Der, string Says)[]
        {
            ("nothing", [], "not a request"),
            ("nobody is asked about", OcspRequest.Write([], default), "no certificate"),
            ("too many", OcspRequest.Write([.. Enumerable.Repeat(id, 65)], default), "over 64"),
            ("too large", new byte[OcspRequest.MostBytes + 1], "bytes"),
            ("a nonce of 129 octets", OcspRequest.Write([id], new byte[129]), "1 to 128"),
            ("trailing data", [.. OcspRequest.Write([id], default), 0], "not a request"),
        };
        foreach (var (why, der, says) in cases)
        {
            var p = Assert.Throws<BeaconProblem>(() => OcspRequest.Read(der));
            Assert.True(p.Code == ProblemCode.OcspMalformed && p.Message.Contains(says), $"{why}: {p.Message}");
        }
        Assert.Equal(64, OcspRequest.Read(OcspRequest.Write([.. Enumerable.Repeat(id, 64)], new byte[128])).Questions.Count);
    }

    [Fact]
    public void Openssl_accepts_an_answer_and_asks_one()
    {
        using var s = new Scratch();
        var leaf = _w.Leaf("a.example");
        var issuer = s.File("issuer.pem", Armor.Write(Armor.Certificate, _w.Issuing.Der.Span));
        var (responder, signer) = _w.Responder(DateTimeOffset.UtcNow);
        Programs.OpenSsl(
            $"ocsp -issuer {issuer} -cert {s.File("leaf.pem", Armor.Write(Armor.Certificate, leaf.Der.Span))} -reqout {s["req.der"]}"
        );
        var request = OcspRequest.Read(File.ReadAllBytes(s["req.der"]));
        var now = DateTimeOffset.UtcNow;
        var revoked = new RevokedCertificate(leaf.Serial, now.AddMinutes(-5), RevocationReason.KeyCompromise);
        var der = OcspResponse.Write(
            [new(request.Questions[0], OcspStatus.Revoked, revoked, now, now.AddHours(1))],
            now,
            request.Nonce!.Value.Span,
            signer.PublicKey.KeyIdentifier(),
            responder.Der.Span,
            signer
        );
        var text = Programs.OpenSsl(
            $"ocsp -issuer {issuer} -cert {s["leaf.pem"]} -no_nonce -respin {s.File("resp.der", der)} -CAfile {s.File("trust.pem", Armor.Write(Armor.Certificate, _w.Root.Der.Span) + Armor.Write(Armor.Certificate, _w.Issuing.Der.Span))} -partial_chain"
        );
        Assert.Contains("revoked", text);
        Assert.Contains("keyCompromise", text);
    }
}
