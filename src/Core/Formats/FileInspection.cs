using System.Formats.Asn1;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Formats;

/// <summary>What a block of a file is.</summary>
public enum FileItemKind
{
    Certificate,
    CertificateRequest,
    Crl,
    Pkcs7,
    Pkcs12,
    PrivateKey,
    EncryptedPrivateKey,
    PublicKey,

    /// <summary>What keys are made with: no secret, and no use for a server.</summary>
    Parameters,
    Unknown,
}

/// <summary>One thing found in a file.</summary>
/// <param name="Summary">One line for people: whose it is and until when. Never any secret.</param>
/// <param name="Der">Its bytes, except of private keys (empty then).</param>
public sealed record FileItem(FileItemKind Kind, string Summary, ReadOnlyMemory<byte> Der);

/// <summary>"What is in this file?" for every form we write or read, PEM or DER, however it is named.</summary>
public static class FileInspection
{
    public const int MaxBytes = 4 << 20;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooLarge"/> or <see cref="ProblemCode.FileNotRecognised"/>.</exception>
    public static IReadOnlyList<FileItem> Inspect(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length > MaxBytes)
            throw new BeaconProblem(ProblemCode.TooLarge, "The file is larger than 4 MiB.", "Give the certificate file alone.");
        var items = Armor.Read(FileText.ToAscii(bytes)).Blocks.SelectMany(Identify).ToList();
        return items.Any(i => i.Kind != FileItemKind.Unknown)
            ? items
            : throw new BeaconProblem(
                ProblemCode.FileNotRecognised,
                "Nothing in this file is a certificate, a request, a CRL, a key or a PKCS#7 or PKCS#12 bundle.",
                "Check that the whole file was copied, and that it is the right one."
            );
    }

    private static readonly FileItem EncryptedKey = new(FileItemKind.EncryptedPrivateKey, "An encrypted private key.", default);

    private static IEnumerable<FileItem> Identify(ArmorBlock block)
    {
        if (block.IsEncrypted)
            return [EncryptedKey];
        var byLabel = block.Label switch
        {
            Armor.Certificate or "X509 CERTIFICATE" => Certificate(block.Der),
            "TRUSTED CERTIFICATE" => Certificate(FirstElement(block.Der)),
            Armor.CertificateRequest or "NEW CERTIFICATE REQUEST" => Request(block.Der),
            Armor.Crl => CrlItem(block.Der),
            Armor.Pkcs7 or "CMS" => Bundle(block.Der),
            "PRIVATE KEY" or "RSA PRIVATE KEY" or "EC PRIVATE KEY" or "DSA PRIVATE KEY" =>
            [
                new(FileItemKind.PrivateKey, "A private key, not encrypted.", default),
            ],
            "ENCRYPTED PRIVATE KEY" => [EncryptedKey],
            "PUBLIC KEY" or "RSA PUBLIC KEY" => [new(FileItemKind.PublicKey, "A public key.", block.Der)],
            "EC PARAMETERS" or "DH PARAMETERS" or "DSA PARAMETERS" =>
            [
                new(FileItemKind.Parameters, "Parameters for making keys; no key is in it.", block.Der),
            ],
            _ => null,
        };
        if (byLabel is not null)
            return byLabel;
        foreach (var attempt in new Func<byte[], IEnumerable<FileItem>?>[] { Certificate, Request, CrlItem, Bundle, Pfx, KeyStructure })
            if (attempt(block.Der) is { } found)
                return found;
        return
        [
            new(
                FileItemKind.Unknown,
                $"Not recognised ({block.Der.Length} bytes{(block.Label.Length > 0 ? ", labelled " + block.Label : "")}).",
                default
            ),
        ];
    }

    private static FileItem[]? Certificate(byte[] der) =>
        Try(() =>
        {
            var x = X509.Read(der);
            var what = (x.IsAuthority, x.IsSelfIssued) switch
            {
                (true, true) => "Root certificate",
                (true, false) => "Authority certificate",
                _ => "Certificate",
            };
            return new FileItem(FileItemKind.Certificate, $"{what} of {Text(x)}, until {x.NotAfter:yyyy-MM-dd}, serial {x.Serial}.", x.Der);
        });

    private static string Text(X509 x) =>
        x.Names.Count > 0 && !x.IsAuthority ? string.Join(", ", x.Names.Take(3)) + (x.Names.Count > 3 ? " …" : "") : x.Subject.ToString();

    private static FileItem[]? Request(byte[] der) =>
        Try(() =>
        {
            var r = CertificationRequest.Read(der);
            return new FileItem(
                FileItemKind.CertificateRequest,
                $"Certification request of {(r.Names.Count > 0 ? string.Join(", ", r.Names.Take(3)) : r.Subject.ToString())}, key {r.PublicKey.Spec}.",
                r.Der
            );
        });

    private static FileItem[]? CrlItem(byte[] der) =>
        Try(() =>
        {
            var c = Crl.Read(der);
            return new FileItem(
                FileItemKind.Crl,
                $"CRL {c.Number} of {c.Issuer}, {c.Revoked.Count} revoked, next by {c.NextUpdate:yyyy-MM-dd HH:mm}.",
                der
            );
        });

    private static FileItem[]? Bundle(byte[] der)
    {
        try
        {
            var inside = Pkcs7.ReadCertificates(der);
            return
            [
                new(FileItemKind.Pkcs7, $"PKCS#7 bundle of {inside.Count} certificates.", der),
                .. inside.SelectMany(c => Certificate(c.ToArray()) ?? []),
            ];
        }
        catch (Exception e) when (Expected(e))
        {
            return null;
        }
    }

    // RFC 7292 section 4: PFX ::= SEQUENCE { version INTEGER {v3(3)}, authSafe ContentInfo, … }
    private static FileItem[]? Pfx(byte[] der) =>
        Try(() =>
        {
            var seq = new AsnReader(der, AsnEncodingRules.BER).ReadSequence();
            if (!seq.TryReadInt32(out var v) || v != 3)
                throw new AsnContentException("Not a PFX.");
            var content = seq.ReadSequence().ReadObjectIdentifier();
            return content is Oids.Data or Oids.SignedData
                ? new FileItem(FileItemKind.Pkcs12, "PKCS#12 bundle; its content needs the password.", der)
                : throw new AsnContentException("Not a PFX.");
        });

    /// <summary>After a certificate, some programs write what they trust it for.</summary>
    private static byte[] FirstElement(byte[] der) =>
        AsnDecoder.TryReadEncodedValue(der, AsnEncodingRules.BER, out _, out _, out _, out var consumed) ? der[..consumed] : der;

    /// <summary>
    /// By their first members: PKCS#8 (RFC 5958) begins with version and algorithm, PKCS#1 (RFC 8017 appendix A.1) with version and eight numbers, SEC 1 (RFC 5915) with 1 and
    /// an octet string; a public key of PKCS#1 has two numbers, parameters for DH two or three.
    /// </summary>
    private static FileItem[]? KeyStructure(byte[] der) =>
        Try(() =>
        {
            var seq = new AsnReader(der, AsnEncodingRules.DER).ReadSequence();
            var members = new List<Asn1Tag>();
            while (seq.HasData && members.Count < 10)
            {
                members.Add(seq.PeekTag());
                seq.ReadEncodedValue();
            }
            var numbers = members.TakeWhile(t => t == Asn1Tag.Integer).Count();
            Asn1Tag? second = members.Count > 1 ? members[1] : null;
            return (numbers, second) switch
            {
                (>= 9, _)
                or (
                    1,
                    { TagClass: TagClass.Universal, TagValue: (int)UniversalTagNumber.Sequence or (int)UniversalTagNumber.OctetString }
                ) => new FileItem(FileItemKind.PrivateKey, "A private key, not encrypted.", default),
                (2, _) when members.Count == 2 => new FileItem(FileItemKind.PublicKey, "A public key, or parameters for making keys.", der),
                (2 or 3, _) when members.Count == 3 => new FileItem(
                    FileItemKind.Parameters,
                    "Parameters for making keys; no key is in it.",
                    der
                ),
                (0, { TagClass: TagClass.Universal, TagValue: (int)UniversalTagNumber.BitString }) when members[0] == Asn1Tag.Sequence =>
                    new FileItem(FileItemKind.PublicKey, "A public key.", der),
                (0, { TagClass: TagClass.Universal, TagValue: (int)UniversalTagNumber.OctetString }) when members[0] == Asn1Tag.Sequence =>
                    EncryptedKey,
                _ => throw new AsnContentException("Not a key."),
            };
        });

    private static FileItem[]? Try(Func<FileItem> read)
    {
        try
        {
            return [read()];
        }
        catch (Exception e) when (Expected(e))
        {
            return null;
        }
    }

    private static bool Expected(Exception e) =>
        e
            is BeaconProblem
                or AsnContentException
                or ArgumentException
                or OverflowException
                or FormatException
                or System.Security.Cryptography.CryptographicException;
}
