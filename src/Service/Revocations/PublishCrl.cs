using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Why lists are issued.</summary>
public enum CrlOccasion
{
    /// <summary>The regular round: only what is past half of its life.</summary>
    Due,

    /// <summary>Something was revoked, held or released: a delta, and the full list too while it is small.</summary>
    Changed,

    /// <summary>A person wants both, now.</summary>
    Now,
}

/// <summary>
/// Issues the issuing authority's next CRLs, full and delta, for each of its keys, and puts them on the shelf. Half of each life is overlap, so that none
/// lapses while the service is up. A key that no longer issues keeps its lists until the last edition under it has ended.
/// </summary>
public sealed class PublishCrl(
    BeaconDb db,
    AuthorityRegistry registry,
    CrlShelf shelf,
    RevocationBook book,
    BeaconOptions options,
    TimeProvider clock
)
{
    /// <summary>Up to this many entries, every change goes into the full list at once: most clients never fetch deltas.</summary>
    private const int Small = 5_000;

    /// <returns>What was issued, in words; empty when nothing was due.</returns>
    public async Task<string> RunAsync(Actor actor, string why, CrlOccasion occasion, CancellationToken ct)
    {
        if (!registry.IsReady)
        {
            if (occasion == CrlOccasion.Due)
                return "";
            _ = registry.Issuing;
        }
        var told = new List<string>();
        BeaconProblem? unusable = null;
        foreach (var point in registry.Keys)
        {
            // A key that cannot be used must not keep the others' lists from coming.
            try
            {
                if (await RunAsync(point, actor, why, occasion, ct) is { Length: > 0 } one)
                    told.Add(registry.Keys.Count == 1 ? one : $"{point.File}: {one}");
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.AuthorityNotReady)
            {
                unusable ??= p;
            }
        }
        return unusable is null ? string.Join("; ", told) : throw unusable;
    }

    private async Task<string> RunAsync(IssuingPoint point, Actor actor, string why, CrlOccasion occasion, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var (full, delta) = (shelf.Get(point.File), shelf.Get(CrlShelf.DeltaName(point.File)));
        var floor = await book.FloorAsync(db, ct);
        // After the clock was set back, changes are older than the list that a delta would go on from, and so would be missing in it.
        var ahead = occasion != CrlOccasion.Due && full?.Row.ThisUpdate > now;
        var wantFull =
            ahead
            || occasion == CrlOccasion.Now
            || full is null
            || full.Row.Number <= floor
            || full.IsDue(now)
            || (occasion == CrlOccasion.Changed && full.Row.Revoked < Small);
        if (!wantFull && occasion == CrlOccasion.Due && delta?.IsDue(now) == false)
            return "";
        if (point.KeyNumber < registry.Issuing.KeyNumber && await book.LastEndAsync(db, point, ct) < now)
            return "";

        await using var write = await db.BeginWriteAsync(ct);
        var ofKey = db.Crls.AsNoTracking().Where(c => c.AuthorityId == point.AuthorityId && c.KeyNumber == point.KeyNumber);
        var number = Math.Max(floor, await ofKey.MaxAsync(c => (long?)c.Number, ct) ?? 0) + 1;
        var from = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        var issued = new List<PublishedCrl>();
        if (wantFull)
            issued.Add(
                Sign(point, number, null, from, from + TimeSpan.FromHours(options.CrlHours), await book.EntriesAsync(db, point, now, ct))
            );
        // The delta goes on from the oldest full list that clients may still hold, so that it can be read with any of them.
        var oldest = await ofKey
            .Where(c => !c.IsDelta && c.NextUpdate > now && c.ThisUpdate <= now)
            .OrderBy(c => c.Number)
            .Select(c => new { c.Number, c.ThisUpdate })
            .FirstOrDefaultAsync(ct);
        issued.Add(
            Sign(
                point,
                number,
                oldest?.Number ?? number,
                from,
                from + TimeSpan.FromHours(options.DeltaHours),
                await ChangesAsync(point, oldest?.ThisUpdate ?? from, ct)
            )
        );
        db.Crls.AddRange(issued);
        // A few are kept for looking back.
        await ofKey.Where(c => c.Number < number - 20).ExecuteDeleteAsync(ct);
        var told = string.Join(
            "; ",
            issued.Select(c =>
                $"{(c.IsDelta ? $"delta {c.Number} to {c.BaseNumber}" : $"number {c.Number}")}, {c.Revoked} revoked, next by {c.NextUpdate:yyyy-MM-dd HH:mm}Z"
            )
        );
        await db.Note(now, actor, JournalAction.CrlIssued, point.File, $"{told}; {why}");
        await write.CommitAsync(ct);
        foreach (var c in issued)
            shelf.Put(Authority.IssuingSlug, c);
        return told;
    }

    private PublishedCrl Sign(IssuingPoint point, long number, long? from, DateTimeOffset at, DateTimeOffset until, CrlEntries entries) =>
        new()
        {
            AuthorityId = point.AuthorityId,
            KeyNumber = point.KeyNumber,
            Number = number,
            IsDelta = from is not null,
            BaseNumber = from,
            ThisUpdate = at,
            NextUpdate = until,
            Revoked = entries.Count,
            Der = CrlWriter
                .Issue(
                    new()
                    {
                        Issuer = point.Certificate.Subject,
                        IssuerKeyIdentifier = point.Certificate.SubjectKeyIdentifier,
                        Number = number,
                        BaseNumber = from,
                        ThisUpdate = at,
                        NextUpdate = until,
                        FreshestUris = [registry.CrlUri(CrlShelf.DeltaName(point.File))],
                        // The first key's lists never say it, so that those from before there was a second one still fit their deltas.
                        PointUris = point.KeyNumber == 1 ? [] : [point.CrlUri],
                    },
                    entries,
                    point.Signer
                )
                .ToArray(),
        };

    private async Task<CrlEntries> ChangesAsync(IssuingPoint point, DateTimeOffset since, CancellationToken ct)
    {
        var rows = await db
            .Editions.AsNoTracking()
            .Where(e => e.RevocationChangedAt >= since && point.Generations.Contains(e.GenerationId))
            .OrderBy(e => e.RevocationChangedAt)
            .Select(e => new
            {
                e.Serial,
                e.RevokedAt,
                e.RevocationReason,
                e.RevocationChangedAt,
            })
            .ToListAsync(ct);
        return new([
            .. rows.Select(e =>
                e.RevokedAt is { } at
                    ? new RevokedCertificate(new SerialNumber(e.Serial), at, (RevocationReason)(e.RevocationReason ?? 0))
                    : new RevokedCertificate(new SerialNumber(e.Serial), e.RevocationChangedAt!.Value, RevocationReason.RemoveFromCrl)
            ),
        ]);
    }
}
