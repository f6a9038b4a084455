using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

public sealed class FormatTests
{
    private readonly World _w = new();

    [Fact]
    public void Every_form_is_recognised_in_text_and_binary()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var crl = _w.Crl(7, []).ToArray();
        var cases = new (FileItemKind, byte[])[]
        {
            (FileItemKind.Certificate, _w.Root.Der.ToArray()),
            (FileItemKind.CertificateRequest, World.Csr(KeySpec.P256, "CN=a.example", "a.example")),
            (FileItemKind.Crl, crl),
            (FileItemKind.Pkcs7, Pkcs7.WriteCertificates([_w.Root.Der])),
            (FileItemKind.Pkcs12, Pkcs12.Write([_w.Root.Der], null, "secret words", new byte[16])),
            (FileItemKind.PrivateKey, key.ExportPkcs8PrivateKey()),
            (FileItemKind.PrivateKey, key.ExportECPrivateKey()),
            (FileItemKind.PublicKey, key.ExportSubjectPublicKeyInfo()),
            (
                FileItemKind.EncryptedPrivateKey,
                key.ExportEncryptedPkcs8PrivateKey("x", new PbeParameters(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 10))
            ),
        };
        foreach (var (kind, der) in cases)
        {
            Assert.Equal(kind, FileInspection.Inspect(der)[0].Kind);
            Assert.Equal(kind, FileInspection.Inspect(Encoding.ASCII.GetBytes(Convert.ToBase64String(der)))[0].Kind);
        }
        var mixed = FileInspection.Inspect(
            Encoding.ASCII.GetBytes(
                key.ExportPkcs8PrivateKeyPem()
                    + "\n"
                    + Armor.Write(Armor.Certificate, _w.Leaf("a.example").Der.Span)
                    + Armor.Write(Armor.Certificate, _w.Issuing.Der.Span)
            )
        );
        Assert.Equal([FileItemKind.PrivateKey, FileItemKind.Certificate, FileItemKind.Certificate], mixed.Select(i => i.Kind));
        Assert.True(mixed[0].Der.IsEmpty);
        Assert.Contains("Authority certificate", mixed[2].Summary);
    }

    [Theory]
    [InlineData("")]
    [InlineData("hello")]
    [InlineData("<html>no</html>")]
    public void What_is_nothing_is_told(string text) =>
        Assert.NotEmpty(Assert.Throws<BeaconProblem>(() => FileInspection.Inspect(Encoding.UTF8.GetBytes(text))).Cure);

    /// <summary>Bounded fuzzing: mutated samples may be refused with a problem of ours, and with nothing else.</summary>
    [Fact]
    public void Mutated_input_never_gets_past_as_anything_but_a_problem()
    {
        var samples = new List<byte[]>
        {
            World.Csr(KeySpec.P256, "CN=a.example,O=Rail", "a.example", "10.0.0.1"),
            _w.Leaf("a.example", "b.example").Der.ToArray(),
            _w.Root.Der.ToArray(),
            Pkcs7.WriteCertificates([_w.Root.Der]),
            _w.Crl(7, [new(World.Serial(), World.Now, RevocationReason.KeyCompromise)]).ToArray(),
            Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, World.Csr(KeySpec.P256, "CN=a.example", "a.example"))),
            Pkcs12.Write([_w.Root.Der], null, "x", new byte[16]),
            OcspRequest.Write(
                [OcspCertId.Of(_w.Issuing, World.Serial(), true), OcspCertId.Of(_w.Issuing, World.Serial(), false)],
                new byte[32]
            ),
            OcspResponse.Write(
                [new(OcspCertId.Of(_w.Issuing, World.Serial(), true), OcspStatus.Good, null, World.Now, World.Now)],
                World.Now,
                new byte[32],
                new byte[20],
                _w.Issuing.Der.Span,
                _w.IssuingSigner
            ),
        };
        var seed = Environment.GetEnvironmentVariable("BEACON_FUZZ_SEED") is { } s ? int.Parse(s) : Environment.TickCount;
        var random = new Random(seed);
        var clock = Stopwatch.StartNew();
        var runs = 0;
        while (clock.Elapsed < TimeSpan.FromSeconds(12))
        {
            var bytes = Mutate(samples[random.Next(samples.Count)], random);
            foreach (
                var read in new Action<byte[]>[]
                {
                    b => CertificationRequest.Read(b),
                    b => FileInspection.Inspect(b),
                    b => X509.Read(b),
                    b => Crl.Read(b),
                    b => OcspRequest.Read(b),
                    b => OcspResponse.Read(b),
                }
            )
                try
                {
                    read(bytes);
                }
                catch (BeaconProblem) { }
                catch (Exception e)
                {
                    Assert.Fail($"seed {seed}, run {runs}: {e}\n{Convert.ToHexString(bytes)}");
                }
            runs++;
        }
        TestContext.Current.SendDiagnosticMessage("{0} mutated inputs", runs);
        Assert.True(runs > 500, $"only {runs} runs");
    }

    private static byte[] Mutate(byte[] sample, Random random)
    {
        var b = sample.ToList();
        for (var n = random.Next(1, 5); n > 0 && b.Count > 1; n--)
            switch (random.Next(6))
            {
                case 0:
                    b[random.Next(b.Count)] = (byte)random.Next(256);
                    break;
                case 1:
                    b[random.Next(b.Count)] ^= (byte)(1 << random.Next(8));
                    break;
                case 2:
                    b.RemoveAt(random.Next(b.Count));
                    break;
                case 3:
                    b.Insert(random.Next(b.Count), (byte)random.Next(256));
                    break;
                case 4:
                    b = b[..random.Next(1, b.Count)];
                    break;
                default:
                    var from = random.Next(b.Count);
                    b.InsertRange(random.Next(b.Count), b.GetRange(from, Math.Min(random.Next(1, 20), b.Count - from)));
                    break;
            }
        return [.. b];
    }
}
