using System.Formats.Asn1;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Requests;

/// <summary>
/// A PKCS#10 request (RFC 2986), read. To use one: <see cref="Read"/> it, look whether any of <see cref="Findings"/> is fatal
/// (<see cref="ThrowIfUnusable"/>), then let a profile decide about <see cref="Names"/>.
/// </summary>
public sealed class CertificationRequest
{
    /// <summary>The most bytes that are read, as text or binary.</summary>
    public const int MaxBytes = 64 * 1024;
    private const int MaxNames = 250;

    private CertificationRequest(ReadOnlyMemory<byte> der, DistinguishedName subject, PublicKeyInfo key, SignatureScheme scheme)
    {
        (Der, Subject, PublicKey, Scheme) = (der, subject, key, scheme);
    }

    public ReadOnlyMemory<byte> Der { get; }
    public DistinguishedName Subject { get; }
    public PublicKeyInfo PublicKey { get; }
    public SignatureScheme Scheme { get; }

    /// <summary>Well-formed alternative names, canonical, each once, in the order of the request.</summary>
    public IReadOnlyList<AlternativeName> Names { get; private set; } = [];

    public IReadOnlyList<Finding> Findings { get; private set; } = [];

    /// <summary>In an authority's request: the names that it wants to be bound to.</summary>
    public NameConstraints? AskedBounds { get; private set; }

    /// <summary>Makes and signs a request.</summary>
    /// <param name="bounds">For an authority: the names that it wants to be bound to (RFC 5280 section 4.2.1.10).</param>
    public static byte[] Write(
        DistinguishedName subject,
        IReadOnlyList<AlternativeName> names,
        ISigner signer,
        NameConstraints? bounds = null
    )
    {
        var w = new AsnWriter(AsnEncodingRules.DER, 512);
        using (w.PushSequence())
        {
            w.WriteInteger(0);
            w.WriteEncodedValue(subject.Der.Span);
            w.WriteEncodedValue(signer.PublicKey.Der.Span);
            using (w.PushSetOf(new Asn1Tag(TagClass.ContextSpecific, 0)))
                if (names.Count > 0 || bounds is not null)
                    using (w.PushSequence())
                    {
                        w.WriteObjectIdentifier(Oids.ExtensionRequest);
                        using (w.PushSetOf())
                        using (w.PushSequence())
                        {
                            if (names.Count > 0)
                                Extensions.Write(w, Oids.SubjectAltName, subject.IsEmpty, Extensions.WriteAlternativeNames(names));
                            if (bounds is not null)
                                Extensions.Write(w, Oids.NameConstraints, true, bounds.Write());
                        }
                    }
        }
        return Signatures.Seal(w.Encode(), signer);
    }

