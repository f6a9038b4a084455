using System.Formats.Asn1;
using System.Numerics;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Revocation;

/// <summary>Reasons by their numbers (RFC 5280 section 5.3.1).</summary>
public enum RevocationReason
{
    Unspecified = 0,
    KeyCompromise = 1,
    CaCompromise = 2,
    AffiliationChanged = 3,
    Superseded = 4,
    CessationOfOperation = 5,
    CertificateHold = 6,
    PrivilegeWithdrawn = 9,
    AaCompromise = 10,
}

/// <summary>One revoked certificate.</summary>
public sealed record RevokedCertificate(SerialNumber Serial, DateTimeOffset At, RevocationReason Reason);

/// <summary>Writes and signs full CRLs (RFC 5280 section 5).</summary>
public static class CrlWriter
{
    /// <param name="issuer">The authority's subject name.</param>
    /// <param name="issuerKeyIdentifier">The authority's subject key identifier.</param>
    /// <param name="number">The CRL number, never used before by this authority.</param>
    public static byte[] Issue(DistinguishedName issuer, ReadOnlySpan<byte> issuerKeyIdentifier, long number, DateTimeOffset thisUpdate, DateTimeOffset nextUpdate,
        IReadOnlyCollection<RevokedCertificate> revoked, ISigner signer)
    {
        var w = new AsnWriter(AsnEncodingRules.DER, 512 + revoked.Count * 48);
        using (w.PushSequence())
        {
            w.WriteInteger(1);
            Signatures.WriteAlgorithm(w, signer.Scheme);
            w.WriteEncodedValue(issuer.Der.Span);
            CertificateWriter.WriteTime(w, thisUpdate);
            CertificateWriter.WriteTime(w, nextUpdate);
            if (revoked.Count > 0)
                using (w.PushSequence())
                    foreach (var r in revoked)
                        using (w.PushSequence())
                        {
                            w.WriteInteger(r.Serial.ToBytes());
                            CertificateWriter.WriteTime(w, r.At);
                            // Reason 0 is left out by rule (section 5.3.1).
                            if (r.Reason != RevocationReason.Unspecified)
                                using (w.PushSequence())
                                    Extensions.Write(w, Oids.ReasonCode, false, Enumerated((int)r.Reason));
                        }
            using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, 0)))
            using (w.PushSequence())
            {
                Extensions.Write(w, Oids.AuthorityKeyIdentifier, false, Extensions.WriteAuthorityKeyIdentifier(issuerKeyIdentifier));
                var n = new AsnWriter(AsnEncodingRules.DER);
                n.WriteInteger(number);
                Extensions.Write(w, Oids.CrlNumber, false, n.Encode());
            }
        }
        return Signatures.Seal(w.Encode(), signer);
    }

    private static byte[] Enumerated(int value) => [0x0A, 0x01, (byte)value];
}

/// <summary>A CRL as read.</summary>
public sealed class Crl
{
    private readonly Dictionary<string, RevokedCertificate> _revoked = [];

    public DistinguishedName Issuer { get; private init; } = null!;
    public DateTimeOffset ThisUpdate { get; private init; }
    public DateTimeOffset? NextUpdate { get; private init; }
    public BigInteger? Number { get; private set; }
    public ReadOnlyMemory<byte> AuthorityKeyIdentifier { get; private set; }
    public IReadOnlyCollection<RevokedCertificate> Revoked => _revoked.Values;
    private ReadOnlyMemory<byte> Tbs { get; init; }
    private SignatureScheme Scheme { get; init; }
    private ReadOnlyMemory<byte> Signature { get; init; }

    public RevokedCertificate? Find(SerialNumber serial) => _revoked.GetValueOrDefault(serial.Hex);

    public bool SignedBy(PublicKeyInfo key) => Signatures.Verify(key, Scheme, Tbs.Span, Signature.Span);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CrlMalformed"/>.</exception>
    public static Crl Read(ReadOnlyMemory<byte> der)
    {
        try
        {
            var outer = new AsnReader(der, AsnEncodingRules.DER);
            var list = outer.ReadSequence();
            outer.ThrowIfNotEmpty();
            var tbsDer = list.ReadEncodedValue();
            var scheme = Signatures.ReadAlgorithm(list);
            var signature = list.ReadBitString(out _);
            var tbs = new AsnReader(tbsDer, AsnEncodingRules.DER).ReadSequence();
            if (tbs.PeekTag() == Asn1Tag.Integer) tbs.ReadInteger();
            Signatures.ReadAlgorithm(tbs);
            var issuer = DistinguishedName.Read(tbs.ReadEncodedValue());
            var from = CertificateWriter.ReadTime(tbs);
            DateTimeOffset? to = tbs.HasData && (tbs.PeekTag() == Asn1Tag.UtcTime || tbs.PeekTag() == Asn1Tag.GeneralizedTime) ? CertificateWriter.ReadTime(tbs) : null;
            var crl = new Crl { Issuer = issuer, ThisUpdate = from, NextUpdate = to, Tbs = tbsDer, Scheme = scheme, Signature = signature };
            if (tbs.HasData && tbs.PeekTag() == Asn1Tag.Sequence)
            {
                var entries = tbs.ReadSequence();
                while (entries.HasData) crl.ReadEntry(entries.ReadSequence());
            }
            var tag = new Asn1Tag(TagClass.ContextSpecific, 0, true);
            if (tbs.HasData && tbs.PeekTag().HasSameClassAndValue(tag))
                foreach (var e in Extensions.ReadAll(tbs.ReadSequence(tag).ReadEncodedValue()))
                    if (e.Oid == Oids.CrlNumber) crl.Number = new AsnReader(e.Value, AsnEncodingRules.DER).ReadInteger();
                    else if (e.Oid == Oids.AuthorityKeyIdentifier) crl.AuthorityKeyIdentifier = Extensions.ReadAuthorityKeyIdentifier(e.Value);
            return crl;
        }
        catch (Exception e) when (e is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            throw new BeaconProblem(ProblemCode.CrlMalformed, "These bytes are not a well-formed CRL: " + e.Message, "Fetch the CRL again.", e);
        }
    }

    private void ReadEntry(AsnReader entry)
    {
        var serial = SerialNumber.FromBytes(entry.ReadIntegerBytes().Span);
        var at = CertificateWriter.ReadTime(entry);
        var reason = RevocationReason.Unspecified;
        if (entry.HasData)
            foreach (var e in Extensions.ReadAll(entry.ReadEncodedValue()))
                if (e.Oid == Oids.ReasonCode && e.Value.Length == 3) reason = (RevocationReason)e.Value.Span[2];
        _revoked[serial.Hex] = new(serial, at, reason);
    }
}
