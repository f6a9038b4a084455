using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>A host's joining, by a code or by its machine account: the host's row, the row of its agent's own certificate, and the end of whatever spoke for it before. The edition follows.</summary>
public sealed class JoinHost(BeaconDb db, AnnounceRevocations announce, MachineAccounts accounts, TimeProvider clock)
{
    /// <param name="code">The join code, with or without the fingerprint behind the dot.</param>
    public async Task<(Hosts.Host Host, Certificate Certificate)> ByCodeAsync(
        CertificationRequest csr,
        string name,
        string code,
        string? from,
        CancellationToken ct
    )
    {
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
            EnrolAgent.CheckNames(csr, host);
            certificate = await OwnRowAsync(host, csr, ct);
            revoked = await EndEarlierAsync(certificate, now, ct);
            // The code is used up before the edition leaves: a crash here costs a new code, never a second agent.
            host.Join();
            await db.Note(now, Actor.Agent(host.Name), JournalAction.HostJoined, host.Name, $"from {from}");
            await write.CommitAsync(ct);
        }
        await AnnounceAsync(host, revoked, ct);
        return (host, certificate);
    }

    /// <summary>
    /// By its machine account: no code, no person. The account must be of a group that the settings name, and the only one that has the host's name; who has a host's row already
    /// keeps it against every other account.
    /// </summary>
    public async Task<(Hosts.Host Host, Certificate Certificate)> ByTicketAsync(
        CertificationRequest csr,
        TicketHolder holder,
        string? from,
        CancellationToken ct
    )
    {
        var computer = await accounts.ThatMayJoinAsync(holder, ct);
        var name = computer.Names[0];
        Hosts.Host host;
        Certificate certificate;
        List<(string, string)> revoked;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var row = await db.Hosts.FirstOrDefaultAsync(h => h.Name == name, ct);
            if (row is null || row.State == HostState.Removed)
                host = await NewHostAsync(row, computer, ct);
            else
                host =
                    row.AccountId == computer.Id
                        ? row
                        : throw new BeaconProblem(
                            ProblemCode.NotAllowed,
                            $"There is a host {name} that joined in another way: the account {computer.Account} does not take its place.",
                            $"An administrator removes it first: beacon host remove {name}."
                        );
            EnrolAgent.CheckNames(csr, host);
            certificate = await OwnRowAsync(host, csr, ct);
            revoked = await EndEarlierAsync(certificate, now, ct);
            host.Join();
            await db.Note(
                now,
                Actor.Agent(host.Name),
                JournalAction.HostJoined,
                host.Name,
                $"as {computer.Account} of the directory, from {from}"
            );
            await write.CommitAsync(ct);
        }
        await AnnounceAsync(host, revoked, ct);
        return (host, certificate);
    }

    private async Task<Hosts.Host> NewHostAsync(Hosts.Host? removed, DirectoryComputer computer, CancellationToken ct)
    {
        if (removed is not null)
        {
            removed.ComeBackAs(computer.Account, computer.Id);
            return removed;
        }
        var host = Hosts.Host.OfDomain(computer.Names[0], computer.Account, computer.Id);
        db.Hosts.Add(host);
        await db.SaveChangesAsync(ct);
        return host;
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
        row.Wish(EnrolAgent.ProfileId, "CN=" + host.Name, Shapes.Json([host.Name]), csr.PublicKey.Spec.ToString(), null);
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

    private async Task AnnounceAsync(Hosts.Host host, List<(string, string)> revoked, CancellationToken ct)
    {
        announce.Forget();
        if (revoked.Count > 0)
            await announce.RunAsync(revoked, Actor.Agent(host.Name), $"host {host.Name} joined anew", wasHeld: false, ct);
    }
}
