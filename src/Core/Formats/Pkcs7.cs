using System.Formats.Asn1;

namespace OrderlyBeacon.Core.Formats;

/// <summary>Certs-only PKCS#7: a degenerate SignedData (RFC 5652 section 5.1, RFC 7030 section 4.1.3).</summary>
public static class Pkcs7
{
    private static readonly Asn1Tag Zero = new(TagClass.ContextSpecific, 0, true);

    public static byte[] WriteCertificates(IEnumerable<ReadOnlyMemory<byte>> certificates)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            w.WriteObjectIdentifier(Oids.SignedData);
            using (w.PushSequence(Zero))
            using (w.PushSequence())
            {
                w.WriteInteger(1);
                using (w.PushSetOf()) { }
                using (w.PushSequence())
                    w.WriteObjectIdentifier(Oids.Data);
                // Not sorted as DER would have it: readers everywhere expect the leaf first, and RFC 5652 allows BER here.
                using (w.PushSequence(Zero))
                    foreach (var c in certificates)
                        w.WriteEncodedValue(c.Span);
                using (w.PushSetOf()) { }
            }
        }
        return w.Encode();
    }

    /// <summary>The certificates inside, in the order they stand.</summary>
    /// <exception cref="AsnContentException">It is not a SignedData.</exception>
    public static IReadOnlyList<ReadOnlyMemory<byte>> ReadCertificates(ReadOnlyMemory<byte> ber)
    {
        var outer = new AsnReader(ber, AsnEncodingRules.BER);
        var info = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        if (info.ReadObjectIdentifier() != Oids.SignedData)
            throw new AsnContentException("It is not signed data.");
        var signed = info.ReadSequence(Zero).ReadSequence();
        signed.ReadInteger();
        signed.ReadSetOf(skipSortOrderValidation: true);
        signed.ReadSequence();
        var found = new List<ReadOnlyMemory<byte>>();
        if (signed.HasData && signed.PeekTag().HasSameClassAndValue(Zero))
        {
            var set = signed.ReadSetOf(skipSortOrderValidation: true, Zero);
            while (set.HasData && found.Count < 1000)
                found.Add(set.ReadEncodedValue());
        }
        return found;
    }
}
