using System.Formats.Asn1;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>A part of a certificate that is not as the standard has it.</summary>
/// <param name="Part">The extension's identifier, or a field's name.</param>
/// <param name="Matters">Clients rely on that part, and refuse the certificate for it.</param>
public sealed record Oddity(string Part, string What, bool Matters);

/// <summary>An X.509 certificate as read (RFC 5280 section 4.1). Immutable; texts in it come from outside and are not trusted.</summary>
public sealed class X509
{
    // What clients process, whether or not it is marked critical; policies are read by nobody who asks for a server.
    private static readonly HashSet<string> MayBeCritical =
    [
        Oids.SubjectAltName,
        Oids.KeyUsage,
        Oids.ExtendedKeyUsage,
        Oids.BasicConstraints,
        Oids.NameConstraints,
        Oids.CrlDistributionPoints,
        Oids.CertificatePolicies,
        Oids.PolicyConstraints,
        Oids.PolicyMappings,
        Oids.InhibitAnyPolicy,
    ];

    private readonly Dictionary<string, RawExtension> _extensions = [];
    private readonly List<Oddity> _oddities = [];
    private readonly List<string> _unknownCritical = [];

    private X509(ReadOnlyMemory<byte> der) => Der = der;

    public ReadOnlyMemory<byte> Der { get; }
    public ReadOnlyMemory<byte> Tbs { get; private init; }

    /// <summary>1 or 3, as people count; version 1 has no extensions.</summary>
    public int Version { get; private init; } = 1;

    /// <summary>Parts that are not as the standard has them. The rest was read all the same; who relies on a part looks here first.</summary>
    public IReadOnlyList<Oddity> Oddities => _oddities;

    /// <summary>Critical extensions that nobody here processes: the certificate must not be relied on (RFC 5280 section 4.2).</summary>
    public IReadOnlyList<string> UnknownCritical => _unknownCritical;

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

    public bool IsSelfIssued => Subject.Matches(Issuer);

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
        var outerAlgorithm = cert.PeekEncodedValue();
        var outerScheme = Signatures.ReadAlgorithm(cert);
        var signature = cert.ReadBitString(out _);
        cert.ThrowIfNotEmpty();

        var tbs = new AsnReader(tbsDer, AsnEncodingRules.DER).ReadSequence();
        var version = new Asn1Tag(TagClass.ContextSpecific, 0);
        var number = 1;
        if (tbs.PeekTag().HasSameClassAndValue(version))
            number = tbs.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 0, true)).TryReadInt32(out var v) ? v + 1 : 0;
        var serial = SerialNumber.FromBytes(tbs.ReadIntegerBytes().Span);
        if (!tbs.ReadEncodedValue().Span.SequenceEqual(outerAlgorithm.Span))
            throw new AsnContentException("The two algorithm identifiers differ.");
        var issuer = DistinguishedName.Read(tbs.ReadEncodedValue());
        var validity = tbs.ReadSequence();
        var fractions = CertificateWriter.HasFraction(validity);
        var notBefore = CertificateWriter.ReadTime(validity);
        fractions |= CertificateWriter.HasFraction(validity);
        var notAfter = CertificateWriter.ReadTime(validity);
        var subject = DistinguishedName.Read(tbs.ReadEncodedValue());
        var spki = PublicKeyInfo.Read(tbs.ReadEncodedValue());
        var x = new X509(der.ToArray())
        {
            Tbs = tbsDer,
            Version = number,
            Scheme = outerScheme,
            Signature = signature,
            Serial = serial,
            Issuer = issuer,
            Subject = subject,
            NotBefore = notBefore,
            NotAfter = notAfter,
            PublicKey = spki,
        };
        if (fractions)
            x._oddities.Add(new("validity", "a date has a fraction of a second (RFC 5280 section 4.1.2.5.2 forbids it)", Matters: true));
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
        if (e.Critical && !MayBeCritical.Contains(e.Oid))
            _unknownCritical.Add(e.Oid);
        try
        {
            TakeKnown(e);
        }
        catch (Exception x) when (x is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            // What a judgement rests on must be readable; a pointer to further files may be as odd as it likes.
            _oddities.Add(new(e.Oid, x.Message, Matters: e.Critical || Decisive.Contains(e.Oid)));
        }
    }

    private static readonly HashSet<string> Decisive =
    [
        Oids.SubjectAltName,
        Oids.KeyUsage,
        Oids.ExtendedKeyUsage,
        Oids.BasicConstraints,
        Oids.NameConstraints,
    ];

    private void TakeKnown(RawExtension e)
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
