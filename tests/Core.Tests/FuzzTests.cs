using System.Diagnostics;
using System.Formats.Asn1;
using System.Reflection;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Handshakes;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

/// <summary>
/// Every public reader of Core on altered bytes, for a bounded time: it fails on any exception but the documented one, on over a second, and on over 100 MB for under 64 KiB.
/// What answers in a way that was not seen before is altered further; with BEACON_CORPUS=grow it is kept in the corpus folder, from which each run begins.
/// </summary>
public sealed partial class FuzzTests
{
    private const int MostInput = 64 << 10;
    private const long MostBytes = 100L << 20;
    private static readonly TimeSpan MostTime = TimeSpan.FromSeconds(1);

    /// <summary>For all readers together; BEACON_FUZZSECONDS gives more.</summary>
    private static readonly TimeSpan Budget = TimeSpan.FromSeconds(
        int.TryParse(Environment.GetEnvironmentVariable("BEACON_FUZZSECONDS"), out var given) ? given : 20
    );

    private static readonly string Corpus = Path.Combine(Programs.Root, "tests", "Core.Tests", "corpus");
    private static readonly ECDiffieHellman Recovery = ECDiffieHellman.Create(ECCurve.NamedCurves.nistP256);

    /// <summary>By type and method. What is read is used too, as the callers do: some faults come only then.</summary>
    private static readonly Dictionary<string, Action<byte[]>> Readers = new()
    {
        ["X509.Read"] = b => Use(X509.Read(b)),
        ["CertificationRequest.Read"] = b => Use(CertificationRequest.Read(b)),
        ["Crl.Read"] = b => Use(Crl.Read(b)),
        ["OcspRequest.Read"] = b => _ = OcspRequest.Read(b).ToString(),
        ["OcspResponse.Read"] = b => _ = OcspResponse.Read(b).ToString(),
        ["Pkcs7.ReadCertificates"] = b => _ = Pkcs7.ReadCertificates(b).Count,
        ["Armor.Read"] = b => _ = Armor.Read(b).Blocks.Count,
        ["FileInspection.Inspect"] = b => _ = FileInspection.Inspect(b).Select(i => i.ToString()).ToList(),
        ["AuthEnveloped.Open"] = b => _ = AuthEnveloped.Open(b, Recovery).Length,
        ["DistinguishedName.Read"] = b => _ = DistinguishedName.Read(b).ToString(),
        ["PublicKeyInfo.Read"] = b => _ = PublicKeyInfo.Read(b).Fingerprint(),
        ["NameConstraints.Read"] = b => _ = NameConstraints.Read(b).ToString(),
        ["Extensions.ReadAll"] = b => _ = $"{Extensions.ReadAll(b)}",
        ["Extensions.ReadAlternativeNames"] = b => _ = $"{Extensions.ReadAlternativeNames(b)}",
        ["Extensions.ReadKeyUsage"] = b => _ = $"{Extensions.ReadKeyUsage(b)}",
        ["Extensions.ReadExtendedKeyUsage"] = b => _ = $"{Extensions.ReadExtendedKeyUsage(b)}",
        ["Extensions.ReadTlsFeatures"] = b => _ = Extensions.ReadTlsFeatures(b).Count,
        ["ServerFlight.Add"] = b =>
        {
            var flight = new ServerFlight();
            flight.Add(22, b);
            _ = flight.Staple?.Length;
        },
        ["Extensions.ReadBasicConstraints"] = b => _ = $"{Extensions.ReadBasicConstraints(b)}",
        ["Extensions.ReadAuthorityKeyIdentifier"] = b => _ = $"{Extensions.ReadAuthorityKeyIdentifier(b)}",
        ["Extensions.ReadCrlDistributionPoints"] = b => _ = $"{Extensions.ReadCrlDistributionPoints(b)}",
        ["Extensions.ReadIssuingDistributionPoint"] = b => _ = $"{Extensions.ReadIssuingDistributionPoint(b, out _)}",
        ["Extensions.ReadAuthorityInfoAccess"] = b => _ = $"{Extensions.ReadAuthorityInfoAccess(b)}",
        ["AlternativeName.Parse"] = Text(t => AlternativeName.Parse(t).ToString()),
        ["AlternativeName.TryParse"] = Text(t => AlternativeName.TryParse(t, out _, out _).ToString()),
        ["DistinguishedName.Parse"] = Text(t => DistinguishedName.Parse(t).ToString()),
        ["DnsUpdate.ReadAnswer"] = DaneTests.ReadAnswer,
        ["TlsaRecord.Parse"] = Text(t => TlsaRecord.Parse(t).ToString()),
        ["DnsName.Parse"] = Text(t => DnsName.Parse(t).ToString()),
        ["DnsName.TryParse"] = Text(t => DnsName.TryParse(t, out _, out _).ToString()),
        ["KeySpec.Parse"] = Text(t => KeySpec.Parse(t).ToString()),
        ["Network.Parse"] = Text(t => Network.Parse(t).ToString()),
        ["SerialNumber.TryParse"] = Text(t => SerialNumber.TryParse(t, out var n) ? n.ToString() + n.Short : ""),
        ["Subtree.Parse"] = Text(t => Subtree.Parse(t).ToString()!),
    };

