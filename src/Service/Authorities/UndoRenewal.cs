using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Takes a renewal back, whatever stage it is in, as long as nothing was issued under it.</summary>
public sealed class UndoRenewal(
    BeaconDb db,
    AuthorityRegistry registry,
    RevocationBook book,
    ResponderCertificates responders,
    TimeProvider clock,
    Changes changes
)
{
    public async Task<string> RunAsync(string slug, Actor actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug)
            throw RenewAuthority.Elsewhere(slug);
        string told;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var authority = await db.Authorities.Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
            var last = authority.Coming ?? authority.InUse;
            if (last is null || authority.Generations.All(g => g == last || g.WithdrawnAt is not null || g.TakenUpAt is null))
                throw new BeaconProblem(ProblemCode.WrongState, $"{slug} has no renewal that could be taken back.", "Nothing to do.");
            // A responder's certificate is the authority's own, and is of no use to anybody once nothing else was issued.
            var issued = await db.Editions.CountAsync(e => e.GenerationId == last.Id && e.Profile != "responder", ct);
            if (last.TakenUpAt is not null && issued > 0)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"{issued} editions were issued under generation {last.Number} since it was taken up: taking it back would leave them without lists and answers.",
                    "Go on with it; its predecessor's editions stay good until they end."
                );
            var now = clock.GetUtcNow();
            if (last.TakenUpAt is not null && authority.Certified.Last(g => g != last && g.TakenUpAt is not null).Read().NotAfter < now)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    "The generation before it has expired: nothing could be issued then.",
                    "Go on with this one, or begin another renewal."
                );
            last.Withdraw(now);
            told = $"Generation {last.Number} of {slug} is withdrawn; generation {authority.InUse!.Number} issues.";
            await db.Note(now, actor, JournalAction.AuthorityRenewalUndone, slug, told);
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        book.KeysChanged();
        await responders.RenewIfDueAsync(ct);
        changes.Tell("authority", slug);
        return told;
    }
}
