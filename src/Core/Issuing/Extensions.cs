using System.Formats.Asn1;
using System.Net;
using System.Text;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>Bits of the key usage extension (RFC 5280 section 4.2.1.3), by their numbers.</summary>
[Flags]
public enum KeyUsages
{
    None = 0,
    DigitalSignature = 1 << 0,
    NonRepudiation = 1 << 1,
    KeyEncipherment = 1 << 2,
    DataEncipherment = 1 << 3,
    KeyAgreement = 1 << 4,
    KeyCertSign = 1 << 5,
    CrlSign = 1 << 6,
    EncipherOnly = 1 << 7,
    DecipherOnly = 1 << 8,
}

/// <summary>One extension as it stands in a certificate or request: <paramref name="Value"/> is the OCTET STRING's content.</summary>
public sealed record RawExtension(string Oid, bool Critical, ReadOnlyMemory<byte> Value);

/// <summary>
/// Reads and writes the values of the extensions we know (RFC 5280 section 4.2). Readers throw <see cref="AsnContentException"/> for a malformed value and nothing else;
/// who reads a certificate makes of it what clients do with that part.
/// </summary>
public static class Extensions
{
    public static void Write(AsnWriter w, string oid, bool critical, ReadOnlySpan<byte> value)
    {
        using var _ = w.PushSequence();
        w.WriteObjectIdentifier(oid);
        if (critical)
            w.WriteBoolean(true);
        w.WriteOctetString(value);
    }

    /// <summary>Reads SEQUENCE OF Extension; duplicates are kept for the caller to judge.</summary>
    public static List<RawExtension> ReadAll(ReadOnlyMemory<byte> der)
    {
        var list = new List<RawExtension>();
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var seq = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        while (seq.HasData)
        {
            if (list.Count >= 100)
                throw new AsnContentException("Over 100 extensions.");
            var e = seq.ReadSequence();
            var oid = e.ReadObjectIdentifier();
            var critical = e.HasData && e.PeekTag() == Asn1Tag.Boolean && e.ReadBoolean();
            list.Add(new(oid, critical, e.ReadOctetString()));
            e.ThrowIfNotEmpty();
        }
        return list;
    }

