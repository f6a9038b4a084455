using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Tests;

/// <summary>How a test signs: good ways and ways that nobody should.</summary>
internal enum Signed
{
    Sha256,
    Sha1,
    Pss256,
    Pss384,
}

/// <summary>A key for tests, made once.</summary>
internal sealed record TestKey(string Name, AsymmetricAlgorithm Key)
{
    public byte[] Spki { get; } = Key.ExportSubjectPublicKeyInfo();
    public byte[] Identifier { get; } = PublicKeyInfo.Read(Key.ExportSubjectPublicKeyInfo()).KeyIdentifier();
    public bool IsRsa => Key is RSA;
}

/// <summary>A certificate put together by hand, part by part, so that each part can be wrong: the product's own writer refuses what these have.</summary>
internal sealed class RawCertificate
{
    public required TestKey Key { get; set; }
    public byte[] Subject { get; set; } = Name("Nobody");
    public byte[] Issuer { get; set; } = Name("Nobody");
    public byte[] Serial { get; set; } = [0x40, 1, 2, 3, 4, 5, 6, 7];
    public DateTimeOffset From { get; set; } = PathMaker.Now.AddDays(-100);
    public DateTimeOffset To { get; set; } = PathMaker.Now.AddDays(1000);
    public bool Fraction { get; set; }
    public int Version { get; set; } = 3;
    public Signed How { get; set; } = Signed.Sha256;
    public bool Spoiled { get; set; }
    public List<(string Oid, bool Critical, byte[] Value)> Extensions { get; } = [];

    public RawCertificate Put(string oid, bool critical, byte[] value)
    {
        Extensions.RemoveAll(e => e.Oid == oid);
        Extensions.Add((oid, critical, value));
        return this;
    }

    public RawCertificate Drop(string oid)
    {
        Extensions.RemoveAll(e => e.Oid == oid);
        return this;
    }

    public byte[] Build(TestKey by)
    {
        var tbs = Write(by);
        var signature = Sign(by, tbs);
        if (Spoiled)
            signature[^1] ^= 1;
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            w.WriteEncodedValue(tbs);
            Algorithm(w, by);
            w.WriteBitString(signature);
        }
        return w.Encode();
    }

    private byte[] Write(TestKey by)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            if (Version != 1)
                using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                    w.WriteInteger(Version - 1);
            w.WriteInteger(Serial);
            Algorithm(w, by);
            w.WriteEncodedValue(Issuer);
            using (w.PushSequence())
            {
                Time(w, From);
                Time(w, To);
            }
            w.WriteEncodedValue(Subject);
            w.WriteEncodedValue(Key.Spki);
            if (Extensions.Count > 0 && Version != 1)
                using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 3)))
                using (w.PushSequence())
                    foreach (var (oid, critical, value) in Extensions)
                        Issuing.Extensions.Write(w, oid, critical, value);
        }
        return w.Encode();
    }

    private void Time(AsnWriter w, DateTimeOffset t)
    {
        if (Fraction)
            w.WriteGeneralizedTime(t.AddMilliseconds(500), omitFractionalSeconds: false);
        else
            w.WriteUtcTime(t);
    }

    private void Algorithm(AsnWriter w, TestKey by)
    {
        if (How is Signed.Pss256 or Signed.Pss384 && by.IsRsa)
        {
            Pss(w, How == Signed.Pss256 ? Oids.Sha256 : Oids.Sha384, How == Signed.Pss256 ? 32 : 48);
            return;
        }
        using var _ = w.PushSequence();
        w.WriteObjectIdentifier(
            (How, by.IsRsa) switch
            {
                (Signed.Sha1, true) => Oids.Sha1Rsa,
                (Signed.Sha1, false) => Oids.Sha1Ecdsa,
                (_, true) => Oids.Sha256Rsa,
                _ => Oids.Sha256Ecdsa,
            }
        );
        if (by.IsRsa)
            w.WriteNull();
    }

    private static void Pss(AsnWriter w, string hash, int salt)
    {
        using var _ = w.PushSequence();
        w.WriteObjectIdentifier(Oids.RsaPss);
        using (w.PushSequence())
        {
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                Hash(w, hash);
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 1)))
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(Oids.Mgf1);
                Hash(w, hash);
            }
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 2)))
                w.WriteInteger(salt);
        }
    }

    private static void Hash(AsnWriter w, string oid)
    {
        using var _ = w.PushSequence();
        w.WriteObjectIdentifier(oid);
        w.WriteNull();
    }

    private byte[] Sign(TestKey by, byte[] tbs)
    {
        var hash = (How, by.IsRsa) switch
        {
            (Signed.Sha1, _) => HashAlgorithmName.SHA1,
            (Signed.Pss384, true) => HashAlgorithmName.SHA384,
            _ => HashAlgorithmName.SHA256,
        };
        return by.Key is RSA rsa
            ? rsa.SignData(tbs, hash, How is Signed.Pss256 or Signed.Pss384 ? RSASignaturePadding.Pss : RSASignaturePadding.Pkcs1)
            : ((ECDsa)by.Key).SignData(tbs, hash, DSASignatureFormat.Rfc3279DerSequence);
    }

    /// <summary>A name of one organization and one common name.</summary>
    public static byte[] Name(string cn, UniversalTagNumber form = UniversalTagNumber.UTF8String, string? mail = null)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            Attribute(w, Oids.Organization, "Thistledown Rail", form);
            Attribute(w, Oids.CommonName, cn, form);
            if (mail is not null)
                Attribute(w, Oids.EmailAddress, mail, UniversalTagNumber.IA5String);
        }
        return w.Encode();
    }

    private static void Attribute(AsnWriter w, string oid, string value, UniversalTagNumber form)
    {
        using (w.PushSetOf())
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(oid);
            // Not WriteCharacterString: it refuses what a PrintableString must not hold, and such are met.
            var bytes = Encoding.UTF8.GetBytes(value);
            w.WriteEncodedValue([(byte)form, (byte)bytes.Length, .. bytes]);
        }
    }

    /// <summary>Alternative names: DNS names, and one address where it looks like one.</summary>
    public static byte[] Names(params string[] names)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var n in names)
                if (System.Net.IPAddress.TryParse(n, out var ip))
                    w.WriteOctetString(ip.GetAddressBytes(), new Asn1Tag(TagClass.ContextSpecific, 7));
                else
                    w.WriteCharacterString(UniversalTagNumber.IA5String, n, new Asn1Tag(TagClass.ContextSpecific, 2));
        return w.Encode();
    }

    /// <summary>Name constraints from bare parts: tag of the form, bytes of its content.</summary>
    public static byte[] Bounds((int Tag, byte[] Bytes)[] permitted, (int Tag, byte[] Bytes)[] excluded, bool minimum = false)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var (which, trees) in new[] { (0, permitted), (1, excluded) })
                if (trees.Length > 0)
                    using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, which)))
                        foreach (var (tag, bytes) in trees)
                            using (w.PushSequence())
                            {
                                if (tag == 4)
                                    using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 4)))
                                        w.WriteEncodedValue(bytes);
                                else
                                    w.WriteOctetString(bytes, new Asn1Tag(TagClass.ContextSpecific, tag));
                                if (minimum)
                                    w.WriteInteger(1, new Asn1Tag(TagClass.ContextSpecific, 0));
                            }
        return w.Encode();
    }
}
