using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>
/// Agents' own certificates. An agent is its host's row, by the certificate that the row names: joining gives the row a new one and ends what was before;
/// a name in a certificate gives nobody anything.
/// </summary>
public sealed class EnrolAgent(
    BeaconDb db,
    ProfileCatalogue profiles,
    IssueEdition issue,
    AnnounceRevocations announce,
    KnownNames known,
    Changes changes,
    TimeProvider clock
)
{
    private const string ProfileId = "agent";

    /// <param name="code">The join code, with or without the fingerprint behind the dot.</param>
    public async Task<ReadOnlyMemory<byte>> JoinAsync(
        CertificationRequest csr,
        string name,
        string code,
        string? from,
        CancellationToken ct
    )
    {
        var profile = profiles.Get(ProfileId);
        profile.CheckKey(csr.PublicKey.Spec);
        Hosts.Host host;
        Certificate certificate;
        List<(string, string)> revoked;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            host =
                await db.Hosts.FirstOrDefaultAsync(h => h.Name == name, ct)
                ?? throw new BeaconProblem(
                    ProblemCode.JoinCodeRefused,
                    $"The join code for {name} is not one that was made.",
                    $"Make one: beacon host invite {name}."
                );
            host.CheckJoinCode(InviteHost.HashOf(code.Split('.')[0]), now);
            CheckNames(csr, host);
            certificate = await OwnRowAsync(host, csr, ct);
            revoked = await EndEarlierAsync(certificate, now, ct);
            // The code is used up before the edition leaves: a crash here costs a new code, never a second agent.
            host.Join();
            await db.Note(now, Actor.Agent(host.Name), JournalAction.HostJoined, host.Name, $"from {from}");
            await write.CommitAsync(ct);
        }
        announce.Forget();
        known.Changed();
        if (revoked.Count > 0)
            await announce.RunAsync(revoked, Actor.Agent(host.Name), $"host {host.Name} joined anew", wasHeld: false, ct);
        var der = await IssueAsync(profile, csr, host, certificate, ct);
        changes.Tell("host", host.Name);
        return der;
    }

    /// <summary>The next certificate for an agent that speaks with its current one.</summary>
    public async Task<ReadOnlyMemory<byte>> AgainAsync(CertificationRequest csr, KnownClient client, CancellationToken ct)
    {
        if (client.HostId is not { } hostId)
            throw new BeaconProblem(
                ProblemCode.HostGone,
                "This certificate speaks for no host any more: its host was removed, or joined anew.",
                "Invite it again."
            );
        var host = await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == hostId, ct);
        var profile = profiles.Get(ProfileId);
        profile.CheckKey(csr.PublicKey.Spec);
        CheckNames(csr, host);
        var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == client.Edition.CertificateId, ct);
        return await IssueAsync(profile, csr, host, certificate, ct);
    }

    private static void CheckNames(CertificationRequest csr, Hosts.Host host)
    {
        if (csr.Names.Count != 1 || csr.Names[0].ToString() != host.Name)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"An agent's certificate has its host's name {host.Name} alone.",
                "Make the CSR with that name."
            );
    }

    /// <summary>The row of the host's own agent certificate. One of that name that is somebody else's is never taken over.</summary>
    private async Task<Certificate> OwnRowAsync(Hosts.Host host, CertificationRequest csr, CancellationToken ct)
    {
        var (name, owner) = (CertificateNaming.OfAgent(host.Name), Actor.Agent(host.Name).ToString());
        var row = await db.Certificates.FirstOrDefaultAsync(c => c.Name == name, ct);
        if (row is not null && (row.HostId != host.Id || row.Owner != owner))
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a certificate \"{name}\" that belongs to {row.Owner}, not to this host: nobody joins under it.",
                "An administrator revokes it, gives it another name's certificate, and looks into the journal who asked for it."
            );
        if (row is null)
            db.Certificates.Add(row = Certificate.Of(name, host.Id, null, owner));
        row.Wish(ProfileId, "CN=" + host.Name, Shapes.Json([host.Name]), csr.PublicKey.Spec.ToString(), null);
        await db.SaveChangesAsync(ct);
        return row;
    }

    /// <summary>Whatever spoke for the host before, from an earlier joining, speaks for it no more.</summary>
    private async Task<List<(string, string)>> EndEarlierAsync(Certificate certificate, DateTimeOffset now, CancellationToken ct)
    {
        var alive = await db
            .Editions.Where(e => e.CertificateId == certificate.Id && e.RevokedAt == null && e.NotAfter > now)
            .ToListAsync(ct);
        foreach (var e in alive)
        {
            e.Revoke(now, RevocationReason.CessationOfOperation);
            e.Supersede();
        }
        return [.. alive.Select(e => (certificate.Name, e.Serial))];
    }

    private async Task<ReadOnlyMemory<byte>> IssueAsync(
        Profile profile,
        CertificationRequest csr,
        Hosts.Host host,
        Certificate certificate,
        CancellationToken ct
    )
    {
        var recorded = await issue.RunAsync(
            OwnEnrolments.ForAgent(profile, host.Name, clock.GetUtcNow()),
            csr.PublicKey,
            new(certificate.Name, EditionState.Current, Actor.Agent(host.Name), "EST")
            {
                CertificateId = certificate.Id,
                AgentOf = host.Id,
            },
            ct
        );
        changes.Tell("certificate", certificate.Name);
        return recorded.Der;
    }
}
