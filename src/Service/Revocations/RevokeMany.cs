using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

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
            editions = await (await SelectAsync(wish, ct))
                .Where(e => e.GenerationId != Edition.NoGeneration)
                .Where(e => e.NotAfter > now && (e.RevokedAt == null || e.RevocationReason == (int)RevocationReason.CertificateHold))
                .OrderBy(e => e.Id)
                .Take(Most + 1)
                .ToListAsync(ct);
            if (editions.Count > Most)
                throw new BeaconProblem(ProblemCode.TooLarge, $"Over {Most} editions are meant.", "Narrow the choice, and repeat it.");
            var ids = editions.Select(e => e.CertificateId).Distinct().ToList();
            var names = await db.Certificates.AsNoTracking().Where(c => ids.Contains(c.Id)).ToDictionaryAsync(c => c.Id, c => c.Name, ct);
            items = [.. editions.Select(e => new RevocationItem(names[e.CertificateId], e.Serial, e.NotAfter, e.State))];
            if (wish.Count is not { } expected)
                return new(false, items.Count, items, null);
            if (expected != items.Count)
                throw new BeaconProblem(
                    ProblemCode.ChangedMeanwhile,
                    $"{items.Count} editions are meant now, not {expected}; none was revoked.",
                    "Look at the list again, then repeat it with the number that it shows."
                );
            wasHeld = editions.Any(e => e.IsHeld);
            foreach (var e in editions)
                await RevokeEdition.MarkAsync(db, e, reason, caller, now, ct);
            await write.CommitAsync(ct);
        }
        var told =
            editions.Count == 0
                ? null
                : await announce.RunAsync(
                    [.. items.Select(i => (i.Certificate, i.Serial))],
                    caller.Actor,
                    $"{items.Count} editions revoked",
                    wasHeld,
                    ct
                );
        return new(true, items.Count, items, told);
    }

    private async Task<IQueryable<Edition>> SelectAsync(RevocationWish w, CancellationToken ct)
    {
        if (new[] { w.Serials is { Count: > 0 }, w.Host is { Length: > 0 }, w.Profile is { Length: > 0 } }.Count(x => x) != 1)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "Choose the editions in one way.",
                "Give one of: serials, a host, or a profile with its revision."
            );
        if (w.Serials is { Count: > 0 } texts)
        {
            var serials = texts
                .Select(t =>
                    SerialNumber.TryParse(t, out var s)
                        ? s.Hex
                        : throw new BeaconProblem(
                            ProblemCode.InputInvalid,
                            $"\"{t}\" is not a serial number.",
                            "Write it in hexadecimal, as certificates show it."
                        )
                )
                .Distinct()
                .ToList();
            var found = await db.Editions.Where(e => serials.Contains(e.Serial)).Select(e => e.Serial).ToListAsync(ct);
            if (serials.Except(found).FirstOrDefault() is { } missing)
                throw new BeaconProblem(
                    ProblemCode.NotFound,
                    $"No edition has the serial {missing}; none was revoked.",
                    "See beacon cert list."
                );
            return db.Editions.Where(e => serials.Contains(e.Serial));
        }
        if (w.Host is { Length: > 0 } name)
        {
            var host = await Hosts.FindHost.ByNameAsync(db, name, ct);
            return db.Editions.Where(e => db.Certificates.Any(c => c.Id == e.CertificateId && c.HostId == host.Id));
        }
        if (w.Revision is null)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "The revision of the profile is missing.",
                "Give its number; beacon profile show names it."
            );
        return db.Editions.Where(e => e.Profile == w.Profile && e.ProfileRevision == w.Revision);
    }
}
