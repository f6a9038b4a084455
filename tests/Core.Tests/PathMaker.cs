using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Tests;

/// <summary>A path as a server sends it, with what a client trusts, and which changes were made to it.</summary>
internal sealed record MadePath(
    string Name,
    byte[] Leaf,
    IReadOnlyList<byte[]> Sent,
    IReadOnlyList<byte[]> Anchors,
    IReadOnlyList<string> Changes
);

/// <summary>Makes good paths of every shape, and puts one or two changes into them: faults, and harmless oddities that clients accept.</summary>
internal sealed class PathMaker(int seed)
{
    /// <summary>The machine's own time: gnutls takes no other.</summary>
    public static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(DateTimeOffset.UtcNow.ToUnixTimeSeconds() / 60 * 60);

    private const string Host = "www.good.thistledown.example";
    private readonly Random _random = new(seed);

    private static readonly Lazy<TestKey[]> Elliptic = new(() =>
        [.. Enumerable.Range(0, 12).Select(i => new TestKey("ec" + i, ECDsa.Create(ECCurve.NamedCurves.nistP256)))]
    );
    private static readonly Lazy<TestKey[]> Large = new(() =>
        [.. Enumerable.Range(0, 2).Select(i => new TestKey("rsa" + i, RSA.Create(2048)))]
    );
    private static readonly Lazy<TestKey> Small = new(() => new TestKey("rsa1024", RSA.Create(1024)));

    /// <summary>Root first, leaf last; each signed by the one before.</summary>
    private sealed class Shape
    {
        public List<RawCertificate> Chain { get; } = [];
        public string Host { get; set; } = PathMaker.Host;
        public RawCertificate Root => Chain[0];
        public RawCertificate Leaf => Chain[^1];
        public List<Func<byte[][], byte[]>> MoreSent { get; } = [];
        public List<Func<byte[][], byte[]>> MoreAnchors { get; } = [];
        public bool LeaveOutRoot { get; set; }
        public int LeaveOut { get; set; } = -1;
        public bool Shuffle { get; set; }
    }

    /// <summary>All changes, by their names.</summary>
    public static IReadOnlyList<string> All { get; } = [.. new PathMaker(0).Table().Select(t => t.Name)];

    public MadePath Make(IReadOnlyList<string> changes)
    {
        var shape = Good();
        var table = Table().ToDictionary(t => t.Name, t => t.Change);
        foreach (var c in changes)
            table[c](shape);
        return Finish(shape, changes);
    }

    /// <summary>A path with one or two changes, by chance.</summary>
    public MadePath Next()
    {
        var first = All[_random.Next(All.Count)];
        var second = _random.Next(2) == 0 ? null : All[_random.Next(All.Count)];
        return Make(second is null || second == first ? [first] : [first, second]);
    }