    private static Action<byte[]> Text(Func<string, string> read) => b => read(Encoding.UTF8.GetString(b));

    private static void Use(X509 x)
    {
        _ = (x.Subject.ToString(), x.Issuer.ToString(), x.Serial.ToString(), x.IsSelfSigned);
        _ = PathJudge.Judge(new(x, [x], [], [x], World.Now)).Steps.Count;
        _ = x.Names.Select(n => HostNameMatch.Of("www.good.thistledown.example", x.Names, x.Subject.CommonName)).ToList();
        if (x.Constraints is { } bounds)
            _ = bounds.FirstAgainst(x.Names);
    }

    private static void Use(CertificationRequest r) =>
        _ = (r.Subject.ToString(), r.Findings.Count, r.Names.Count, r.PublicKey.Fingerprint());

    private static void Use(Crl c) => _ = $"{c.Objection} {c.Number} {c.Find(new SerialNumber("FF"))}";

    [Fact]
    public void Every_public_reader_is_among_them()
    {
        var there = typeof(X509)
            .Assembly.GetExportedTypes()
            .SelectMany(t => t.GetMethods(BindingFlags.Public | BindingFlags.Static | BindingFlags.DeclaredOnly))
            .Where(m => NameOfReader().IsMatch(m.Name) && m.GetParameters() is [{ ParameterType: var p }, ..] && IsInput(p))
            .Select(m => $"{m.DeclaringType!.Name}.{m.Name}")
            // What is fed part by part has no such method.
            .Append("ServerFlight.Add")
            .ToHashSet();
        Assert.Equal(there.Order(), Readers.Keys.Order());

        static bool IsInput(Type t) =>
            t == typeof(string) || t == typeof(byte[]) || t == typeof(ReadOnlyMemory<byte>) || t == typeof(ReadOnlySpan<byte>);
    }

    [GeneratedRegex("^(Try)?(Read|Parse|Inspect|Open|Decode)")]
    private static partial Regex NameOfReader();

    [Fact]
    public void Altered_input_ends_in_an_answer_or_the_documented_exception()
    {
        var seeds = Seeds();
        var random = new Random(Environment.TickCount);
        var isGrowing = Environment.GetEnvironmentVariable("BEACON_CORPUS") == "grow";
        var failures = new List<string>();
        var tried = 0;
        foreach (var (name, read) in Readers)
        {
            var known = KnownFor(name).ToList();
            List<byte[]> pool = [.. seeds, .. known];
            var outcomes = new HashSet<string>();
            foreach (var input in known)
                outcomes.Add(Try(name, read, input, failures));
            var until = Stopwatch.StartNew();
            while (until.Elapsed < Budget / Readers.Count && failures.Count == 0)
            {
                var input = Alter(pool[random.Next(pool.Count)], pool[random.Next(pool.Count)], random);
                tried++;
                var outcome = Try(name, read, input, failures);
                if (!outcomes.Add(outcome) || outcomes.Count > 400)
                    continue;
                pool.Add(input);
                if (isGrowing && known.Count < 12 && input.Length < 2048)
                {
                    known.Add(input);
                    Keep(name, input);
                }
            }
        }
        Assert.True(failures.Count == 0, string.Join("\n", failures));
        Assert.True(tried > 10_000, $"only {tried} inputs were tried");
    }

