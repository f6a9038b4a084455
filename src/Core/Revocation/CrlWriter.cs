using System.Buffers.Binary;
using System.Formats.Asn1;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Revocation;

/// <summary>What stands in a CRL besides its entries (RFC 5280 section 5).</summary>
public sealed record CrlContent
{
    /// <summary>The authority's subject name.</summary>
    public required DistinguishedName Issuer { get; init; }

    /// <summary>The signing key's identifier.</summary>
    public required ReadOnlyMemory<byte> IssuerKeyIdentifier { get; init; }

    /// <summary>The CRL number, never used before by this authority and key (section 5.2.3). A delta shares the count with the full lists.</summary>
    public required long Number { get; init; }

    /// <summary>Whole seconds, UTC.</summary>
    public required DateTimeOffset ThisUpdate { get; init; }

    /// <summary>Whole seconds, UTC.</summary>
    public required DateTimeOffset NextUpdate { get; init; }

    /// <summary>Makes this a delta: the number of the full list it goes on from (section 5.2.4).</summary>
    public long? BaseNumber { get; init; }

    /// <summary>Where deltas to this full list are found (section 5.2.6); empty leaves the extension out, and a delta never has it.</summary>
    public IReadOnlyList<string> FreshestUris { get; init; } = [];

    /// <summary>The distribution point this list is for, as in the certificates it covers (section 5.2.5): tells the lists of one name's several keys apart. Empty leaves the extension out.</summary>
    public IReadOnlyList<string> PointUris { get; init; } = [];
}

/// <summary>
/// The entries of a CRL, encoded once and kept: the next list costs a copy and a signature, however many entries there are.
/// Add entries in any order; take one out only by building anew. Not safe for several threads at once.
/// </summary>
public sealed class CrlEntries
{
    private byte[] _bytes = [];
    private int _length;

    public CrlEntries() { }

    public CrlEntries(IReadOnlyCollection<RevokedCertificate> revoked)
    {
        _bytes = new byte[revoked.Count * 52];
        foreach (var r in revoked)
            Add(r);
    }

    public int Count { get; private set; }

    /// <summary>The encoded entries, one after another.</summary>
    public ReadOnlySpan<byte> Bytes => _bytes.AsSpan(0, _length);

    public void Add(RevokedCertificate r)
    {
        var serial = r.Serial.ToBytes();
        if (serial.Length > 100)
            throw new ArgumentException("A serial number of over 100 octets.", nameof(r));
        if (_bytes.Length - _length < serial.Length + 64)
            Array.Resize(ref _bytes, Math.Max(1024, _bytes.Length + _bytes.Length / 8 + 256));
        var at = r.At.UtcDateTime;
        var late = at.Year >= 2050;
        // Reason 0 is left out by rule (section 5.3.1).
        var reasoned = r.Reason != RevocationReason.Unspecified;
        var content = 2 + serial.Length + 2 + (late ? 15 : 13) + (reasoned ? 14 : 0);
        var span = _bytes.AsSpan(_length);
        var n = 0;
        span[n++] = 0x30;
        if (content >= 128)
            span[n++] = 0x81;
        span[n++] = (byte)content;
        span[n++] = 0x02;
        span[n++] = (byte)serial.Length;
        serial.CopyTo(span[n..]);
        n += serial.Length;
        span[n++] = late ? (byte)0x18 : (byte)0x17;
        span[n++] = late ? (byte)15 : (byte)13;
        if (late)
            n += Digits(span[n..], at.Year / 100);
        foreach (var part in (ReadOnlySpan<int>)[at.Year % 100, at.Month, at.Day, at.Hour, at.Minute, at.Second])
            n += Digits(span[n..], part);
        span[n++] = (byte)'Z';
        if (reasoned)
        {
            ReadOnlySpan<byte> extension = [0x30, 0x0C, 0x30, 0x0A, 0x06, 0x03, 0x55, 0x1D, 0x15, 0x04, 0x03, 0x0A, 0x01];
            extension.CopyTo(span[n..]);
            n += extension.Length;
            span[n++] = (byte)r.Reason;
        }
        _length += n;
        Count++;
    }

    private static int Digits(Span<byte> to, int value)
    {
        to[0] = (byte)('0' + value / 10);
        to[1] = (byte)('0' + value % 10);
        return 2;
    }
}

