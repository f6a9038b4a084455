using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>How an enrolment ended: an edition, or the number of a request that waits for people.</summary>
public abstract record EnrolOutcome
{
    public sealed record Issued(ReadOnlyMemory<byte> Der) : EnrolOutcome;

    public sealed record Waits(long Request) : EnrolOutcome;
}

/// <summary>
/// The desk where enrolment protocols hand in what they were brought, with who brought it: here it is decided and issued. The protocols know neither signer nor tables.
/// What is refused is a <see cref="BeaconProblem"/> with its cure.
/// </summary>
public sealed class EnrolDesk(
    BeaconDb db,
    ProfileCatalogue profiles,
    DecideEnrolment decide,
    IssueEdition issue,
    SubmitRequest submit,
    Changes changes,
    TimeProvider clock
)
{
    /// <summary>A CSR that a person, or a program in their name, brings.</summary>
    public async Task<EnrolOutcome> FirstAsync(CertificationRequest csr, string profileId, Caller caller, CancellationToken ct)
    {
        var profile = profiles.GetFor(profileId, caller.Groups);
        profile.CheckKey(csr.PublicKey.Spec);
        if (csr.Names.Count == 0)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The request has no alternative name; clients look nowhere else.",
                "Add the host names as alternative names."
            );
        var subject = SubjectDecision.Decide(null, csr.Subject, csr.Names, profile);
        if (subject.Findings.FirstOrDefault(f => f.Weight == FindingWeight.Fatal) is { } fatal)
            throw new BeaconProblem(ProblemCode.RequestRefused, fatal.Message, fatal.Cure);
        var decided = await decide.RunAsync(
            new(profile, [.. csr.Names.Select(n => n.ToString())], subject.Subject, null, null, caller.Name, []),
            ct
        );
        if (decided.Overall == Verdict.Refused)
        {
            var no = decided.Verdicts.First(v => v.Verdict == Verdict.Refused);
            throw new BeaconProblem(ProblemCode.RequestRefused, $"{no.Name}: {no.Evidence}", no.Cure);
        }
        // What was approved for this certificate before is known to the recorded way.
        if (decided.Granted is not { } granted)
            return await WaitAsync(csr, profileId, caller, ct);
        var name = CertificateNaming.OfCsr(csr.Names[0].Value, caller.Name);
        return await IssueAsync(granted, csr, new(name, EditionState.Current, caller.Actor, "EST"), ct);
    }

    /// <summary>The next edition for the holder of a certificate's current one: same names, same profile.</summary>
    public async Task<EnrolOutcome> AgainAsync(CertificationRequest csr, Edition held, CancellationToken ct)
    {
        // Who has an edition gets the next one, even when the profile is not offered any more.
        var profile = profiles.Get(held.Profile);
        profile.CheckKey(csr.PublicKey.Spec);
        var old = X509.Read(held.Der);
        if (csr.Names.Except(old.Names).Any() || old.Names.Except(csr.Names).Any())
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The names differ from those of the certificate that is renewed.",
                "Ask for the same names, or enrol anew."
            );
        if (await HandedOutAsync(csr, held, ct) is { } earlier)
            return earlier;
        var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == held.CertificateId, ct);
        if (certificate.HostId is not null || MayNotEnrol(certificate))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                "This certificate is renewed by its host's agent or by the service itself.",
                "Nothing to do."
            );
        var subject = SubjectDecision.Decide(null, old.Subject, old.Names, profile).Subject;
        var decided = await decide.RunAsync(
            new(profile, [.. csr.Names.Select(n => n.ToString())], subject, null, certificate, certificate.Owner, []),
            ct
        );
        // Zones and groups may have changed since: what would not be granted today is not prolonged.
        if (decided.Granted is not { } granted)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                DecideAgain.Why(decided),
                "Have its owner request it anew, or an administrator give it to another owner."
            );
        return await IssueAsync(
            granted,
            csr,
            new(certificate.Name, EditionState.Current, Actor.Of(certificate.Owner), "EST")
            {
                CertificateId = certificate.Id,
                Renews = held.Serial,
            },
            ct
        );
    }

    private static bool MayNotEnrol(Certificate c) =>
        c.Owner == Core.Rights.Thing.SystemOwner || c.Owner.StartsWith("agent:", StringComparison.Ordinal);

    /// <summary>The edition that was issued for this very key already: its answer was lost on the way, and it is handed out again.</summary>
    private async Task<EnrolOutcome?> HandedOutAsync(CertificationRequest csr, Edition held, CancellationToken ct)
    {
        var key = csr.PublicKey.Fingerprint();
        if (key == held.KeyFingerprint)
            return null;
        var newer = await db
            .Editions.AsNoTracking()
            .Where(e =>
                e.CertificateId == held.CertificateId && e.State == EditionState.Current && e.RevokedAt == null && e.KeyFingerprint == key
            )
            .OrderByDescending(e => e.Id)
            .FirstOrDefaultAsync(ct);
        return newer is null ? null : new EnrolOutcome.Issued(newer.Der);
    }

    private async Task<EnrolOutcome> IssueAsync(GrantedDecision granted, CertificationRequest csr, EditionPlace place, CancellationToken ct)
    {
        var recorded = await issue.RunAsync(granted, csr.PublicKey, place, ct);
        changes.Tell("certificate", place.CertificateName);
        return new EnrolOutcome.Issued(recorded.Der);
    }

    /// <summary>People must approve it: recorded once, and answered by its edition when it comes again with the same CSR.</summary>
    private async Task<EnrolOutcome> WaitAsync(CertificationRequest csr, string profileId, Caller caller, CancellationToken ct)
    {
        var der = csr.Der.ToArray();
        var earlier = await db
            .Requests.AsNoTracking()
            .Where(r => r.Cause == "est" && r.Requester == caller.Name && r.Csr == der)
            .OrderByDescending(r => r.Id)
            .FirstOrDefaultAsync(ct);
        switch (earlier?.State)
        {
            case RequestState.Issued:
                var edition = await db.Editions.AsNoTracking().SingleAsync(e => e.RequestId == earlier.Id, ct);
                return edition.RevokedAt is null && edition.NotAfter > clock.GetUtcNow()
                    ? new EnrolOutcome.Issued(edition.Der)
                    : throw new BeaconProblem(
                        ProblemCode.RequestRefused,
                        $"Request {earlier.Id} was issued, and its edition is revoked or expired.",
                        "Enrol again with a new key."
                    );
            case RequestState.Refused or RequestState.Withdrawn:
                throw new BeaconProblem(
                    ProblemCode.RequestRefused,
                    $"Request {earlier.Id} was {(earlier.State == RequestState.Refused ? "refused" : "withdrawn")}: {earlier.Reason}",
                    "Correct it and enrol again with a new CSR."
                );
        }
        var wish = new NewRequest(
            null,
            profileId,
            null,
            null,
            null,
            null,
            null,
            Armor.Write(Armor.CertificateRequest, der),
            null,
            null,
            null,
            null
        );
        var id = earlier?.Id ?? await submit.RunAsync(wish, caller, "est", ct);
        // What had been approved before is issued by the recorded way at once.
        return await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == id, ct) is { } issued
            ? new EnrolOutcome.Issued(issued.Der)
            : new EnrolOutcome.Waits(id);
    }
}