    /// <returns>How it ended, without what differs from input to input.</returns>
    private static string Try(string name, Action<byte[]> read, byte[] input, List<string> failures)
    {
        for (var attempt = 1; ; attempt++)
        {
            var before = GC.GetAllocatedBytesForCurrentThread();
            var watch = Stopwatch.StartNew();
            var (outcome, unexpected) = Run(read, input, IsAsn(name));
            var (time, bytes) = (watch.Elapsed, GC.GetAllocatedBytesForCurrentThread() - before);
            var isTooMuch = input.Length < MostInput && bytes > MostBytes;
            if (unexpected is null && !isTooMuch && time <= MostTime)
                return outcome;
            // The machine may be busy with something else: three times is no chance.
            if (unexpected is null && !isTooMuch && attempt < 3)
                continue;
            Keep(name, input);
            failures.Add(
                $"{name}: {unexpected ?? $"{time.TotalSeconds:0.0} s, {bytes >> 20} MB"} on {input.Length} bytes {Convert.ToHexString(input.AsSpan(0, Math.Min(60, input.Length)))}; it is kept in {Corpus}"
            );
            return outcome;
        }
    }

    /// <summary>Those that say so in their comments: their callers make something of it.</summary>
    private static bool IsAsn(string reader) =>
        reader.StartsWith("Extensions.", StringComparison.Ordinal)
        || reader is "Pkcs7.ReadCertificates" or "NameConstraints.Read" or "DistinguishedName.Read" or "PublicKeyInfo.Read";

    private static (string Outcome, string? Unexpected) Run(Action<byte[]> read, byte[] input, bool isAsn)
    {
        try
        {
            read(input);
            return ("read", null);
        }
        catch (BeaconProblem p)
        {
            return (p.Code + Varying().Replace(p.Message, "#"), null);
        }
        catch (AsnContentException e) when (isAsn)
        {
            return (e.Message, null);
        }
        catch (Exception e)
        {
            return (
                e.GetType().Name,
                $"{e.GetType().Name}: {e.Message} {e.StackTrace?.Split('\n').FirstOrDefault(l => l.Contains("OrderlyBeacon"))?.Trim()}"
            );
        }
    }

    [GeneratedRegex("\".*?\"|\\d+|[0-9A-F]{6,}|\\P{IsBasicLatin}+")]
    private static partial Regex Varying();

    private static IEnumerable<byte[]> KnownFor(string name) =>
        Directory.Exists(Corpus) ? Directory.EnumerateFiles(Corpus, name + "--*").Order().Select(File.ReadAllBytes) : [];

    private static void Keep(string name, byte[] input)
    {
        Directory.CreateDirectory(Corpus);
        File.WriteAllBytes(Path.Combine(Corpus, $"{name}--{Convert.ToHexStringLower(SHA256.HashData(input))[..12]}"), input);
    }