/// <summary>Writes and signs full and delta CRLs (RFC 5280 section 5).</summary>
public static class CrlWriter
{
    /// <summary>The signed list in DER. Its memory is that of the list once; the entries are copied, not encoded again.</summary>
    public static ReadOnlyMemory<byte> Issue(CrlContent c, CrlEntries entries, ISigner signer)
    {
        var head = Head(c, signer.Scheme);
        var tail = Tail(c);
        var listHeader = entries.Count > 0 ? Header(0x30, entries.Bytes.Length) : [];
        var tbsContent = head.Length + listHeader.Length + (entries.Count > 0 ? entries.Bytes.Length : 0) + tail.Length;
        var tbsHeader = Header(0x30, tbsContent);
        var algorithm = Signatures.AlgorithmOf(signer.Scheme).ToArray();

        // Room for the outer header is left before the signed part, since the signature's length is not known yet.
        const int front = 8;
        var tbsLength = tbsHeader.Length + tbsContent;
        var all = new byte[front + tbsLength + algorithm.Length + 8 + 1024];
        var n = front;
        foreach (var part in new[] { tbsHeader, head, listHeader })
        {
            part.CopyTo(all, n);
            n += part.Length;
        }
        if (entries.Count > 0)
        {
            entries.Bytes.CopyTo(all.AsSpan(n));
            n += entries.Bytes.Length;
        }
        tail.CopyTo(all, n);
        n += tail.Length;
        var signature = signer.Sign(all.AsSpan(front, tbsLength));
        algorithm.CopyTo(all, n);
        n += algorithm.Length;
        var bits = Header(0x03, signature.Length + 1);
        bits.CopyTo(all, n);
        n += bits.Length;
        all[n++] = 0;
        signature.CopyTo(all, n);
        n += signature.Length;
        var outer = Header(0x30, n - front);
        outer.CopyTo(all, front - outer.Length);
        return all.AsMemory(front - outer.Length, n - front + outer.Length);
    }

    private static byte[] Head(CrlContent c, SignatureScheme scheme)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            w.WriteInteger(1);
            Signatures.WriteAlgorithm(w, scheme);
            w.WriteEncodedValue(c.Issuer.Der.Span);
            CertificateWriter.WriteTime(w, c.ThisUpdate);
            CertificateWriter.WriteTime(w, c.NextUpdate);
        }
        return Inside(w.Encode());
    }

    private static byte[] Tail(CrlContent c)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
        using (w.PushSequence())
        {
            Extensions.Write(w, Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier(c.IssuerKeyIdentifier.Span));
            Extensions.Write(w, Oids.CrlNumber, false, Integer(c.Number));
            if (c.BaseNumber is { } from)
                Extensions.Write(w, Oids.DeltaCrlIndicator, true, Integer(from));
            if (c.PointUris.Count > 0)
                Extensions.Write(w, Oids.IssuingDistributionPoint, true, IssuingPoint(c.PointUris));
            if (c.BaseNumber is null && c.FreshestUris.Count > 0)
                Extensions.Write(w, Oids.FreshestCrl, false, Extensions.WriteCrlDistributionPoints(c.FreshestUris));
        }
        return w.Encode();
    }

    private static byte[] IssuingPoint(IReadOnlyList<string> uris)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
        using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
            foreach (var uri in uris)
                w.WriteCharacterString(UniversalTagNumber.IA5String, uri, new Asn1Tag(TagClass.ContextSpecific, 6));
        return w.Encode();
    }

    private static byte[] Integer(long value)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteInteger(value);
        return w.Encode();
    }

    /// <summary>A short SEQUENCE without its tag and length.</summary>
    private static byte[] Inside(byte[] sequence) => new AsnReader(sequence, AsnEncodingRules.DER).PeekContentBytes().ToArray();

    private static byte[] Header(byte tag, int length)
    {
        if (length < 128)
            return [tag, (byte)length];
        Span<byte> b = stackalloc byte[4];
        BinaryPrimitives.WriteInt32BigEndian(b, length);
        var digits = b.TrimStart((byte)0);
        return [tag, (byte)(0x80 | digits.Length), .. digits];
    }
}
