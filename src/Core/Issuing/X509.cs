using System.Formats.Asn1;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>An X.509 certificate as read (RFC 5280 section 4.1). Immutable; texts in it come from outside and are not trusted.</summary>
public sealed class X509
{
    private readonly Dictionary<string, RawExtension> _extensions = [];

    private X509(ReadOnlyMemory<byte> der) => Der = der;

    public ReadOnlyMemory<byte> Der { get; }
    public ReadOnlyMemory<byte> Tbs { get; private init; }
    public SignatureScheme Scheme { get; private init; }
    public ReadOnlyMemory<byte> Signature { get; private init; }
    public SerialNumber Serial { get; private init; }
    public DistinguishedName Issuer { get; private init; } = null!;
    public DistinguishedName Subject { get; private init; } = null!;
    public DateTimeOffset NotBefore { get; private init; }
    public DateTimeOffset NotAfter { get; private init; }
    public PublicKeyInfo PublicKey { get; private init; } = null!;
    public IReadOnlyCollection<RawExtension> RawExtensions => _extensions.Values;

    public IReadOnlyList<AlternativeName> Names { get; private set; } = [];
    public KeyUsages? KeyUsage { get; private set; }
    public IReadOnlyList<string>? ExtendedKeyUsage { get; private set; }
    public bool IsAuthority { get; private set; }
    public int? PathLength { get; private set; }
    public NameConstraints? Constraints { get; private set; }
    public ReadOnlyMemory<byte> SubjectKeyIdentifier { get; private set; }
    public ReadOnlyMemory<byte> AuthorityKeyIdentifier { get; private set; }
    public IReadOnlyList<string> CrlUris { get; private set; } = [];
    public IReadOnlyList<string> FreshestCrlUris { get; private set; } = [];
    public IReadOnlyList<(string Method, string Uri)> Access { get; private set; } = [];

    public Thumbprint Thumbprint => Thumbprint.Of(Der.Span);

    public bool IsSelfIssued => Subject.Der.Span.SequenceEqual(Issuer.Der.Span);

    /// <summary>Whether the signature was made with the given key.</summary>
    public bool SignedBy(PublicKeyInfo key) => Signatures.Verify(key, Scheme, Tbs.Span, Signature.Span);

    /// <summary>Self-issued and signed with its own key.</summary>
    public bool IsSelfSigned => IsSelfIssued && SignedBy(PublicKey);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CertificateMalformed"/> or <see cref="ProblemCode.TooLarge"/>.</exception>
    public static X509 Read(ReadOnlyMemory<byte> der)
    {
        if (der.Length > 1 << 17)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"A certificate of {der.Length} bytes; 128 KiB is the most that is read.",
                "Give the certificate alone."
            );
        try
        {
            return ReadStrict(der);
        }
        catch (Exception e) when (e is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            throw new BeaconProblem(
                ProblemCode.CertificateMalformed,
                "These bytes are not a well-formed X.509 certificate: " + e.Message,
                "Export the certificate again in DER or PEM.",
                e
            );
        }
    }

    private static X509 ReadStrict(ReadOnlyMemory<byte> der)
    {
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var cert = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        var tbsDer = cert.ReadEncodedValue();
        var outerScheme = Signatures.ReadAlgorithm(cert);
        var signature = cert.ReadBitString(out _);
        cert.ThrowIfNotEmpty();

        var tbs = new AsnReader(tbsDer, AsnEncodingRules.DER).ReadSequence();
        var version = new Asn1Tag(TagClass.ContextSpecific, 0);
        if (tbs.PeekTag().HasSameClassAndValue(version))
            tbs.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 0, true));
        var serial = SerialNumber.FromBytes(tbs.ReadIntegerBytes().Span);
        if (Signatures.ReadAlgorithm(tbs) != outerScheme)
            throw new AsnContentException("The two algorithm identifiers differ.");
        var issuer = DistinguishedName.Read(tbs.ReadEncodedValue());
        var validity = tbs.ReadSequence();
        var notBefore = CertificateWriter.ReadTime(validity);
        var notAfter = CertificateWriter.ReadTime(validity);
        var subject = DistinguishedName.Read(tbs.ReadEncodedValue());
        var spki = PublicKeyInfo.Read(tbs.ReadEncodedValue());
        var x = new X509(der.ToArray())
        {
            Tbs = tbsDer,
            Scheme = outerScheme,
            Signature = signature,
            Serial = serial,
            Issuer = issuer,
            Subject = subject,
            NotBefore = notBefore,
            NotAfter = notAfter,
            PublicKey = spki,
        };
        while (tbs.HasData)
        {
            var tag = tbs.PeekTag();
            if (tag is { TagClass: TagClass.ContextSpecific, TagValue: 3 })
                foreach (var e in Extensions.ReadAll(tbs.ReadSequence(tag).ReadEncodedValue()))
                    if (!x._extensions.TryAdd(e.Oid, e))
                        throw new AsnContentException($"The extension {e.Oid} stands twice.");
                    else
                        x.Take(e);
            else
                tbs.ReadEncodedValue();
        }
        return x;
    }

    private void Take(RawExtension e)
    {
        switch (e.Oid)
        {
            case Oids.SubjectAltName:
                Names = Extensions.ReadAlternativeNames(e.Value);
                break;
            case Oids.KeyUsage:
                KeyUsage = Extensions.ReadKeyUsage(e.Value);
                break;
            case Oids.ExtendedKeyUsage:
                ExtendedKeyUsage = Extensions.ReadExtendedKeyUsage(e.Value);
                break;
            case Oids.BasicConstraints:
                (IsAuthority, PathLength) = Extensions.ReadBasicConstraints(e.Value);
                break;
            case Oids.SubjectKeyIdentifier:
                SubjectKeyIdentifier = new AsnReader(e.Value, AsnEncodingRules.DER).ReadOctetString();
                break;
            case Oids.AuthorityKeyIdentifier:
                AuthorityKeyIdentifier = Extensions.ReadAuthorityKeyIdentifier(e.Value);
                break;
            case Oids.CrlDistributionPoints:
                CrlUris = Extensions.ReadCrlDistributionPoints(e.Value);
                break;
            case Oids.NameConstraints:
                Constraints = NameConstraints.Read(e.Value);
                break;
            case Oids.FreshestCrl:
                FreshestCrlUris = Extensions.ReadCrlDistributionPoints(e.Value);
                break;
            case Oids.AuthorityInfoAccess:
                Access = Extensions.ReadAuthorityInfoAccess(e.Value);
                break;
        }
    }
}
