using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// Writes editions in use to their computers' objects in the directory, for the profiles that say so; the ones before are taken away. What is due stands in the database and is
/// tried until it is done; done twice, it changes nothing.
/// </summary>
public sealed class PublishEditions(
    BeaconDb db,
    DirectoryBook directory,
    NameEvidence evidence,
    ProfileCatalogue profiles,
    TimeProvider clock
)
{
    private static readonly TimeSpan Again = TimeSpan.FromMinutes(1),
        Later = TimeSpan.FromHours(1);
    private const int AtOnce = 20,
        MostEarlier = 20;

    /// <summary>An edition is in use from now on. Inside the caller's transaction.</summary>
    public void Settled(Certificate certificate, Edition edition, DateTimeOffset now)
    {
        if (directory.IsThere && !certificate.IsBrought && profiles.Get(certificate.Profile).Published)
            edition.PublishNext(now);
    }

    public async Task RunAsync(CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var due = await db.Editions.AsNoTracking().Where(e => e.PublishAt <= now).OrderBy(e => e.PublishAt).Take(AtOnce).ToListAsync(ct);
        foreach (var edition in due)
            await OneAsync(edition, ct);
    }

    private async Task OneAsync(Edition edition, CancellationToken ct)
    {
        var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == edition.CertificateId, ct);
        var host = await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Id == certificate.HostId, ct);
        DateTimeOffset? next = null;
        var isQuiet = false;
        string told;
        try
        {
            var account = host is null ? null : await evidence.AccountOfAsync(host, ct);
            if (account is null || edition.State != EditionState.Current)
                told = account is null ? "its host has no computer account in the directory" : "a newer edition is in use";
            else
            {
                var earlier = await db
                    .Editions.AsNoTracking()
                    .Where(e => e.CertificateId == certificate.Id && e.Id != edition.Id)
                    .OrderByDescending(e => e.Id)
                    .Take(MostEarlier)
                    .Select(e => e.Der)
                    .ToListAsync(ct);
                await directory.PublishAsync(account, edition.Der, earlier, ct);
                told = $"serial {edition.Serial} stands on {account}";
            }
        }
        catch (BeaconProblem p)
        {
            var isAway = p.Code == ProblemCode.DirectoryAway;
            (next, told) = (clock.GetUtcNow() + (isAway ? Again : Later), $"{p.Message} {p.Cure} It is tried again.");
            // A directory that is away says so by itself.
            isQuiet = isAway;
        }
        await using var write = await db.BeginWriteAsync(ct);
        (await db.Editions.SingleAsync(e => e.Id == edition.Id, ct)).PublishNext(next);
        if (!isQuiet)
            await db.Note(clock.GetUtcNow(), Actor.System, JournalAction.EditionPublished, certificate.Name, told);
        await write.CommitAsync(ct);
        db.ChangeTracker.Clear();
    }
}