    private Shape Good()
    {
        var shape = new Shape();
        var keys = Elliptic.Value.OrderBy(_ => _random.Next()).ToList();
        if (_random.Next(3) == 0)
            keys[_random.Next(4)] = Large.Value[0];
        var depth = _random.Next(5);
        for (var i = 0; i <= depth + 1; i++)
        {
            var isLeaf = i == depth + 1;
            var authority = i == 0 ? "Test Root" : $"Test Issuing {i}";
            var name = isLeaf ? Host : authority;
            var c = new RawCertificate
            {
                Key = keys[i],
                Subject = RawCertificate.Name(name),
                Serial = [0x40, (byte)i, .. Bytes(7)],
            };
            c.Issuer = i == 0 ? c.Subject : shape.Chain[i - 1].Subject;
            if (isLeaf)
            {
                c.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(false, null));
                c.Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.DigitalSignature));
                c.Put(Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage([Oids.ServerAuth]));
                c.Put(Oids.SubjectAltName, false, RawCertificate.Names(Host));
            }
            else
            {
                c.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(true, null));
                c.Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.KeyCertSign | KeyUsages.CrlSign));
            }
            c.Put(Oids.SubjectKeyIdentifier, false, Extensions.WriteSubjectKeyIdentifier(c.Key.Identifier));
            if (i > 0)
                c.Put(Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier(shape.Chain[i - 1].Key.Identifier));
            shape.Chain.Add(c);
        }
        return shape;
    }

    private byte[] Bytes(int n)
    {
        var b = new byte[n];
        _random.NextBytes(b);
        return b;
    }

    private MadePath Finish(Shape s, IReadOnlyList<string> changes)
    {
        var built = new byte[s.Chain.Count][];
        for (var i = 0; i < built.Length; i++)
            built[i] = s.Chain[i].Build(s.Chain[Math.Max(0, i - 1)].Key);
        var sent = new List<byte[]>();
        for (var i = s.Chain.Count - 2; i >= 1; i--)
            if (i != s.LeaveOut)
                sent.Add(built[i]);
        sent.AddRange(s.MoreSent.Select(m => m(built)));
        if (s.Shuffle)
            sent = [.. sent.OrderBy(_ => _random.Next())];
        List<byte[]> anchors = [.. s.MoreAnchors.Select(m => m(built))];
        if (!s.LeaveOutRoot)
            anchors.Add(built[0]);
        return new(s.Host, built[^1], sent, anchors, changes);
    }

    private static byte[] Ascii(string text) => Encoding.ASCII.GetBytes(text);

    /// <summary>An authority of the path: an intermediate where there is one, else the root.</summary>
    private RawCertificate Authority(Shape s) => s.Chain[s.Chain.Count > 2 ? 1 + _random.Next(s.Chain.Count - 2) : 0];

    private static bool HasIntermediate(Shape s) => s.Chain.Count > 2;

    private IEnumerable<(string Name, Action<Shape> Change)> Table()
    {
        foreach (var t in Dates().Concat(Authorities()).Concat(Usages()).Concat(NamesAndBounds()).Concat(Forms()).Concat(Ways()))
            yield return t;
    }

    private IEnumerable<(string, Action<Shape>)> Dates() =>
        [
            ("leaf-expired", s => s.Leaf.To = PathMaker.Now.AddDays(-1)),
            ("leaf-future", s => s.Leaf.From = PathMaker.Now.AddDays(1)),
            ("authority-expired", s => Authority(s).To = PathMaker.Now.AddDays(-1)),
            ("authority-future", s => Authority(s).From = PathMaker.Now.AddDays(1)),
            ("root-expired", s => s.Root.To = PathMaker.Now.AddDays(-1)),
            ("root-future", s => s.Root.From = PathMaker.Now.AddDays(1)),
            ("leaf-outlives-issuer", s => s.Leaf.To = PathMaker.Now.AddDays(3000)),
        ];

    private IEnumerable<(string, Action<Shape>)> Authorities() =>
        [
            ("not-an-authority", s => Authority(s).Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(false, null))),
            ("no-basic-constraints", s => Authority(s).Drop(Oids.BasicConstraints)),
            ("may-not-sign", s => Authority(s).Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.CrlSign))),
            ("no-key-usage", s => Authority(s).Drop(Oids.KeyUsage)),
            (
                "path-length-short",
                s => s.Root.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(true, Math.Max(0, s.Chain.Count - 3)))
            ),
            ("path-length-exact", s => s.Root.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(true, s.Chain.Count - 2))),
            ("root-version-1", s => s.Root.Version = 1),
            ("leaf-is-authority", s => s.Leaf.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(true, null))),
        ];

    private IEnumerable<(string, Action<Shape>)> Usages() =>
        [
            ("leaf-for-clients", s => s.Leaf.Put(Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage([Oids.ClientAuth]))),
            ("leaf-for-any", s => s.Leaf.Put(Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage([Oids.AnyExtendedKeyUsage]))),
            ("leaf-for-all", s => s.Leaf.Drop(Oids.ExtendedKeyUsage)),
            (
                "authority-for-servers",
                s => Authority(s).Put(Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage([Oids.ServerAuth, Oids.ClientAuth]))
            ),
            (
                "authority-for-clients",
                s => Authority(s).Put(Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage([Oids.ClientAuth]))
            ),
            ("leaf-usage-unfit", s => s.Leaf.Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.NonRepudiation))),
            ("leaf-usage-agreement", s => s.Leaf.Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.KeyAgreement))),
            ("leaf-sha1", s => s.Leaf.How = Signed.Sha1),
            (
                "authority-sha1",
                s =>
                {
                    if (HasIntermediate(s))
                        s.Chain[^2].How = Signed.Sha1;
                }
            ),
            ("root-sha1", s => s.Root.How = Signed.Sha1),
            ("leaf-rsa-1024", s => Rekey(s, s.Chain.Count - 1, Small.Value)),
            ("authority-rsa-1024", s => Rekey(s, s.Chain.Count - 2, Small.Value)),
            (
                "pss-256",
                s =>
                {
                    Rekey(s, s.Chain.Count - 2, Large.Value[1]);
                    s.Leaf.How = Signed.Pss256;
                }
            ),
            (
                "pss-384",
                s =>
                {
                    Rekey(s, s.Chain.Count - 2, Large.Value[1]);
                    s.Leaf.How = Signed.Pss384;
                }
            ),
        ];

    private static void Rekey(Shape s, int index, TestKey key)
    {
        s.Chain[index].Key = key;
        s.Chain[index].Put(Oids.SubjectKeyIdentifier, false, Extensions.WriteSubjectKeyIdentifier(key.Identifier));
        if (index + 1 < s.Chain.Count)
            s.Chain[index + 1].Put(Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier(key.Identifier));
    }

    private void Bound(Shape s, (int, byte[])[] permitted, (int, byte[])[] excluded, bool minimum = false) =>
        Authority(s).Put(Oids.NameConstraints, true, RawCertificate.Bounds(permitted, excluded, minimum));

    private IEnumerable<(string, Action<Shape>)> NamesAndBounds() =>
        [
            ("bound-in", s => Bound(s, [(2, Ascii("thistledown.example"))], [])),
            ("bound-out", s => Bound(s, [(2, Ascii("other.example"))], [])),
            ("bound-excluded", s => Bound(s, [], [(2, Ascii("good.thistledown.example"))])),
            ("bound-excluded-elsewhere", s => Bound(s, [], [(2, Ascii("other.example"))])),
            ("bound-dot-bare", s => Bound(s, [(2, Ascii("." + Host))], [])),
            ("bound-dot-below", s => Bound(s, [(2, Ascii(".good.thistledown.example"))], [])),
            (
                "bound-address-in",
                s =>
                {
                    s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names(Host, "10.1.2.3"));
                    Bound(s, [(7, [10, 1, 0, 0, 255, 255, 0, 0])], []);
                }
            ),
            (
                "bound-address-out",
                s =>
                {
                    s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names(Host, "10.2.2.3"));
                    Bound(s, [(7, [10, 1, 0, 0, 255, 255, 0, 0])], []);
                }
            ),
            (
                "bound-mail-out",
                s =>
                {
                    s.Leaf.Subject = RawCertificate.Name(Host, mail: "robin@other.example");
                    Bound(s, [(1, Ascii("thistledown.example"))], []);
                }
            ),
            (
                "bound-mail-in",
                s =>
                {
                    s.Leaf.Subject = RawCertificate.Name(Host, mail: "robin@thistledown.example");
                    Bound(s, [(1, Ascii("thistledown.example"))], []);
                }
            ),
            ("bound-directory-in", s => Bound(s, [(4, OrganizationOnly("Thistledown Rail"))], [])),
            ("bound-directory-out", s => Bound(s, [(4, OrganizationOnly("Another Rail"))], [])),
            (
                "bound-wildcard-excluded",
                s =>
                {
                    s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names("*.good.thistledown.example"));
                    Bound(s, [], [(2, Ascii("secret.good.thistledown.example"))]);
                }
            ),
            ("bound-minimum", s => Bound(s, [(2, Ascii("thistledown.example"))], [], minimum: true)),
            ("name-other", s => s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names("other.thistledown.example"))),
            ("name-wildcard", s => s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names("*.good.thistledown.example"))),
            ("name-wildcard-deep", s => s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names("*.thistledown.example"))),
            ("name-final-dot", s => s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names(Host + "."))),
            ("name-in-common-name-only", s => s.Leaf.Drop(Oids.SubjectAltName)),
            ("name-case", s => s.Leaf.Put(Oids.SubjectAltName, false, RawCertificate.Names("WWW.Good.Thistledown.Example"))),
        ];

    private static byte[] OrganizationOnly(string name) => Core.Names.DistinguishedName.Of([new(Oids.Organization, name)]).Der.ToArray();

    private IEnumerable<(string, Action<Shape>)> Forms() =>
        [
            ("critical-unknown-leaf", s => s.Leaf.Put("1.2.3.4.5", true, [5, 0])),
            ("critical-unknown-authority", s => Authority(s).Put("1.2.3.4.5", true, [5, 0])),
            ("unknown-extension", s => Authority(s).Put("1.2.3.4.5", false, [5, 0])),
            ("authority-access-malformed", s => s.Leaf.Put(Oids.AuthorityInfoAccess, false, [0x30, 0x03, 0x02, 0x01])),
            ("alternative-name-malformed", s => s.Leaf.Put(Oids.SubjectAltName, false, [0x30, 0x03, 0x82, 0x09, 0x61])),
            ("key-usage-surplus-zeros", s => Authority(s).Put(Oids.KeyUsage, true, [0x03, 0x02, 0x00, 0x06])),
            ("date-fraction", s => s.Leaf.Fraction = true),
            ("signature-spoiled", s => s.Chain[1].Spoiled = true),
            (
                "printable-star",
                s =>
                {
                    if (HasIntermediate(s))
                    {
                        s.Chain[1].Subject = RawCertificate.Name(
                            "Test * Issuing & Co @ 1",
                            System.Formats.Asn1.UniversalTagNumber.PrintableString
                        );
                        s.Chain[2].Issuer = s.Chain[1].Subject;
                    }
                }
            ),
            ("access-byte-over-127", s => s.Leaf.Put(Oids.AuthorityInfoAccess, false, Access("http://pki.example/\u00e9.cer"))),
            ("serial-short", s => s.Leaf.Serial = [5]),
            (
                "subject-empty",
                s =>
                {
                    s.Leaf.Subject = [0x30, 0x00];
                    s.Leaf.Extensions.RemoveAll(e => e.Oid == Oids.SubjectAltName);
                    s.Leaf.Put(Oids.SubjectAltName, true, RawCertificate.Names(Host));
                }
            ),
        ];

    private static byte[] Access(string uri)
    {
        var w = new System.Formats.Asn1.AsnWriter(System.Formats.Asn1.AsnEncodingRules.DER);
        using (w.PushSequence())
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(Oids.CaIssuers);
            w.WriteOctetString(
                Encoding.Latin1.GetBytes(uri),
                new System.Formats.Asn1.Asn1Tag(System.Formats.Asn1.TagClass.ContextSpecific, 6)
            );
        }
        return w.Encode();
    }

    private IEnumerable<(string, Action<Shape>)> Ways() =>
        [
            ("nothing", _ => { }),
            ("shuffled", s => s.Shuffle = true),
            ("root-sent", s => s.MoreSent.Add(b => b[0])),
            ("stranger-sent", s => s.MoreSent.Add(_ => Good().Chain[0] is var other ? Renamed(other) : [])),
            ("root-unknown", s => s.LeaveOutRoot = true),
            ("intermediate-missing", s => s.LeaveOut = 1),
            ("issuer-name-other", s => s.Leaf.Issuer = RawCertificate.Name("Somebody Else")),
            (
                "issuer-name-case",
                s =>
                {
                    if (HasIntermediate(s))
                        s.Leaf.Issuer = RawCertificate.Name($"TEST  issuing {s.Chain.Count - 2} ");
                }
            ),
            (
                "key-identifier-wrong",
                s => s.Leaf.Put(Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier([1, 2, 3, 4]))
            ),
            ("key-identifier-none", s => s.Leaf.Drop(Oids.AuthorityKeyIdentifier)),
            ("twin-expired", s => Twin(s, t => t.To = PathMaker.Now.AddDays(-1))),
            (
                "twin-out-of-bounds",
                s => Twin(s, t => t.Put(Oids.NameConstraints, true, RawCertificate.Bounds([(2, Ascii("other.example"))], [])))
            ),
            ("root-renewed", s => s.MoreAnchors.Add(b => Again(s.Root, r => r.To = PathMaker.Now.AddDays(-10)).Build(s.Root.Key))),
            ("long", Longer),
        ];

    private static byte[] Renamed(RawCertificate c)
    {
        c.Subject = c.Issuer = RawCertificate.Name("A Stranger");
        return c.Build(c.Key);
    }

    /// <summary>A second certificate of an intermediate, with the same name and key, that leads nowhere; it is sent first.</summary>
    private static void Twin(Shape s, Action<RawCertificate> bend)
    {
        if (!HasIntermediate(s))
            return;
        var (index, by) = (s.Chain.Count - 2, s.Chain[^3].Key);
        s.MoreSent.Insert(0, _ => Again(s.Chain[index], bend).Build(by));
        s.Shuffle = true;
    }

    private static RawCertificate Again(RawCertificate of, Action<RawCertificate> bend)
    {
        var copy = new RawCertificate
        {
            Key = of.Key,
            Subject = of.Subject,
            Issuer = of.Issuer,
            Serial = [.. of.Serial, 0x77],
            From = of.From,
            To = of.To,
            How = of.How,
            Version = of.Version,
        };
        foreach (var (oid, critical, value) in of.Extensions)
            copy.Put(oid, critical, value);
        bend(copy);
        return copy;
    }

    /// <summary>Ten more authorities between the root and the next.</summary>
    private void Longer(Shape s)
    {
        for (var i = 0; i < 8; i++)
        {
            var above = s.Chain[i];
            var c = new RawCertificate
            {
                Key = Elliptic.Value[_random.Next(12)],
                Subject = RawCertificate.Name($"Test Long {i}"),
                Issuer = above.Subject,
                Serial = [0x41, (byte)i, .. Bytes(6)],
            };
            c.Put(Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(true, null));
            c.Put(Oids.KeyUsage, true, Extensions.WriteKeyUsage(KeyUsages.KeyCertSign));
            s.Chain.Insert(i + 1, c);
        }
        s.Chain[9].Issuer = s.Chain[8].Subject;
        s.Chain[9].Drop(Oids.AuthorityKeyIdentifier);
    }
}
