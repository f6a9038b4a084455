using System.Text;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Core.Tests;

public sealed class RequestTests
{
    private static byte[] OpenSslCsr(string key, string subject, string? san, string more = "")
    {
        using var s = new Scratch();
        var args = $"req -new -newkey {key} -nodes -keyout {s["k"]} -out {s["c"]} -utf8 {more}"
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Concat(["-subj", subject]);
        var (code, _, error) = Programs.Run("openssl", san is null ? args : args.Concat(["-addext", "subjectAltName=" + san]));
        Assert.True(code == 0, error);
        return File.ReadAllBytes(s["c"]);
    }

    private const string Ec = "ec -pkeyopt ec_paramgen_curve:P-256";

    [Fact]
    public void A_request_of_another_program_is_read()
    {
        var r = CertificationRequest.Read(
            OpenSslCsr(Ec, "/O=Thistledown Rail/CN=a.example", "DNS:a.example,DNS:*.b.example,IP:10.0.0.1,IP:2001:db8::1")
        );
        Assert.Equal(["a.example", "*.b.example", "ip:10.0.0.1", "ip:2001:db8::1"], r.Names.Select(n => n.ToString()));
        Assert.Equal("CN=a.example,O=Thistledown Rail", r.Subject.ToString());
        Assert.Equal(KeySpec.P256, r.PublicKey.Spec);
        Assert.Empty(r.Findings);
    }

    [Theory]
    [InlineData("rsa:2048", "rsa-2048")]
    [InlineData("rsa:3072", "rsa-3072")]
    [InlineData("ec -pkeyopt ec_paramgen_curve:P-384", "ec-p384")]
    [InlineData("ec -pkeyopt ec_paramgen_curve:P-521", "ec-p521")]
    public void Kinds_of_keys_are_told(string key, string spec) =>
        Assert.Equal(spec, CertificationRequest.Read(OpenSslCsr(key, "/CN=a.example", "DNS:a.example")).PublicKey.Spec.ToString());

