using System.Formats.Asn1;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>Message bodies of EST (RFC 7030).</summary>
public static class EstMessages
{
    /// <summary>
    /// CsrAttrs (RFC 7030 section 4.5.2, as RFC 9908 explains it): the wished key kinds as attributes, and a SHA-256 signature by OID.
    /// </summary>
    public static byte[] CsrAttributes(IReadOnlyList<KeySpec> keys)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            if (keys.Any(k => k.Algorithm == KeyAlgorithm.Ec))
                w.WriteObjectIdentifier(Oids.Sha256Ecdsa);
            if (keys.Any(k => k.Algorithm == KeyAlgorithm.Rsa))
                w.WriteObjectIdentifier(Oids.Sha256Rsa);
            if (keys.FirstOrDefault(k => k.Algorithm == KeyAlgorithm.Ec) is { } ec)
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(Oids.EcPublicKey);
                    using (w.PushSetOf())
                        w.WriteObjectIdentifier(
                            ec.Bits switch
                            {
                                384 => Oids.P384,
                                521 => Oids.P521,
                                _ => Oids.P256,
                            }
                        );
                }
            if (keys.FirstOrDefault(k => k.Algorithm == KeyAlgorithm.Rsa) is { } rsa)
                using (w.PushSequence())
                {
                    w.WriteObjectIdentifier(Oids.Rsa);
                    using (w.PushSetOf())
                        w.WriteInteger(rsa.Bits);
                }
        }
        return w.Encode();
    }

    /// <summary>Base64 in lines of 76, as EST bodies travel (RFC 7030 section 4, RFC 8951 section 3); line feeds alone, so that every decoder takes it.</summary>
    public static string ToBody(ReadOnlySpan<byte> der) =>
        Convert.ToBase64String(der, Base64FormattingOptions.InsertLineBreaks).ReplaceLineEndings("\n") + "\n";
}
