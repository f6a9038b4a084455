using System.Security.Cryptography;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Tests;

/// <summary>TLSA records, the order of a key's change under them, and the messages that bring them into a zone.</summary>
public sealed class DaneTests
{
    private const string Secret = "nehRlwShpOBfICTCB+dUn6oJKcwiYvm0ueFaZA8E+0U=",
        Message =
            "126728000001000000010001066272616E6368076578616D706C650000060001035F3235045F746370046D61696C066272616E6368076578616D706C6500003400010000003C0023030101AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA0E626561636F6E2D7265636F7264730000FA00FF00000000003D0B686D61632D7368613235360000006B0A4FD0012C002051A0F6CD207CB9BB6DE5AB662D8B95DAB798ACC23F874600E1B8F543F84E5133126700000000",
        Answer =
            "1267A8000001000000000001066272616E6368076578616D706C6500000600010E626561636F6E2D7265636F7264730000FA00FF00000000003D0B686D61632D7368613235360000006B0A4FD0012C0020D965B31FB30069866EC1098A645ABA355E299C8FF8EE234B7566DDDDE6AB244B126700000000";

    /// <summary>What a knot of 3.2 took and answered, once.</summary>
    private static (DnsUpdate.Signed Signed, UpdateKey Key) Asked()
    {
        var key = new UpdateKey("beacon-records", Convert.FromBase64String(Secret));
        RecordChange[] changes = [new("_25._tcp.mail.branch.example", TlsaRecord.OfKey(3, new string('a', 64)), 60, true)];
        return (DnsUpdate.Write(4711, "branch.example", changes, key, DateTimeOffset.FromUnixTimeSeconds(1795837904)), key);
    }

    /// <summary>For the fuzzing: an answer to a known message.</summary>
    internal static void ReadAnswer(byte[] answer)
    {
        var (signed, key) = Asked();
        DnsUpdate.ReadAnswer(answer, signed, key);
    }

    internal static byte[] RealAnswer => Convert.FromHexString(Answer);

    [Fact]
    public void A_message_and_its_answer_are_what_a_real_server_takes_and_sends()
    {
        Assert.Equal(Message, Convert.ToHexString(Asked().Signed.Message));
        ReadAnswer(RealAnswer);
    }

    [Fact]
    public void No_other_answer_is_believed()
    {
        var real = RealAnswer;
        for (var at = 0; at < real.Length; at++)
        {
            var altered = (byte[])real.Clone();
            altered[at] ^= 0x40;

            if (altered.AsSpan().SequenceEqual(real))
                continue;
            var p = Assert.Throws<BeaconProblem>(() => ReadAnswer(altered));
            Assert.Equal(ProblemCode.ZoneRefused, p.Code);
        }
        for (var length = 0; length < real.Length; length++)
            Assert.Throws<BeaconProblem>(() => ReadAnswer(real[..length]));
    }

    [Fact]
    public void A_refusal_says_what_to_do()
    {
        var refused = RealAnswer[..12];
        refused[3] = 5;
        var p = Assert.Throws<BeaconProblem>(() => ReadAnswer(refused));
        Assert.Contains("REFUSED", p.Message);
        Assert.Contains("TLSA", p.Cure);
    }

    private static X509 Leaf(World w, string name) => w.Leaf(name);

    [Fact]
    public void Records_mean_what_openssl_says()
    {
        using var s = new Scratch();
        var w = new World();
        var leaf = Leaf(w, "mail.thistledown.example");
        var path = s.File("leaf.der", leaf.Der.ToArray());
        var spki = s.File(
            "key.der",
            Convert.FromBase64String(
                string.Concat(Programs.OpenSsl($"x509 -inform DER -in {path} -noout -pubkey").Split('\n').Where(l => !l.StartsWith('-')))
            )
        );
        foreach (var (selector, file) in new[] { (0, path), (1, spki) })
        foreach (var (matching, digest) in new[] { (1, "sha256"), (2, "sha512") })
        {
            var data = Programs.OpenSsl($"dgst -{digest} -r {file}").Split(' ')[0];
            Assert.True(TlsaRecord.Parse($"3 {selector} {matching} {data.ToUpperInvariant()}").Matches(leaf));
            Assert.False(TlsaRecord.Parse($"3 {selector} {matching} {data}").Matches(w.Issuing));
            Assert.False(TlsaRecord.Parse($"3 {1 - selector} {matching} {data}").Matches(leaf));
        }
        Assert.True(TlsaRecord.Parse($"2 0 0 {Convert.ToHexString(w.Issuing.Der.Span)}").Matches(w.Issuing));
        Assert.True(TlsaRecord.OfKey(3, leaf.PublicKey.Fingerprint()).Matches(leaf));
        Assert.False(TlsaRecord.Parse("3 7 1 aa").Matches(leaf));
        Assert.False(TlsaRecord.Parse("3 1 9 aa").Matches(leaf));
    }

    [Theory]
    [InlineData("")]
    [InlineData("3 1 1")]
    [InlineData("3 1 1 8f4")]
    [InlineData("3 1 1 zz")]
    [InlineData("300 1 1 aa")]
    [InlineData("-1 1 1 aa")]
    public void What_is_no_record_is_refused(string text) =>
        Assert.Equal(ProblemCode.InputInvalid, Assert.Throws<BeaconProblem>(() => TlsaRecord.Parse(text)).Code);

    private static TlsaSet Set(params TlsaRecord[] records) => new("_25._tcp.mail.thistledown.example", 60, records);

    private static TlsaRecord Of(X509 x, int usage = 3) => TlsaRecord.OfKey(usage, x.PublicKey.Fingerprint());

    [Fact]
    public void The_plan_adds_first_and_removes_what_is_past_alone()
    {
        var w = new World();
        var (now, past, next) = (Leaf(w, "a.example"), Leaf(w, "a.example"), Leaf(w, "a.example"));
        var unknown = TlsaRecord.OfKey(3, new string('b', 64));
        var dropped = new string('d', 64);
        var plan = new TlsaPlan(next.PublicKey.Fingerprint(), [now], [past], [dropped], [w.Issuing, w.Root]);

        var first = plan.For(Set(Of(now), Of(past), unknown, TlsaRecord.OfKey(3, dropped)));
        Assert.Equal(Of(next), first.Add);
        Assert.Equal([Of(past), TlsaRecord.OfKey(3, dropped)], first.Remove);
        Assert.Equal([unknown], first.Foreign);
        // Once it is there it is not added again, and it is never removed.
        Assert.Null(plan.For(Set(Of(now), Of(next))).Add);
        Assert.Empty(plan.For(Set(Of(now), Of(next))).Remove);
        // As the record before, so the next: who asks for a public authority besides goes on asking.
        Assert.Equal(1, plan.For(Set(Of(now, usage: 1))).Add!.Usage);
        // Nothing is begun where nothing is.
        Assert.Null(plan.For(Set()).Add);
        // An authority above it is named: the next edition is accepted as it is.
        Assert.Null(plan.For(Set(Of(w.Issuing, usage: 2))).Add);
        Assert.Empty(plan.For(Set(Of(w.Issuing, usage: 2))).Foreign);
        Assert.NotNull(plan.For(Set(Of(new World().Issuing, usage: 2))).Add);
        // An authority's record never speaks for a server's own certificate, nor the other way round.
        Assert.False(TlsaPlan.IsCovered(Set(Of(w.Issuing, usage: 3)), [w.Issuing]));
    }
}
