using System.Security.Cryptography;
using OrderlyBeacon.Core.Handshakes;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

/// <summary>The answer that a server staples: found in what it sends, and judged as clients do. A real server's is read in the agent's tests.</summary>
public sealed class StapleTests
{
    private readonly World _w = new();
    private readonly X509 _leaf;

    public StapleTests() => _leaf = _w.Leaf("a.example");

    private byte[] Answer(OcspStatus status, OcspCertId? about = null, DateTimeOffset? at = null)
    {
        var (responder, signer) = _w.Responder();
        var from = at ?? World.Now.AddHours(-1);
        var revoked = status == OcspStatus.Revoked ? new RevokedCertificate(_leaf.Serial, from, RevocationReason.KeyCompromise) : null;
        return OcspResponse.Write(
            [new(about ?? OcspCertId.Of(_w.Issuing, _leaf.Serial, sha256: false), status, revoked, from, from.AddDays(2))],
            from,
            default,
            signer.PublicKey.KeyIdentifier(),
            responder.Der.Span,
            signer
        );
    }

    private StapleVerdict Judge(byte[] staple, X509? issuer = null) => StapleJudge.Judge(_leaf, issuer ?? _w.Issuing, staple, World.Now);

    [Fact]
    public void What_clients_rely_on_has_no_problem()
    {
        var v = Judge(Answer(OcspStatus.Good));
        Assert.Null(v.Problem);
        Assert.Equal("good, until 2026-11-27 11:00 UTC", v.Words);
        Assert.Null(Judge(Answer(OcspStatus.Good, OcspCertId.Of(_w.Issuing, _leaf.Serial, sha256: true))).Problem);
        Assert.Equal(new(null, null), Judge([]));
    }

    [Fact]
    public void What_they_refuse_is_said_with_its_cure()
    {
        var other = OcspCertId.Of(_w.Issuing, World.Serial(), sha256: false);
        (LookFault, string, byte[])[] cases =
        [
            (LookFault.Revoked, "was revoked on 2026-11-25", Answer(OcspStatus.Revoked)),
            (LookFault.StapleUnusable, "does not know", Answer(OcspStatus.Unknown)),
            (LookFault.StapleUnusable, "another certificate", Answer(OcspStatus.Good, other)),
            (LookFault.StapleUnusable, "until", Answer(OcspStatus.Good, at: World.Now.AddDays(-5))),
            (LookFault.StapleUnusable, "still to come", Answer(OcspStatus.Good, at: World.Now.AddDays(1))),
            (LookFault.StapleUnusable, "cannot be read", [1, 2, 3]),
            (LookFault.StapleUnusable, "no answer", OcspResponse.Refuse(OcspRefusal.TryLater)),
        ];
        foreach (var (fault, word, staple) in cases)
        {
            var p = Judge(staple).Problem!;
            Assert.Equal(fault, p.Fault);
            Assert.Contains(word, p.Reason);
            Assert.NotEmpty(p.Cure);
        }
        var foreign = Judge(Answer(OcspStatus.Good), new World().Issuing).Problem!;
        Assert.Contains("not from this issuer's key", foreign.Reason);
    }

    [Fact]
    public void A_certificate_that_demands_one_is_refused_without()
    {
        using var s = new Scratch();
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s["k"]} -outform der -out {s["c"]} -days 30 -subj /CN=a.example -addext tlsfeature=status_request"
        );
        var leaf = X509.Read(File.ReadAllBytes(s["c"]));
        Assert.Equal(LookFault.StapleMissing, StapleJudge.Judge(leaf, null, default, World.Now).Problem!.Fault);
        Assert.Null(StapleJudge.Judge(leaf, null, new byte[] { 1 }, World.Now).Problem);
    }

    private static byte[] Message(byte kind, params byte[] body) => [kind, 0, (byte)(body.Length >> 8), (byte)body.Length, .. body];

    [Fact]
    public void It_is_found_however_the_records_are_cut()
    {
        byte[] answer = RandomNumberGenerator.GetBytes(700);
        byte[] flight =
        [
            .. Message(2, [3, 3, .. new byte[32], 0, 0xC0, 0x2B, 0, 0, 0]),
            .. Message(11, new byte[900]),
            .. Message(22, [1, 0, (byte)(answer.Length >> 8), (byte)(answer.Length & 0xFF), .. answer]),
            .. Message(12, new byte[100]),
            .. Message(14),
        ];
        foreach (var size in new[] { 1, 7, 300, flight.Length })
        {
            var read = new ServerFlight();
            foreach (var part in flight.Chunk(size))
                read.Add(22, part);
            Assert.True(read.IsWhole);
            Assert.Equal(answer, read.Staple!.Value.ToArray());
        }
        // An alert in between, another version, and an end before the begin are no flight.
        Assert.False(Whole(22, [2, 0, 0, 2, 3, 1]));
        Assert.False(Whole(22, Message(14)));
        Assert.False(Whole(21, [2, 40]));
    }

    private static bool Whole(byte type, byte[] content)
    {
        var read = new ServerFlight();
        read.Add(type, content);
        Assert.False(read.IsGoingOn);
        return read.IsWhole;
    }

    [Fact]
    public void A_chain_out_of_its_order_is_said_and_accepted()
    {
        var v = LookJudge.Judge("a.example", [_leaf, _w.Root, _w.Issuing], [_w.Root], [], World.Now);
        Assert.True(v.Accepted);
        Assert.Equal(LookFault.OutOfOrder, Assert.Single(v.Problems).Fault);
        Assert.Empty(LookJudge.Judge("a.example", [_leaf, _w.Issuing, _w.Root], [_w.Root], [], World.Now).Problems);
    }
}