    [Fact]
    public void Our_own_request_pleases_openssl()
    {
        var csr = World.Csr(KeySpec.P256, "CN=a.example,O=\"Rail, Thistledown\"", "a.example", "10.0.0.1");
        var text = Programs.OpenSsl("req -noout -text -verify", Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, csr)));
        Assert.Contains("DNS:a.example, IP Address:10.0.0.1", text);
        Assert.Contains("Rail, Thistledown", text);
    }

    // name, key, subject, alternative names, expected finding
    [Theory]
    [InlineData("rsa:1024", "/CN=a.example", "DNS:a.example", "", FindingCode.WeakKey)]
    [InlineData(Ec, "/CN=a.example", "DNS:a.example", "-sha1", FindingCode.WeakHash)]
    [InlineData("ec -pkeyopt ec_paramgen_curve:secp256k1", "/CN=a.example", "DNS:a.example", "", FindingCode.UnknownKey)]
    [InlineData("ed25519", "/CN=a.example", "DNS:a.example", "", FindingCode.UnknownKey)]
    [InlineData(Ec, "/CN=a.example", null, "", FindingCode.NoAlternativeName)]
    [InlineData(Ec, "/CN=other.example", "DNS:a.example", "", FindingCode.CommonNameNotAmongNames)]
    [InlineData(Ec, "/CN=a.example", "DNS:a.example,DNS:A.example", "", FindingCode.DuplicateName)]
    [InlineData(Ec, "/CN=a.example", "DNS:foo_bar.example", "", FindingCode.MalformedName)]
    [InlineData(Ec, "/CN=a.example", "DNS:*.*.example", "", FindingCode.MalformedName)]
    [InlineData(Ec, "/CN=a.example", "DNS:two words", "", FindingCode.MalformedName)]
    [InlineData(Ec, "/CN=a.example", "email:a@b.example", "", FindingCode.UnsupportedName)]
    [InlineData(Ec, "/CN=a.example", "DNS:a.example", "-addext basicConstraints=CA:TRUE", FindingCode.AsksToBeAuthority)]
    [InlineData(Ec, "/CN=a.example", "DNS:a.example", "-addext 1.2.3.4=ASN1:NULL", FindingCode.UnknownExtension)]
    [InlineData(Ec, "/CN=a.example/O=liaR \u202Enwodeltsiht", "DNS:a.example", "-utf8", FindingCode.ControlCharacter)]
    public void What_is_odd_is_found(string key, string subject, string? san, string more, FindingCode expected)
    {
        var r = CertificationRequest.Read(OpenSslCsr(key, subject, san, more));
        var finding = Assert.Single(r.Findings, f => f.Code == expected);
        Assert.NotEmpty(finding.Cure);
        if (finding.Weight == FindingWeight.Fatal)
            Assert.Throws<BeaconProblem>(r.ThrowIfUnusable);
        else
            r.ThrowIfUnusable();
    }

    [Fact]
    public void An_altered_request_does_not_prove_possession()
    {
        var csr = World.Csr(KeySpec.P256, "CN=a.example", "a.example");
        var at = csr.AsSpan().IndexOf("a.example"u8);
        csr[at] = (byte)'b';
        var r = CertificationRequest.Read(csr);
        Assert.Contains(r.Findings, f => f.Code == FindingCode.BadProofOfPossession);
        Assert.Equal(ProblemCode.RequestSignatureBad, Assert.Throws<BeaconProblem>(r.ThrowIfUnusable).Code);
    }

    [Fact]
    public void Pasted_noise_is_taken_and_told()
    {
        var pem = Armor.Write(Armor.CertificateRequest, World.Csr(KeySpec.P256, "CN=a.example", "a.example"));
        var noisy = "Dear all,\r\nhere it is:\r\n" + string.Join("\r\n", pem.Split('\n').Select(l => "  " + l + " ")) + "\r\nRegards";
        var r = CertificationRequest.Read(Encoding.UTF8.GetBytes(noisy)).ThrowIfUnusable();
        Assert.Equal("a.example", r.Names.Single().Value);
        Assert.Equal(4, r.Findings.Count(f => f.Code == FindingCode.TextualNoise));
    }

    [Fact]
    public void Bare_base64_is_taken() =>
        Assert.Equal(
            "a.example",
            CertificationRequest
                .Read(
                    Encoding.ASCII.GetBytes(
                        Convert.ToBase64String(
                            World.Csr(KeySpec.P256, "CN=a.example", "a.example"),
                            Base64FormattingOptions.InsertLineBreaks
                        )
                    )
                )
                .ThrowIfUnusable()
                .Names.Single()
                .Value
        );

    [Fact]
    public void Trailing_bytes_are_fatal()
    {
        var r = CertificationRequest.Read([.. World.Csr(KeySpec.P256, "CN=a.example", "a.example"), 1, 2, 3]);
        Assert.Contains("3 more bytes", Assert.Throws<BeaconProblem>(r.ThrowIfUnusable).Message);
    }

    [Fact]
    public void Truncated_requests_are_told_at_every_length()
    {
        var csr = World.Csr(KeySpec.P256, "CN=a.example", "a.example");
        for (var n = 0; n < csr.Length; n++)
            Assert.Throws<BeaconProblem>(() => CertificationRequest.Read(csr.AsSpan(0, n)));
        var pem = Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, csr));
        Assert.Contains("END", Assert.Throws<BeaconProblem>(() => CertificationRequest.Read(pem.AsSpan(0, pem.Length - 30))).Message);
    }

    [Fact]
    public void Oversized_requests_are_refused_unread() =>
        Assert.Equal(
            ProblemCode.TooLarge,
            Assert.Throws<BeaconProblem>(() => CertificationRequest.Read(new byte[CertificationRequest.MaxBytes + 1])).Code
        );

    [Fact]
    public void Non_ascii_text_is_told() =>
        Assert.Throws<BeaconProblem>(() =>
            CertificationRequest.Read("-----BEGIN CERTIFICATE REQUEST-----\nAä==\n-----END CERTIFICATE REQUEST-----\n"u8)
        );

    [Fact]
    public void A_certificate_in_place_of_a_request_is_named()
    {
        var pem = Armor.Write(Armor.Certificate, new World().Root.Der.Span);
        Assert.Contains(
            "certificate, not a certification request",
            Assert.Throws<BeaconProblem>(() => CertificationRequest.Read(Encoding.ASCII.GetBytes(pem))).Message
        );
    }

    [Fact]
    public void Very_many_names_are_refused()
    {
        var csr = World.Csr(KeySpec.P256, "CN=n0.example", [.. Enumerable.Range(0, 251).Select(i => $"n{i}.example")]);
        Assert.Contains(CertificationRequest.Read(csr).Findings, f => f.Code == FindingCode.TooManyNames);
    }
}
