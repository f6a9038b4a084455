using System.Formats.Asn1;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>Everything that goes into one X.509 certificate, decided already.</summary>
public sealed record CertificateContent
{
    public required SerialNumber Serial { get; init; }
    public required DistinguishedName Issuer { get; init; }
    public required DistinguishedName Subject { get; init; }
    public required PublicKeyInfo PublicKey { get; init; }

    /// <summary>Whole seconds, UTC.</summary>
    public required DateTimeOffset NotBefore { get; init; }

    /// <summary>Inclusive (RFC 5280 section 4.1.2.5). Whole seconds, UTC.</summary>
    public required DateTimeOffset NotAfter { get; init; }

    public IReadOnlyList<AlternativeName> Names { get; init; } = [];
    public KeyUsages KeyUsage { get; init; }
    public IReadOnlyList<string> ExtendedKeyUsage { get; init; } = [];
    public bool IsAuthority { get; init; }
    public int? PathLength { get; init; }

    /// <summary>For an authority: the names it may certify.</summary>
    public NameConstraints? Constraints { get; init; }

    /// <summary>The issuer's subject key identifier; empty leaves the extension out (a root's own certificate).</summary>
    public ReadOnlyMemory<byte> AuthorityKeyIdentifier { get; init; }

    public IReadOnlyList<string> CrlUris { get; init; } = [];
    public IReadOnlyList<string> IssuerUris { get; init; } = [];
    public IReadOnlyList<string> OcspUris { get; init; } = [];

    /// <summary>Where deltas of the issuer's list are found (RFC 5280 section 4.2.1.15).</summary>
    public IReadOnlyList<string> FreshestCrlUris { get; init; } = [];

    /// <summary>For a responder's own certificate: clients need not ask whether it is revoked (RFC 6960 section 4.2.2.2.1).</summary>
    public bool OcspNoCheck { get; init; }
}

/// <summary>Writes and signs certificates (RFC 5280 section 4.1), with our own encoder.</summary>
public static class CertificateWriter
{
    /// <summary>The complete certificate in DER.</summary>
    public static byte[] Issue(CertificateContent c, ISigner signer) => Signatures.Seal(ToBeSigned(c, signer.Scheme), signer);

    /// <summary>The TBSCertificate alone.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CertificateUnwritable"/>.</exception>
    public static byte[] ToBeSigned(CertificateContent c, SignatureScheme scheme)
    {
        CertificateGuard.Check(c);
        var w = new AsnWriter(AsnEncodingRules.DER, 1024);
        using (w.PushSequence())
        {
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
                w.WriteInteger(2);
            w.WriteInteger(c.Serial.ToBytes());
            Signatures.WriteAlgorithm(w, scheme);
            w.WriteEncodedValue(c.Issuer.Der.Span);
            using (w.PushSequence())
            {
                WriteTime(w, c.NotBefore);
                WriteTime(w, c.NotAfter);
            }
            w.WriteEncodedValue(c.Subject.Der.Span);
            w.WriteEncodedValue(c.PublicKey.Der.Span);
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 3)))
            using (w.PushSequence())
                WriteExtensions(w, c);
        }
        return w.Encode();
    }

    private static void WriteExtensions(AsnWriter w, CertificateContent c)
    {
        Extensions.Write(w, Oids.BasicConstraints, true, Extensions.WriteBasicConstraints(c.IsAuthority, c.PathLength));
        if (c.KeyUsage != KeyUsages.None)
            Extensions.Write(w, Oids.KeyUsage, true, Extensions.WriteKeyUsage(c.KeyUsage));
        if (c.ExtendedKeyUsage.Count > 0)
            Extensions.Write(w, Oids.ExtendedKeyUsage, false, Extensions.WriteExtendedKeyUsage(c.ExtendedKeyUsage));
        // With an empty subject the names carry the identity and are critical (section 4.2.1.6).
        if (c.Names.Count > 0)
            Extensions.Write(w, Oids.SubjectAltName, c.Subject.IsEmpty, Extensions.WriteAlternativeNames(c.Names));
        Extensions.Write(w, Oids.SubjectKeyIdentifier, false, Extensions.WriteSubjectKeyIdentifier(c.PublicKey.KeyIdentifier()));
        if (!c.AuthorityKeyIdentifier.IsEmpty)
            Extensions.Write(w, Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier(c.AuthorityKeyIdentifier.Span));
        if (c.Constraints is { } bound)
            Extensions.Write(w, Oids.NameConstraints, true, bound.Write());
        if (c.CrlUris.Count > 0)
            Extensions.Write(w, Oids.CrlDistributionPoints, false, Extensions.WriteCrlDistributionPoints(c.CrlUris));
        if (c.FreshestCrlUris.Count > 0)
            Extensions.Write(w, Oids.FreshestCrl, false, Extensions.WriteCrlDistributionPoints(c.FreshestCrlUris));
        var access = c.IssuerUris.Select(u => (Oids.CaIssuers, u)).Concat(c.OcspUris.Select(u => (Oids.Ocsp, u))).ToList();
        if (access.Count > 0)
            Extensions.Write(w, Oids.AuthorityInfoAccess, false, Extensions.WriteAuthorityInfoAccess(access));
        if (c.OcspNoCheck)
            Extensions.Write(w, Oids.OcspNoCheck, false, [0x05, 0x00]);
    }

    /// <summary>UTCTime through 2049, GeneralizedTime from 2050 (RFC 5280 section 4.1.2.5).</summary>
    public static void WriteTime(AsnWriter w, DateTimeOffset t)
    {
        if (t.UtcDateTime.Year < 2050)
            w.WriteUtcTime(t);
        else
            w.WriteGeneralizedTime(t, omitFractionalSeconds: true);
    }

    /// <summary>Whether the time that is read next has a fraction of a second, which RFC 5280 section 4.1.2.5.2 forbids.</summary>
    internal static bool HasFraction(AsnReader r) =>
        r.HasData && r.PeekTag() == Asn1Tag.GeneralizedTime && r.PeekContentBytes().Span.Contains((byte)'.');

    public static DateTimeOffset ReadTime(AsnReader r) => r.PeekTag() == Asn1Tag.UtcTime ? r.ReadUtcTime(2049) : r.ReadGeneralizedTime();
}
