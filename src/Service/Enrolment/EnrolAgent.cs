using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
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
    JoinHost join,
    MachineAccounts accounts,
    Changes changes,
    TimeProvider clock
)
{
    internal const string ProfileId = "agent";

    /// <param name="code">The join code, with or without the fingerprint behind the dot.</param>
    public Task<ReadOnlyMemory<byte>> JoinAsync(CertificationRequest csr, string name, string code, string? from, CancellationToken ct) =>
        JoinedAsync(csr, () => join.ByCodeAsync(csr, name, code, from, ct), ct);

    /// <summary>By its machine account: no code, no person.</summary>
    public Task<ReadOnlyMemory<byte>> JoinByTicketAsync(
        CertificationRequest csr,
        TicketHolder holder,
        string? from,
        CancellationToken ct
    ) => JoinedAsync(csr, () => join.ByTicketAsync(csr, holder, from, ct), ct);

    private async Task<ReadOnlyMemory<byte>> JoinedAsync(
        CertificationRequest csr,
        Func<Task<(Hosts.Host Host, Certificate Certificate)>> joining,
        CancellationToken ct
    )
    {
        var profile = profiles.Get(ProfileId);
        profile.CheckKey(csr.PublicKey.Spec);
        var (host, certificate) = await joining();
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
        await accounts.ThrowIfGoneAsync(host, ct);
        var profile = profiles.Get(ProfileId);
        profile.CheckKey(csr.PublicKey.Spec);
        CheckNames(csr, host);
        var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == client.Edition.CertificateId, ct);
        return await IssueAsync(profile, csr, host, certificate, ct);
    }

    internal static void CheckNames(CertificationRequest csr, Hosts.Host host)
    {
        if (csr.Names.Count != 1 || csr.Names[0].ToString() != host.Name)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"An agent's certificate has its host's name {host.Name} alone.",
                "Make the CSR with that name."
            );
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
