using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Issues the issuing authority's next CRL and puts it on the shelf.</summary>
public sealed class PublishCrl(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, BeaconOptions options, TimeProvider clock)
{
    /// <param name="onlyWhenDue">Issue only when the newest CRL is past half of its life.</param>
    public async Task RunAsync(string actor, string why, bool onlyWhenDue, CancellationToken ct)
    {
        var point = registry.Issuing;
        var now = clock.GetUtcNow();
        if (onlyWhenDue && shelf.Get(Authority.IssuingSlug) is { NextUpdate: { } next } newest && now < newest.ThisUpdate + (next - newest.ThisUpdate) / 2) return;

        await using var write = await db.BeginWriteAsync(ct);
        var number = (await db.Crls.Where(c => c.AuthorityId == point.AuthorityId).MaxAsync(c => (long?)c.Number, ct) ?? 0) + 1;
        var revoked = (await db.Editions.AsNoTracking().Where(e => e.RevokedAt != null).OrderBy(e => e.Id)
                .Select(e => new { e.Serial, e.RevokedAt, e.RevocationReason }).ToListAsync(ct))
            .Select(e => new RevokedCertificate(new SerialNumber(e.Serial), e.RevokedAt!.Value, (RevocationReason)(e.RevocationReason ?? 0))).ToList();
        var from = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        var to = from + TimeSpan.FromHours(options.CrlHours);
        var der = CrlWriter.Issue(point.Certificate.Subject, point.Certificate.SubjectKeyIdentifier.Span, number, from, to, revoked, point.Signer);
        db.Crls.Add(new() { AuthorityId = point.AuthorityId, Number = number, Der = der, ThisUpdate = from, NextUpdate = to, Revoked = revoked.Count });
        // The last few are kept for looking back.
        await db.Crls.Where(c => c.AuthorityId == point.AuthorityId && c.Number < number - 20).ExecuteDeleteAsync(ct);
        await db.Note(now, actor, "crl.issued", Authority.IssuingSlug, $"number {number}, {revoked.Count} revoked, next by {to:yyyy-MM-dd HH:mm}Z; {why}");
        await write.CommitAsync(ct);
        shelf.Put(Authority.IssuingSlug, number, der);
    }
}
