using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Tests;

/// <summary>A root and an issuing authority in memory, and ways to issue under them.</summary>
internal sealed class World
{
    public static readonly DateTimeOffset Now = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

    public World(KeySpec? spec = null, DateTimeOffset? from = null)
    {
        var start = from ?? Now.AddDays(-30);
        RootSigner = new(KeySigner.NewKey(spec ?? KeySpec.P256));
        IssuingSigner = new(KeySigner.NewKey(spec ?? KeySpec.P256));
        var rootName = DistinguishedName.Parse("CN=Test Root,O=Thistledown Rail");
        Root = X509.Read(
            CertificateWriter.Issue(
                new CertificateContent
                {
                    Serial = Serial(),
                    Issuer = rootName,
                    Subject = rootName,
                    PublicKey = RootSigner.PublicKey,
                    NotBefore = start,
                    NotAfter = start.AddYears(20),
                    IsAuthority = true,
                    KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
                },
                RootSigner
            )
        );
        Issuing = X509.Read(
            CertificateWriter.Issue(
                new CertificateContent
                {
                    Serial = Serial(),
                    Issuer = rootName,
                    Subject = DistinguishedName.Parse("CN=Test Issuing,O=Thistledown Rail"),
                    PublicKey = IssuingSigner.PublicKey,
                    NotBefore = start,
                    NotAfter = start.AddYears(8),
                    IsAuthority = true,
                    PathLength = 0,
                    KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
                    AuthorityKeyIdentifier = Root.SubjectKeyIdentifier,
                },
                RootSigner
            )
        );
    }

    public KeySigner RootSigner { get; }
    public KeySigner IssuingSigner { get; }
    public X509 Root { get; }
    public X509 Issuing { get; }

    public static SerialNumber Serial() => SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16));

    public CertificateContent Content(
        PublicKeyInfo key,
        string[] names,
        string? subject = null,
        DateTimeOffset? from = null,
        DateTimeOffset? to = null
    ) =>
        new()
        {
            Serial = Serial(),
            Issuer = Issuing.Subject,
            Subject = subject switch
            {
                null => DistinguishedName.ForCommonName(names[0]),
                "" => DistinguishedName.Empty,
                _ => DistinguishedName.Parse(subject),
            },
            PublicKey = key,
            NotBefore = from ?? Now.AddDays(-1),
            NotAfter = to ?? Now.AddDays(89),
            Names = [.. names.Select(AlternativeName.Parse)],
            KeyUsage = KeyUsages.DigitalSignature,
            ExtendedKeyUsage = [Oids.ServerAuth],
            AuthorityKeyIdentifier = Issuing.SubjectKeyIdentifier,
            CrlUris = ["http://beacon.thistledown.example/crl/issuing.crl"],
            IssuerUris = ["http://beacon.thistledown.example/issuer/issuing.cer"],
        };

    /// <summary>A list of the issuing authority: a delta when <paramref name="from"/> is given.</summary>
    public ReadOnlyMemory<byte> Crl(
        long number,
        IReadOnlyCollection<RevokedCertificate> revoked,
        long? from = null,
        string[]? freshest = null,
        string[]? points = null,
        DateTimeOffset? at = null
    ) =>
        CrlWriter.Issue(
            new()
            {
                Issuer = Issuing.Subject,
                IssuerKeyIdentifier = Issuing.SubjectKeyIdentifier,
                Number = number,
                ThisUpdate = at ?? Now,
                NextUpdate = (at ?? Now).AddDays(1),
                BaseNumber = from,
                FreshestUris = freshest ?? [],
                PointUris = points ?? [],
            },
            new CrlEntries(revoked),
            IssuingSigner
        );

    /// <summary>A delegated OCSP responder of the issuing authority.</summary>
    public (X509 Certificate, KeySigner Signer) Responder(DateTimeOffset? now = null)
    {
        var signer = new KeySigner(KeySigner.NewKey(KeySpec.P256));
        return (
            X509.Read(
                CertificateWriter.Issue(
                    Content(signer.PublicKey, [], "CN=Test Responder", (now ?? Now).AddDays(-1)) with
                    {
                        ExtendedKeyUsage = [Oids.OcspSigning],
                        OcspNoCheck = true,
                    },
                    IssuingSigner
                )
            ),
            signer
        );
    }

    public X509 Leaf(params string[] names) => Leaf(names, null);

    public X509 Leaf(string[] names, string? subject, DateTimeOffset? from = null, DateTimeOffset? to = null)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        return X509.Read(
            CertificateWriter.Issue(Content(PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()), names, subject, from, to), IssuingSigner)
        );
    }

    public static byte[] Csr(KeySpec spec, string subject, params string[] names)
    {
        using var key = KeySigner.NewKey(spec);
        return CertificationRequest.Write(
            subject.Length == 0 ? DistinguishedName.Empty : DistinguishedName.Parse(subject),
            [.. names.Select(AlternativeName.Parse)],
            new KeySigner(key)
        );
    }
}
