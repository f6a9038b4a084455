using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Revokes one edition, or puts it on hold. A certificate that renews itself gets its successor without waiting.</summary>
public sealed class RevokeEdition(BeaconDb db, AnnounceRevocations announce, TimeProvider clock)
{
    public async Task RunAsync(string certificateName, Revocation wish, Caller caller, CancellationToken ct)
    {
        var reason = RevocationWords.Parse(wish.Reason);
        Edition edition;
        bool wasHeld;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            edition = await RevocationWords.FindAsync(db, certificateName, wish.Serial, ct);
            wasHeld = edition.IsHeld;
            await MarkAsync(db, edition, reason, caller, clock.GetUtcNow(), ct);
            await write.CommitAsync(ct);
        }
        await announce.RunAsync([(certificateName, edition.Serial)], caller.Actor, $"serial {edition.Serial} {(edition.IsHeld ? "on hold" : "revoked")}", wasHeld, ct);
    }

    internal static async Task MarkAsync(BeaconDb db, Edition edition, RevocationReason reason, Caller caller, DateTimeOffset now, CancellationToken ct)
    {
        var certificate = await db.Certificates.SingleAsync(c => c.Id == edition.CertificateId, ct);
        edition.Revoke(now, reason);
        if (!edition.IsHeld && edition.State == EditionState.Current && certificate.Automatic) certificate.ActAt(now);
        await db.Note(now, caller.Actor, edition.IsHeld ? "edition.held" : "edition.revoked", certificate.Name, $"serial {edition.Serial}, {BeaconProblem.SlugOf(reason)}");
    }
}

/// <summary>Ends a hold: the edition is good again, and the next delta says so.</summary>
public sealed class ReleaseEdition(BeaconDb db, AnnounceRevocations announce, TimeProvider clock)
{
    public async Task RunAsync(string certificateName, string? serial, Caller caller, CancellationToken ct)
    {
        Edition edition;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            edition = await RevocationWords.FindAsync(db, certificateName, serial, ct);
            edition.Release(clock.GetUtcNow());
            await db.Note(clock.GetUtcNow(), caller.Actor, "edition.released", certificateName, $"serial {edition.Serial}");
            await write.CommitAsync(ct);
        }
        await announce.RunAsync([(certificateName, edition.Serial)], caller.Actor, $"serial {edition.Serial} released", wasHeld: true, ct);
    }
}

/// <summary>
/// Revokes many at once: some serials, everything of a host, or everything that was issued under one profile revision. Without the number that the caller
/// expects nothing is done: what would be is shown.
/// </summary>
public sealed class RevokeMany(BeaconDb db, AnnounceRevocations announce, TimeProvider clock)
{
    private const int Most = 50_000;