    private static List<byte[]> Seeds()
    {
        var maker = new PathMaker(7);
        var seeds = new List<byte[]>();
        foreach (var change in PathMaker.All)
        {
            var path = maker.Make([change]);
            seeds.AddRange([path.Leaf, .. path.Sent.Take(2)]);
        }
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var signer = new KeySigner(key);
        AlternativeName[] names = [AlternativeName.Parse("a.thistledown.example"), AlternativeName.Parse("10.1.2.3")];
        var csr = CertificationRequest.Write(DistinguishedName.Parse("CN=a.thistledown.example,O=Thistledown Rail"), names, signer);
        seeds.Add(csr);
        seeds.Add(Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, csr)));
        seeds.Add(Encoding.ASCII.GetBytes(Armor.Write(Armor.Certificate, seeds[0])));
        seeds.Add(Pkcs7.WriteCertificates([seeds[0], seeds[1]]));
        seeds.Add(
            AuthEnveloped.Seal("hello"u8, [PublicKeyInfo.Read(Recovery.ExportSubjectPublicKeyInfo())], new byte[AuthEnveloped.RandomBytes])
        );
        seeds.Add(signer.PublicKey.Der.ToArray());
        seeds.Add(DaneTests.RealAnswer);
        seeds.Add("3 1 1 00ff"u8.ToArray());
        seeds.Add(
            Encoding.ASCII.GetBytes(
                key.ExportEncryptedPkcs8PrivateKeyPem("twelve words", new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 10))
            )
        );
        foreach (
            var text in new[]
            {
                "CN=a.thistledown.example,O=\"Rail, Thistledown\",C=GB",
                "*.xn--bcher-kva.thistledown.example",
                "bücher.thistledown.example",
                "2001:db8::/32",
                "10.20.0.0/16",
                "ip:10.1.2.3",
                "uri:https://a.example/x",
                "email:robin@thistledown.example",
                "directory:O=Thistledown Rail",
                ".thistledown.example",
                "ec-p256",
                "rsa-2048",
                "01:FF:a0",
                "-1",
            }
        )
            seeds.Add(Encoding.UTF8.GetBytes(text));
        seeds.Add([]);
        return seeds;
    }

    private static byte[] Alter(byte[] seed, byte[] other, Random random)
    {
        var bytes = seed.ToList();
        for (var n = random.Next(1, 5); n > 0; n--)
            switch (random.Next(9))
            {
                case 0 when bytes.Count > 0:
                    bytes[random.Next(bytes.Count)] ^= (byte)(1 << random.Next(8));
                    break;
                case 1 when bytes.Count > 0:
                    bytes[random.Next(bytes.Count)] = Odd[random.Next(Odd.Length)];
                    break;
                case 2 when bytes.Count > 1:
                    var from = random.Next(bytes.Count);
                    bytes.RemoveRange(from, random.Next(Math.Min(40, bytes.Count - from)));
                    break;
                case 3:
                    bytes.InsertRange(random.Next(bytes.Count + 1), Enumerable.Repeat(Odd[random.Next(Odd.Length)], random.Next(1, 40)));
                    break;
                case 4 when bytes.Count > 0:
                    bytes = bytes[..random.Next(bytes.Count)];
                    break;
                case 5 when other.Length > 4:
                    var start = random.Next(other.Length);
                    bytes.InsertRange(
                        random.Next(bytes.Count + 1),
                        other.AsSpan(start, random.Next(Math.Min(200, other.Length - start))).ToArray()
                    );
                    break;
                case 6 when bytes.Count is > 0 and < 8192:
                    // Many times the same: what grows faster than its input shows.
                    var part = bytes[random.Next(bytes.Count)..];
                    for (var i = random.Next(60); i > 0 && bytes.Count < MostInput - 8192; i--)
                        bytes.AddRange(part);
                    break;
                case 7:
                    Grow(bytes, random);
                    break;
                default:
                    if (bytes.Count > 1)
                        bytes[random.Next(Math.Min(12, bytes.Count))] = (byte)random.Next(256);
                    break;
            }
        return [.. bytes.Take(MostInput - 1)];
    }

    private static readonly byte[] Odd =
    [
        0,
        1,
        0x7F,
        0x80,
        0xFF,
        0x30,
        0x31,
        0x02,
        0x04,
        0x05,
        0x06,
        0x0C,
        0x84,
        0xA0,
        0xA3,
        (byte)'.',
        (byte)'*',
        (byte)'-',
        (byte)'\\',
        (byte)'"',
        (byte)'=',
        (byte)',',
        (byte)':',
    ];

    /// <summary>Repeats one element of a sequence inside its parents, with lengths that fit again: otherwise nothing long is ever reached.</summary>
    private static void Grow(List<byte> bytes, Random random)
    {
        try
        {
            var w = new AsnWriter(AsnEncodingRules.BER);
            Copy(new AsnReader(bytes.ToArray(), AsnEncodingRules.BER), w, random, 0);
            var grown = w.Encode();
            if (grown.Length < MostInput)
            {
                bytes.Clear();
                bytes.AddRange(grown);
            }
        }
        catch (Exception e) when (e is AsnContentException or CryptographicException or InvalidOperationException or ArgumentException)
        {
            // It is no ASN.1: other alterations are for it.
        }
    }

    private static void Copy(AsnReader r, AsnWriter w, Random random, int depth)
    {
        while (r.HasData)
        {
            var tag = r.PeekTag();
            var times = random.Next(12) == 0 ? random.Next(2, 80) : 1;
            var encoded = r.ReadEncodedValue();
            for (var i = 0; i < times; i++)
                if (tag.IsConstructed && depth < 12 && tag.TagClass != TagClass.Universal)
                {
                    using (w.PushSequence(tag))
                        Copy(new AsnReader(encoded, AsnEncodingRules.BER).ReadSequence(tag), w, random, depth + 1);
                }
                else if (tag == Asn1Tag.Sequence && depth < 12)
                {
                    using (w.PushSequence())
                        Copy(new AsnReader(encoded, AsnEncodingRules.BER).ReadSequence(), w, random, depth + 1);
                }
                else
                    w.WriteEncodedValue(encoded.Span);
            if (w.GetEncodedLength() > MostInput)
                return;
        }
    }
}
