using System.Security.Cryptography;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>An edition that has been decided: every name granted, the key allowed.</summary>
/// <param name="CertificateId">0 makes or finds the certificate by name.</param>
public sealed record IssueWish(
    Profile Profile,
    DistinguishedName Subject,
    IReadOnlyList<AlternativeName> Names,
    PublicKeyInfo PublicKey,
    TimeSpan? Life,
    int CertificateId,
    string CertificateName,
    string NamesJson,
    long? RequestId,
    EditionState State,
    string Actor,
    string Cause
)
{
    /// <summary>A certain key of the authority; the one that issues when left out.</summary>
    public IssuingPoint? Under { get; init; }
}

/// <summary>The one place where editions are made: works out the content, signs, records durably, and only then hands out.</summary>
public sealed class IssueEdition(AuthorityRegistry registry, EditionLedger ledger, TimeProvider clock)
{
    public async Task<Recorded> RunAsync(IssueWish wish, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var point = wish.Under ?? registry.Issuing;
        var der = CertificateWriter.Issue(
            Content(wish.Profile, wish.Subject, wish.Names, wish.PublicKey, wish.Life, now, point).Content,
            point.Signer
        );
        return await ledger.RecordAsync(
            new(
                X509.Read(der),
                der,
                point.GenerationId,
                wish.CertificateId,
                wish.CertificateName,
                wish.NamesJson,
                wish.RequestId,
                wish.Profile.Id,
                wish.Profile.Revision,
                wish.State,
                wish.Actor,
                wish.Cause,
                now
            ),
            ct
        );
    }

    /// <summary>The certificate as it would be, with a serial of its own; nothing is signed or recorded.</summary>
    public (CertificateContent Content, Validity Validity) Content(
        Profile profile,
        DistinguishedName subject,
        IReadOnlyList<AlternativeName> names,
        PublicKeyInfo key,
        TimeSpan? life,
        DateTimeOffset now,
        IssuingPoint? under = null
    )
    {
        profile.CheckKey(key.Spec);
        var point = under ?? registry.Issuing;
        foreach (var authority in registry.All)
            if (authority.Constraints?.FirstAgainst(names) is { } outside)
                throw new BeaconProblem(
                    ProblemCode.RequestRefused,
                    $"{outside} is out of bounds: {authority.Subject} may certify {authority.Constraints}.",
                    "Leave that name out; clients would refuse the whole certificate."
                );
        if (profile.AuthorityDepth is { } depth && point.Certificate.PathLength is { } room && depth >= room)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"The issuing authority's own certificate allows {room} authorities below it, so it cannot certify one that has {depth} below itself.",
                "Ask the root instead, or have this authority renewed with a longer path: beacon ceremony sign --path-length."
            );
        var validity = Validity.Work(now, life, profile.Life, point.Certificate.NotBefore, point.Certificate.NotAfter);
        var responder = profile.ExtendedKeyUsage.Contains(Oids.OcspSigning);
        return (
            new CertificateContent
            {
                Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                Issuer = point.Certificate.Subject,
                Subject = subject,
                PublicKey = key,
                NotBefore = validity.NotBefore,
                NotAfter = validity.NotAfter,
                Names = names,
                KeyUsage = profile.KeyUsageFor(key.Spec),
                ExtendedKeyUsage = profile.ExtendedKeyUsage,
                AuthorityKeyIdentifier = point.Certificate.SubjectKeyIdentifier,
                CrlUris = [point.CrlUri],
                IssuerUris = [point.IssuerUri],
                // Nobody asks a responder about itself.
                OcspUris = responder ? [] : [point.OcspUri],
                OcspNoCheck = responder,
                IsAuthority = profile.AuthorityDepth is not null,
                PathLength = profile.AuthorityDepth,
            },
            validity
        );
    }
}