    public async Task<RevocationOutcome> RunAsync(RevocationWish wish, Caller caller, CancellationToken ct)
    {
        var reason = RevocationWords.Parse(wish.Reason);
        List<Edition> editions;
        List<RevocationItem> items;
        bool wasHeld;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            editions = await (await SelectAsync(wish, ct)).Where(e => e.NotAfter > now && (e.RevokedAt == null || e.RevocationReason == (int)RevocationReason.CertificateHold)).OrderBy(e => e.Id).Take(Most + 1).ToListAsync(ct);
            if (editions.Count > Most) throw new BeaconProblem(ProblemCode.TooLarge, $"Over {Most} editions are meant.", "Narrow the choice, and repeat it.");
            var ids = editions.Select(e => e.CertificateId).Distinct().ToList();
            var names = await db.Certificates.AsNoTracking().Where(c => ids.Contains(c.Id)).ToDictionaryAsync(c => c.Id, c => c.Name, ct);
            items = [.. editions.Select(e => new RevocationItem(names[e.CertificateId], e.Serial, e.NotAfter, e.State))];
            if (wish.Count is not { } expected) return new(false, items.Count, items, null);
            if (expected != items.Count)
                throw new BeaconProblem(ProblemCode.ChangedMeanwhile, $"{items.Count} editions are meant now, not {expected}; none was revoked.", "Look at the list again, then repeat it with the number that it shows.");
            wasHeld = editions.Any(e => e.IsHeld);
            foreach (var e in editions) await RevokeEdition.MarkAsync(db, e, reason, caller, now, ct);
            await write.CommitAsync(ct);
        }
        var told = editions.Count == 0 ? null : await announce.RunAsync([.. items.Select(i => (i.Certificate, i.Serial))], caller.Actor, $"{items.Count} editions revoked", wasHeld, ct);
        return new(true, items.Count, items, told);
    }

    private async Task<IQueryable<Edition>> SelectAsync(RevocationWish w, CancellationToken ct)
    {
        if (new[] { w.Serials is { Count: > 0 }, w.Host is { Length: > 0 }, w.Profile is { Length: > 0 } }.Count(x => x) != 1)
            throw new BeaconProblem(ProblemCode.InputInvalid, "It is not said, or said in several ways, which editions are meant.", "Give serials, or a host, or a profile with its revision.");
        if (w.Serials is { Count: > 0 } texts)
        {
            var serials = texts.Select(t => SerialNumber.TryParse(t, out var s) ? s.Hex : throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{t}\" is not a serial number.", "Write it in hexadecimal, as certificates show it.")).Distinct().ToList();
            var found = await db.Editions.Where(e => serials.Contains(e.Serial)).Select(e => e.Serial).ToListAsync(ct);
            if (serials.Except(found).FirstOrDefault() is { } missing) throw new BeaconProblem(ProblemCode.NotFound, $"No edition has the serial {missing}; none was revoked.", "See beacon cert list.");
            return db.Editions.Where(e => serials.Contains(e.Serial));
        }
        if (w.Host is { Length: > 0 } name)
        {
            var host = await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Name == name, ct) ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no host \"{name}\".", "See beacon host list.");
            return db.Editions.Where(e => db.Certificates.Any(c => c.Id == e.CertificateId && c.HostId == host.Id));
        }
        if (w.Revision is null) throw new BeaconProblem(ProblemCode.InputInvalid, "It is not said which revision of the profile is meant.", "Give its number; beacon profile show names it.");
        return db.Editions.Where(e => e.Profile == w.Profile && e.ProfileRevision == w.Revision);
    }
}

/// <summary>After a change of states is committed: nothing that was kept may say otherwise any more, and the lists say it.</summary>
public sealed class AnnounceRevocations(PublishCrl publish, RevocationBook book, Protocols.Ocsp.OcspDesk ocsp, ClientCertificates clients, Notices.Changes changes)
{
    /// <param name="wasHeld">Whether one of them was on hold before: an entry that stands in the list already is another one now, or is gone.</param>
    public async Task<string> RunAsync(IReadOnlyList<(string Certificate, string Serial)> changed, string actor, string why, bool wasHeld, CancellationToken ct)
    {
        clients.Forget();
        foreach (var (_, serial) in changed) ocsp.Forget(serial);
        if (wasHeld) book.Reset();
        var told = await publish.RunAsync(actor, why, CrlOccasion.Changed, ct);
        foreach (var name in changed.Select(c => c.Certificate).Distinct()) changes.Tell("certificate", name);
        return told;
    }
}

internal static class RevocationWords
{
    public static RevocationReason Parse(string? text)
    {
        if (string.IsNullOrWhiteSpace(text)) return RevocationReason.Unspecified;
        if (text == "hold") return RevocationReason.CertificateHold;
        return Enum.TryParse<RevocationReason>(text.Replace("-", ""), true, out var reason)
            && reason is RevocationReason.Unspecified or RevocationReason.KeyCompromise or RevocationReason.AffiliationChanged or RevocationReason.Superseded
                or RevocationReason.CessationOfOperation or RevocationReason.CertificateHold or RevocationReason.PrivilegeWithdrawn
            ? reason
            : throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{text}\" is not a reason for revoking.", "Use unspecified, key-compromise, affiliation-changed, superseded, cessation-of-operation, privilege-withdrawn or hold.");
    }

    public static async Task<Edition> FindAsync(BeaconDb db, string certificateName, string? serialText, CancellationToken ct)
    {
        var certificate = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == certificateName, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no certificate \"{certificateName}\".", "See beacon cert list.");
        var editions = db.Editions.Where(e => e.CertificateId == certificate.Id);
        if (serialText is { Length: > 0 })
            return SerialNumber.TryParse(serialText, out var serial) && await editions.FirstOrDefaultAsync(e => e.Serial == serial.Hex, ct) is { } named ? named
                : throw new BeaconProblem(ProblemCode.NotFound, $"\"{certificateName}\" has no edition with the serial {serialText}.", "See beacon cert show " + certificateName + ".");
        return await editions.FirstOrDefaultAsync(e => e.State == EditionState.Current, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"\"{certificateName}\" has no current edition.", "Name the serial to revoke.");
    }
}
