using Microsoft.EntityFrameworkCore;
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

/// <summary>Issues the issuing authority's next CRLs, full and delta, and puts them on the shelf. Half of each life is overlap, so that none lapses while the service is up.</summary>
public sealed class PublishCrl(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, RevocationBook book, BeaconOptions options, TimeProvider clock)
{
    /// <summary>Up to this many entries, every change goes into the full list at once: most clients never fetch deltas.</summary>
    private const int Small = 5_000;

    /// <returns>What was issued, in words; empty when nothing was due.</returns>
    public async Task<string> RunAsync(string actor, string why, CrlOccasion occasion, CancellationToken ct)
    {
        if (!registry.IsReady && occasion == CrlOccasion.Due) return "";
        var now = clock.GetUtcNow();
        var (full, delta) = (shelf.Get(Authority.IssuingSlug), shelf.Get(CrlShelf.DeltaName(Authority.IssuingSlug)));
        var wantFull = occasion == CrlOccasion.Now || full is null || full.IsDue(now) || (occasion == CrlOccasion.Changed && full.Row.Revoked < Small);
        if (!wantFull && occasion == CrlOccasion.Due && delta?.IsDue(now) == false) return "";

        var point = registry.Issuing;
        await using var write = await db.BeginWriteAsync(ct);
        var number = (await db.Crls.Where(c => c.AuthorityId == point.AuthorityId).MaxAsync(c => (long?)c.Number, ct) ?? 0) + 1;
        var from = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        var issued = new List<PublishedCrl>();
        if (wantFull) issued.Add(Sign(point, number, null, from, from + TimeSpan.FromHours(options.CrlHours), await book.EntriesAsync(db, now, ct)));
        // The delta goes on from the oldest full list that clients may still hold, so that it can be read with any of them.
        var oldest = await db.Crls.AsNoTracking().Where(c => c.AuthorityId == point.AuthorityId && !c.IsDelta && c.NextUpdate > now).OrderBy(c => c.Number)
            .Select(c => new { c.Number, c.ThisUpdate }).FirstOrDefaultAsync(ct);
        issued.Add(Sign(point, number, oldest?.Number ?? number, from, from + TimeSpan.FromHours(options.DeltaHours), await ChangesAsync(oldest?.ThisUpdate ?? from, ct)));
        db.Crls.AddRange(issued);
        // A few are kept for looking back.
        await db.Crls.Where(c => c.AuthorityId == point.AuthorityId && c.Number < number - 20).ExecuteDeleteAsync(ct);
        var told = string.Join("; ", issued.Select(c => $"{(c.IsDelta ? $"delta {c.Number} to {c.BaseNumber}" : $"number {c.Number}")}, {c.Revoked} revoked, next by {c.NextUpdate:yyyy-MM-dd HH:mm}Z"));
        await db.Note(now, actor, "crl.issued", Authority.IssuingSlug, $"{told}; {why}");
        await write.CommitAsync(ct);
        foreach (var c in issued) shelf.Put(Authority.IssuingSlug, c);
        return told;
    }

    private PublishedCrl Sign(IssuingPoint point, long number, long? from, DateTimeOffset at, DateTimeOffset until, CrlEntries entries) => new()
    {
        AuthorityId = point.AuthorityId, Number = number, IsDelta = from is not null, BaseNumber = from, ThisUpdate = at, NextUpdate = until, Revoked = entries.Count,
        Der = CrlWriter.Issue(new()
        {
            Issuer = point.Certificate.Subject, IssuerKeyIdentifier = point.Certificate.SubjectKeyIdentifier, Number = number, BaseNumber = from, ThisUpdate = at, NextUpdate = until,
            FreshestUris = [registry.CrlUri(CrlShelf.DeltaName(Authority.IssuingSlug))],
        }, entries, point.Signer).ToArray(),
    };

    private async Task<CrlEntries> ChangesAsync(DateTimeOffset since, CancellationToken ct)
    {
        var rows = await db.Editions.AsNoTracking().Where(e => e.RevocationChangedAt >= since).OrderBy(e => e.RevocationChangedAt)
            .Select(e => new { e.Serial, e.RevokedAt, e.RevocationReason, e.RevocationChangedAt }).ToListAsync(ct);
        return new([.. rows.Select(e => e.RevokedAt is { } at
            ? new RevokedCertificate(new SerialNumber(e.Serial), at, (RevocationReason)(e.RevocationReason ?? 0))
            : new RevokedCertificate(new SerialNumber(e.Serial), e.RevocationChangedAt!.Value, RevocationReason.RemoveFromCrl))]);
    }
}
