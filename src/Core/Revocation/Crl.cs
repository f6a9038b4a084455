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

    /// <summary>Only in a delta: what stood on the full list is good again, or has ended.</summary>
    RemoveFromCrl = 8,
    PrivilegeWithdrawn = 9,
    AaCompromise = 10,
}

/// <summary>One revoked certificate.</summary>
public sealed record RevokedCertificate(SerialNumber Serial, DateTimeOffset At, RevocationReason Reason);

/// <summary>A CRL as read: full or delta.</summary>
public sealed class Crl
{
    /// <summary>Larger lists are refused.</summary>
    public const int MostBytes = 256 << 20;

    private readonly Dictionary<string, RevokedCertificate> _revoked = [];

    // An entry may be for another issuer's certificate, or for something else that is not understood: then nobody knows what the list says.
    private string? _criticalEntry;

    public DistinguishedName Issuer { get; private init; } = null!;
    public DateTimeOffset ThisUpdate { get; private init; }
    public DateTimeOffset? NextUpdate { get; private init; }
    public BigInteger? Number { get; private set; }

    /// <summary>Set in a delta: the number of the full list it goes on from.</summary>
    public BigInteger? BaseNumber { get; private set; }
    public ReadOnlyMemory<byte> AuthorityKeyIdentifier { get; private set; }

    /// <summary>The distribution points that the list says it is for (RFC 5280 section 5.2.5); empty when it does not say.</summary>
    public IReadOnlyList<string> PointUris { get; private set; } = [];

    /// <summary>Where deltas are found.</summary>
    public IReadOnlyList<string> FreshestUris { get; private set; } = [];

    /// <summary>Critical extensions that are not understood: the list must not be relied on (section 5.2).</summary>
    public IReadOnlyList<string> UnknownCritical { get; private set; } = [];
    public IReadOnlyCollection<RevokedCertificate> Revoked => _revoked.Values;
    private ReadOnlyMemory<byte> Tbs { get; init; }
    private SignatureScheme Scheme { get; init; }
    private ReadOnlyMemory<byte> Signature { get; init; }

    /// <summary>The entry for a serial as this list alone has it; in a delta it may be <see cref="RevocationReason.RemoveFromCrl"/>.</summary>
    public RevokedCertificate? Find(SerialNumber serial) => _revoked.GetValueOrDefault(serial.Hex);

    /// <summary>The state of a serial by this full list and a delta that fits it (section 5.2.4); null when it is not revoked.</summary>
    public RevokedCertificate? Find(SerialNumber serial, Crl? delta)
    {
        if (delta is not null && Fits(delta) && delta.Find(serial) is { } newer)
            return newer.Reason == RevocationReason.RemoveFromCrl ? null : newer;
        return Find(serial);
    }

    /// <summary>Whether a delta may be read together with this full list: same issuer, key and scope, a base not newer than this list, itself not older.</summary>
    public bool Fits(Crl delta) =>
        BaseNumber is null
        && delta.BaseNumber is { } from
        && Number is { } number
        && from <= number
        && delta.Number >= number
        && delta.Issuer.Matches(Issuer)
        && delta.AuthorityKeyIdentifier.Span.SequenceEqual(AuthorityKeyIdentifier.Span)
        && delta.PointUris.SequenceEqual(PointUris);

    public bool SignedBy(PublicKeyInfo key) => Signatures.Verify(key, Scheme, Tbs.Span, Signature.Span);