    public static byte[] WriteAlternativeNames(IReadOnlyList<AlternativeName> names)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var n in names)
                switch (n.Kind)
                {
                    case NameKind.Dns:
                        w.WriteCharacterString(UniversalTagNumber.IA5String, n.Value, new Asn1Tag(TagClass.ContextSpecific, 2));
                        break;
                    case NameKind.Ip:
                        w.WriteOctetString(IPAddress.Parse(n.Value).GetAddressBytes(), new Asn1Tag(TagClass.ContextSpecific, 7));
                        break;
                    case NameKind.Email:
                        w.WriteCharacterString(UniversalTagNumber.IA5String, n.Value, new Asn1Tag(TagClass.ContextSpecific, 1));
                        break;
                    case NameKind.Uri:
                        w.WriteCharacterString(UniversalTagNumber.IA5String, n.Value, new Asn1Tag(TagClass.ContextSpecific, 6));
                        break;
                    default:
                        throw new ArgumentException("Only names of a known form can be written.", nameof(names));
                }
        return w.Encode();
    }

    /// <summary>Reads GeneralNames as they stand; texts are not checked, since what is malformed must be shown to be judged.</summary>
    public static List<AlternativeName> ReadAlternativeNames(ReadOnlyMemory<byte> value)
    {
        var names = new List<AlternativeName>();
        var outer = new AsnReader(value, AsnEncodingRules.DER);
        var seq = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        while (seq.HasData)
        {
            var tag = seq.PeekTag();
            if (tag.TagClass != TagClass.ContextSpecific)
                throw new AsnContentException("A general name without its tag.");
            switch (tag.TagValue)
            {
                case 2:
                    names.Add(new(NameKind.Dns, Latin(seq, tag)));
                    break;
                case 1:
                    names.Add(new(NameKind.Email, Latin(seq, tag)));
                    break;
                case 6:
                    names.Add(new(NameKind.Uri, Latin(seq, tag)));
                    break;
                case 4:
                    var directory = DistinguishedName.Read(
                        seq.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 4, true)).ReadEncodedValue()
                    );
                    names.Add(new(NameKind.Directory, directory.ToString()) { Directory = directory });
                    break;
                case 7:
                    var octets = seq.ReadOctetString(tag);
                    names.Add(
                        octets.Length is 4 or 16
                            ? new(NameKind.Ip, new IPAddress(octets).ToString())
                            : new(NameKind.Other, "7 (address of " + octets.Length + " octets)")
                    );
                    break;
                default:
                    seq.ReadEncodedValue();
                    names.Add(new(NameKind.Other, tag.TagValue.ToString()));
                    break;
            }
        }
        return names;
    }

    // Not ReadCharacterString: it refuses bytes over 127, and such a text is to be reported, not to end the reading.
    private static string Latin(AsnReader r, Asn1Tag tag) =>
        Encoding.Latin1.GetString(r.ReadOctetString(new Asn1Tag(TagClass.ContextSpecific, tag.TagValue)));

    public static byte[] WriteKeyUsage(KeyUsages usages)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteNamedBitList(usages);
        return w.Encode();
    }

    /// <summary>Surplus zero bits at the end, which DER forbids, are met in roots that everybody trusts.</summary>
    public static KeyUsages ReadKeyUsage(ReadOnlyMemory<byte> value)
    {
        var outer = new AsnReader(value, AsnEncodingRules.BER);
        var bits = outer.ReadBitString(out _);
        outer.ThrowIfNotEmpty();
        var usages = KeyUsages.None;
        for (var i = 0; i < Math.Min(9, bits.Length * 8); i++)
            if ((bits[i / 8] & (0x80 >> (i % 8))) != 0)
                usages |= (KeyUsages)(1 << i);
        return usages;
    }

    public static byte[] WriteExtendedKeyUsage(IReadOnlyList<string> oids)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var oid in oids)
                w.WriteObjectIdentifier(oid);
        return w.Encode();
    }

    public static List<string> ReadExtendedKeyUsage(ReadOnlyMemory<byte> value)
    {
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        var oids = new List<string>();
        while (seq.HasData)
        {
            if (oids.Count == 1000)
                throw new AsnContentException("Over 1000 usages.");
            oids.Add(seq.ReadObjectIdentifier());
        }
        return oids;
    }

    /// <summary>Extensions of TLS that the server has to answer with (RFC 7633 section 4.1).</summary>
    public static List<int> ReadTlsFeatures(ReadOnlyMemory<byte> value)
    {
        const int Most = 100;
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        var features = new List<int>();
        while (seq.HasData)
        {
            if (features.Count == Most)
                throw new AsnContentException($"Over {Most} features.");
            features.Add(
                seq.TryReadInt32(out var feature) ? feature : throw new AsnContentException("A feature is no number of an extension.")
            );
        }
        return features;
    }

    public static byte[] WriteBasicConstraints(bool authority, int? pathLength)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            if (authority)
                w.WriteBoolean(true);
            if (authority && pathLength is { } p)
                w.WriteInteger(p);
        }
        return w.Encode();
    }

    public static (bool Authority, int? PathLength) ReadBasicConstraints(ReadOnlyMemory<byte> value)
    {
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        var authority = seq.HasData && seq.PeekTag() == Asn1Tag.Boolean && seq.ReadBoolean();
        int? length = null;
        if (seq.HasData)
            length = seq.TryReadInt32(out var n) && n >= 0 ? n : throw new AsnContentException("A path length that is no small number.");
        seq.ThrowIfNotEmpty();
        return (authority, length);
    }

    public static byte[] WriteSubjectKeyIdentifier(ReadOnlySpan<byte> id)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteOctetString(id);
        return w.Encode();
    }

    public static byte[] WriteAuthorityKeyIdentifier(ReadOnlySpan<byte> id)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            w.WriteOctetString(id, new Asn1Tag(TagClass.ContextSpecific, 0));
        return w.Encode();
    }

    public static byte[]? ReadAuthorityKeyIdentifier(ReadOnlyMemory<byte> value)
    {
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        var tag = new Asn1Tag(TagClass.ContextSpecific, 0);
        return seq.HasData && seq.PeekTag() == tag ? seq.ReadOctetString(tag) : null;
    }

    /// <summary>One distribution point per URI (RFC 5280 section 4.2.1.13).</summary>
    public static byte[] WriteCrlDistributionPoints(IReadOnlyList<string> uris)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var uri in uris)
                using (w.PushSequence())
                using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                    w.WriteCharacterString(UniversalTagNumber.IA5String, uri, new Asn1Tag(TagClass.ContextSpecific, 6));
        return w.Encode();
    }

    public static List<string> ReadCrlDistributionPoints(ReadOnlyMemory<byte> value)
    {
        var found = new List<string>();
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        while (seq.HasData)
            ReadFullName(seq.ReadSequence(), found);
        return found;
    }

    /// <summary>The addresses of a DistributionPointName that stands first in a structure, if it does.</summary>
    private static void ReadFullName(AsnReader point, List<string> into)
    {
        var zero = new Asn1Tag(TagClass.ContextSpecific, 0, true);
        if (!point.HasData || !point.PeekTag().HasSameClassAndValue(zero))
            return;
        var name = point.ReadSequence(zero);
        if (!name.HasData || !name.PeekTag().HasSameClassAndValue(zero))
            return;
        var full = name.ReadSequence(zero);
        while (full.HasData)
            if (full.PeekTag() is { TagValue: 6 } tag)
                into.Add(Latin(full, tag));
            else
                full.ReadEncodedValue();
    }

    /// <summary>The full names in an issuing distribution point (RFC 5280 section 5.2.5).</summary>
    /// <param name="limited">Whether the list is for some reasons, some kinds of certificates or other issuers too.</param>
    public static List<string> ReadIssuingDistributionPoint(ReadOnlyMemory<byte> value, out bool limited)
    {
        var found = new List<string>();
        limited = false;
        var point = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        ReadFullName(point, found);
        while (point.HasData)
        {
            // Booleans that are false by default stand there only when they are true; reasons stand there only when not all are meant.
            limited = true;
            point.ReadEncodedValue();
        }
        return found;
    }

    public static byte[] WriteAuthorityInfoAccess(IReadOnlyList<(string Method, string Uri)> entries)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var (method, uri) in entries)
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(method);
                    w.WriteCharacterString(UniversalTagNumber.IA5String, uri, new Asn1Tag(TagClass.ContextSpecific, 6));
                }
        return w.Encode();
    }

    public static List<(string Method, string Uri)> ReadAuthorityInfoAccess(ReadOnlyMemory<byte> value)
    {
        var found = new List<(string, string)>();
        var seq = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        while (seq.HasData)
        {
            var e = seq.ReadSequence();
            var method = e.ReadObjectIdentifier();
            if (e.PeekTag() is { TagClass: TagClass.ContextSpecific, TagValue: 6 } tag)
                found.Add((method, Latin(e, tag)));
        }
        return found;
    }
}
