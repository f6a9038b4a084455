using System.Security.Cryptography;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Where a granted edition belongs.</summary>
/// <param name="CertificateName">Its certificate; made when there is none of that name.</param>
/// <param name="Actor">Who had it issued, for the journal.</param>
/// <param name="Cause">What had it issued, for the journal.</param>
public sealed record EditionPlace(string CertificateName, EditionState State, Actor Actor, string Cause)
{
    /// <summary>0 finds or makes the certificate by its name; then it must be the requester's.</summary>
    public int CertificateId { get; init; }

    /// <summary>The request it answers: at most one edition is ever recorded for a request, and only while it waits for one.</summary>
    public long? RequestId { get; init; }

    /// <summary>The host whose agent speaks with this edition from now on.</summary>
    public int? AgentOf { get; init; }

    /// <summary>The serial of the edition that it follows: it must still be the current one when this is recorded.</summary>
    public string? Renews { get; init; }

    /// <summary>Null takes the profile's.</summary>
    public TimeSpan? Life { get; init; }

    /// <summary>A certain key of the authority; the one that issues when left out.</summary>
    public IssuingPoint? Under { get; init; }
}

/// <summary>The one place where editions are made, from a granted decision and nothing else: works out the content, signs, records durably, and only then hands out.</summary>
public sealed class IssueEdition(AuthorityRegistry registry, EditionLedger ledger, TimeProvider clock)
{
    /// <exception cref="BeaconProblem">
    /// <see cref="ProblemCode.ChangedMeanwhile"/> for a stale decision, <see cref="ProblemCode.KeyNotAllowed"/> for a key that is burnt or another certificate's,
    /// <see cref="ProblemCode.WrongState"/> when the request does not wait for an edition any more.
    /// </exception>
    public async Task<Recorded> RunAsync(GrantedDecision decision, PublicKeyInfo key, EditionPlace place, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        decision.ThrowIfStale(now);
        var point = place.Under ?? registry.Issuing;
        var content = Content(decision.Profile, decision.Subject, decision.Names, key, place.Life, now, point).Content;
        var der = CertificateWriter.Issue(content, point.Signer);
        return await ledger.RecordAsync(new(content, der, point.GenerationId, decision, place, now), ct);
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