    /// <summary>Why the list says nothing about a certificate, or null when it does (RFC 5280 sections 5.2 and 6.3.3).</summary>
    /// <param name="signers">Certificates whose keys may have signed it.</param>
    public string? Objection(IReadOnlyList<X509> signers, X509 about, DateTimeOffset now)
    {
        if (UnknownCritical.Count > 0)
            return $"The list has the critical extension {UnknownCritical[0]}, which is not understood.";
        if (ThisUpdate > now || NextUpdate is null || NextUpdate < now)
            return $"The list is of {ThisUpdate:u} and was good until {NextUpdate:u}.";
        if (
            PointUris.Count > 0
            && about.CrlUris.Count > 0
            && !PointUris.Intersect(about.CrlUris).Any()
            && !PointUris.Intersect(about.FreshestCrlUris).Any()
        )
            return "The list is for another distribution point.";
        var signer = signers.FirstOrDefault(s => s.Subject.Matches(Issuer) && SignedBy(s.PublicKey));
        if (signer is null)
            return "The list is not signed by this issuer's key.";
        return signer.KeyUsage is { } usage && !usage.HasFlag(KeyUsages.CrlSign)
            ? "The list's signer may not sign lists by its key usage."
            : null;
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CrlMalformed"/> or <see cref="ProblemCode.TooLarge"/>.</exception>
    public static Crl Read(ReadOnlyMemory<byte> der)
    {
        if (der.Length > MostBytes)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"A CRL of {der.Length} bytes; {MostBytes} are the most that is read.",
                "Partition the list, or fetch its delta."
            );
        try
        {
            var outer = new AsnReader(der, AsnEncodingRules.DER);
            var list = outer.ReadSequence();
            outer.ThrowIfNotEmpty();
            var tbsDer = list.ReadEncodedValue();
            var algorithm = list.PeekEncodedValue();
            var scheme = Signatures.ReadAlgorithm(list);
            var signature = list.ReadBitString(out _);
            list.ThrowIfNotEmpty();
            var tbs = new AsnReader(tbsDer, AsnEncodingRules.DER).ReadSequence();
            if (tbs.PeekTag() == Asn1Tag.Integer)
                tbs.ReadInteger();
            if (!tbs.ReadEncodedValue().Span.SequenceEqual(algorithm.Span))
                throw new AsnContentException("The two algorithm identifiers differ.");
            var issuer = DistinguishedName.Read(tbs.ReadEncodedValue());
            var from = CertificateWriter.ReadTime(tbs);
            DateTimeOffset? to =
                tbs.HasData && (tbs.PeekTag() == Asn1Tag.UtcTime || tbs.PeekTag() == Asn1Tag.GeneralizedTime)
                    ? CertificateWriter.ReadTime(tbs)
                    : null;
            var crl = new Crl
            {
                Issuer = issuer,
                ThisUpdate = from,
                NextUpdate = to,
                Tbs = tbsDer,
                Scheme = scheme,
                Signature = signature,
            };
            crl.ReadRest(tbs);
            return crl;
        }
        catch (Exception e) when (e is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            throw new BeaconProblem(
                ProblemCode.CrlMalformed,
                "These bytes are not a well-formed CRL: " + e.Message,
                "Fetch the CRL again.",
                e
            );
        }
    }

    /// <summary>Entries and extensions (RFC 5280 section 5.1.2.6 and 7).</summary>
    private void ReadRest(AsnReader tbs)
    {
        if (tbs.HasData && tbs.PeekTag() == Asn1Tag.Sequence)
        {
            var entries = tbs.ReadSequence();
            while (entries.HasData)
                ReadEntry(entries.ReadSequence());
        }
        var tag = new Asn1Tag(TagClass.ContextSpecific, 0, true);
        if (tbs.HasData && tbs.PeekTag().HasSameClassAndValue(tag))
            Take(Extensions.ReadAll(tbs.ReadSequence(tag).ReadEncodedValue()));
        tbs.ThrowIfNotEmpty();
        if (_criticalEntry is { } critical)
            UnknownCritical = [.. UnknownCritical, critical];
    }

    private void Take(List<RawExtension> extensions)
    {
        var unknown = new List<string>();
        foreach (var e in extensions)
            switch (e.Oid)
            {
                case Oids.CrlNumber:
                    Number = new AsnReader(e.Value, AsnEncodingRules.DER).ReadInteger();
                    break;
                case Oids.DeltaCrlIndicator:
                    BaseNumber = new AsnReader(e.Value, AsnEncodingRules.DER).ReadInteger();
                    break;
                case Oids.AuthorityKeyIdentifier:
                    AuthorityKeyIdentifier = Extensions.ReadAuthorityKeyIdentifier(e.Value);
                    break;
                case Oids.FreshestCrl:
                    FreshestUris = Extensions.ReadCrlDistributionPoints(e.Value);
                    break;
                case Oids.IssuingDistributionPoint:
                    PointUris = Extensions.ReadIssuingDistributionPoint(e.Value, out var limited);
                    // Lists for some reasons, or for some kinds of certificates only, are not read as if they were whole.
                    if (limited)
                        unknown.Add(e.Oid);
                    break;
                default:
                    if (e.Critical)
                        unknown.Add(e.Oid);
                    break;
            }
        UnknownCritical = unknown;
    }

    private void ReadEntry(AsnReader entry)
    {
        var serial = SerialNumber.FromBytes(entry.ReadIntegerBytes().Span);
        var at = CertificateWriter.ReadTime(entry);
        var reason = RevocationReason.Unspecified;
        if (entry.HasData)
        {
            foreach (var e in Extensions.ReadAll(entry.ReadEncodedValue()))
                if (e.Oid == Oids.ReasonCode && e.Value.Length == 3)
                    reason = (RevocationReason)e.Value.Span[2];
                else if (e.Critical)
                    _criticalEntry ??= e.Oid;
            entry.ThrowIfNotEmpty();
        }
        _revoked[serial.Hex] = new(serial, at, reason);
    }
}