    /// <summary>Reads PEM (with pasted noise), bare Base64 or DER, and checks the signature once.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooLarge"/>, <see cref="ProblemCode.FileNotRecognised"/> or <see cref="ProblemCode.RequestMalformed"/>.</exception>
    public static CertificationRequest Read(ReadOnlySpan<byte> input)
    {
        if (input.Length > MaxBytes)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"The request is {input.Length / 1024} KiB large; {MaxBytes / 1024} KiB is the most.",
                "Give the certification request alone; split very many names over several certificates."
            );
        var file = Armor.Read(FileText.ToAscii(input));
        var block =
            file.Blocks.FirstOrDefault(b => b.Label is "" or Armor.CertificateRequest or "NEW CERTIFICATE REQUEST")
            ?? throw new BeaconProblem(
                ProblemCode.RequestMalformed,
                $"This holds a {file.Blocks[0].Label.ToLowerInvariant()}, not a certification request.",
                "Give the file that was made together with the private key, often ending in .csr."
            );
        var findings = file.Notes.Select(n => Requests.Findings.Of(FindingCode.TextualNoise, Armor.Describe(n))).ToList();
        try
        {
            return ReadStrict(block.Der, findings);
        }
        catch (Exception e) when (e is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            throw new BeaconProblem(
                ProblemCode.RequestMalformed,
                "These bytes are not a well-formed certification request: it is cut short or altered. (" + e.Message + ")",
                "Make the request again, or copy the whole file.",
                e
            );
        }
    }

    private static CertificationRequest ReadStrict(byte[] der, List<Finding> findings)
    {
        AsnDecoder.ReadSequence(der, AsnEncodingRules.DER, out _, out _, out var total);
        if (total < der.Length)
        {
            findings.Add(Requests.Findings.Of(FindingCode.TrailingData, (der.Length - total).ToString()));
            der = der[..total];
        }
        var request = new AsnReader(der, AsnEncodingRules.DER).ReadSequence();
        var infoDer = request.ReadEncodedValue();
        var scheme = Signatures.ReadAlgorithm(request);
        var signature = request.ReadBitString(out _);
        request.ThrowIfNotEmpty();

        var info = new AsnReader(infoDer, AsnEncodingRules.DER).ReadSequence();
        if (!info.TryReadInt32(out var version) || version != 0)
            throw new AsnContentException("The version is not 1.");
        var subject = DistinguishedName.Read(info.ReadEncodedValue());
        var key = PublicKeyInfo.Read(info.ReadEncodedValue());
        var r = new CertificationRequest(der, subject, key, scheme);

        JudgeKey(key, findings);
        if (scheme is SignatureScheme.Sha1Rsa or SignatureScheme.Sha1Ecdsa)
            findings.Add(Requests.Findings.Of(FindingCode.WeakHash));
        else if (scheme is SignatureScheme.Unknown)
            findings.Add(Requests.Findings.Of(FindingCode.UnknownSignature));
        else if (
            !findings.Any(f => f.Code is FindingCode.UnknownKey or FindingCode.LargeExponent)
            && !Signatures.Verify(key, scheme, infoDer.Span, signature)
        )
            findings.Add(Requests.Findings.Of(FindingCode.BadProofOfPossession));
        if (subject.Relative.Any(rdn => rdn.Any(a => HiddenText.In(a.Value) is not null)))
            findings.Add(Requests.Findings.Of(FindingCode.ControlCharacter));

        r.ReadAttributes(info, findings);
        if (r.Names.Count == 0 && !findings.Any(f => f.Code is FindingCode.MalformedName or FindingCode.UnsupportedName))
            findings.Add(Requests.Findings.Of(FindingCode.NoAlternativeName));
        else if (
            subject.CommonName is { } cn
            && !r.Names.Any(n => n.Value.Equals(cn, StringComparison.OrdinalIgnoreCase))
            && LooksLikeHost(cn)
        )
            findings.Add(Requests.Findings.Of(FindingCode.CommonNameNotAmongNames, cn));
        r.Findings = findings;
        return r;
    }

    private static bool LooksLikeHost(string cn) => cn.Contains('.') && AlternativeName.TryParse(cn, out _, out _);

    private static void JudgeKey(PublicKeyInfo key, List<Finding> findings)
    {
        var spec = key.Spec;
        if (spec.Algorithm is KeyAlgorithm.Unknown or KeyAlgorithm.Ed25519 || (spec.Algorithm == KeyAlgorithm.Ec && spec.Bits == 0))
            findings.Add(Requests.Findings.Of(FindingCode.UnknownKey));
        else if (spec.Algorithm == KeyAlgorithm.Rsa && spec.Bits < 2048)
            findings.Add(Requests.Findings.Of(FindingCode.WeakKey, spec.ToString()));
        // Very large numbers would make checking a signature slow on purpose.
        else if (spec.Algorithm == KeyAlgorithm.Rsa && (spec.Bits > 8192 || key.ExponentBits > 64))
            findings.Add(Requests.Findings.Of(FindingCode.LargeExponent));
        else if (spec.Algorithm == KeyAlgorithm.Rsa && key.ExponentBits < 17)
            findings.Add(Requests.Findings.Of(FindingCode.SmallExponent));
    }

    private void ReadAttributes(AsnReader info, List<Finding> findings)
    {
        var tag = new Asn1Tag(TagClass.ContextSpecific, 0, true);
        if (!info.HasData)
            return;
        var attributes = info.ReadSetOf(skipSortOrderValidation: true, tag);
        info.ThrowIfNotEmpty();
        List<RawExtension>? extensions = null;
        while (attributes.HasData)
        {
            var attribute = attributes.ReadSequence();
            var oid = attribute.ReadObjectIdentifier();
            var values = attribute.ReadSetOf(skipSortOrderValidation: true);
            if (oid != Oids.ExtensionRequest)
                continue;
            if (extensions is not null)
            {
                findings.Add(Requests.Findings.Of(FindingCode.SeveralAttributes));
                return;
            }
            extensions = Extensions.ReadAll(values.ReadEncodedValue());
        }
        var seen = new HashSet<string>();
        foreach (var e in extensions ?? [])
        {
            if (!seen.Add(e.Oid))
            {
                findings.Add(Requests.Findings.Of(FindingCode.DuplicateExtension, e.Oid));
                continue;
            }
            try
            {
                switch (e.Oid)
                {
                    case Oids.SubjectAltName:
                        TakeNames(Extensions.ReadAlternativeNames(e.Value), findings);
                        break;
                    case Oids.BasicConstraints when Extensions.ReadBasicConstraints(e.Value).Authority:
                        findings.Add(Requests.Findings.Of(FindingCode.AsksToBeAuthority));
                        break;
                    case Oids.NameConstraints:
                        AskedBounds = NameConstraints.Read(e.Value);
                        break;
                    case Oids.BasicConstraints or Oids.KeyUsage or Oids.ExtendedKeyUsage or Oids.SubjectKeyIdentifier:
                        break;
                    default:
                        findings.Add(Requests.Findings.Of(FindingCode.UnknownExtension, e.Oid));
                        break;
                }
            }
            catch (AsnContentException)
            {
                findings.Add(Requests.Findings.Of(FindingCode.MalformedExtension, e.Oid));
            }
        }
    }

    private void TakeNames(List<AlternativeName> raw, List<Finding> findings)
    {
        if (raw.Count > MaxNames)
        {
            findings.Add(Requests.Findings.Of(FindingCode.TooManyNames, raw.Count.ToString()));
            return;
        }
        var names = new List<AlternativeName>();
        foreach (var n in raw)
        {
            if (n.Kind is not (NameKind.Dns or NameKind.Ip))
            {
                findings.Add(Requests.Findings.Of(FindingCode.UnsupportedName, n.ToString()));
                continue;
            }
            var clean = n;
            if (n.Kind == NameKind.Dns)
            {
                // A certificate's dNSName must be the A-label form already; blanks or letters over 127 are not mended here.
                if (!n.Value.All(char.IsAscii) || n.Value.Any(char.IsWhiteSpace) || !DnsName.TryParse(n.Value, out var dns, out _))
                {
                    findings.Add(
                        Requests.Findings.Of(
                            FindingCode.MalformedName,
                            string.Concat(n.Value.Take(80).Select(c => char.IsControl(c) ? '?' : c))
                        )
                    );
                    continue;
                }
                clean = AlternativeName.Dns(dns!);
            }
            if (names.Contains(clean))
                findings.Add(Requests.Findings.Of(FindingCode.DuplicateName, clean.Value));
            else
                names.Add(clean);
        }
        Names = names;
    }

    /// <summary>Ends here when nothing can be issued for the request.</summary>
    /// <exception cref="BeaconProblem">The first fatal finding.</exception>
    public CertificationRequest ThrowIfUnusable()
    {
        var worst = Findings.FirstOrDefault(f => f.Weight == FindingWeight.Fatal);
        if (worst is null)
            return this;
        var code = worst.Code switch
        {
            FindingCode.BadProofOfPossession => ProblemCode.RequestSignatureBad,
            FindingCode.WeakKey or FindingCode.UnknownKey => ProblemCode.KeyNotAllowed,
            FindingCode.MalformedName => ProblemCode.NameMalformed,
            _ => ProblemCode.RequestMalformed,
        };
        throw new BeaconProblem(code, worst.Message, worst.Cure);
    }
}
