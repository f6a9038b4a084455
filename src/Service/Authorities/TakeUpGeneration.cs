using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Lets a published generation issue. Before that, each point that its editions will name is fetched as a client would.</summary>
public sealed class TakeUpGeneration(
    BeaconDb db,
    AuthorityRegistry registry,
    CheckHierarchy check,
    RevocationBook book,
    TimeProvider clock,
    Changes changes
)
{
    /// <returns>What was seen at each point, then what happened.</returns>
    public async Task<IReadOnlyList<string>> RunAsync(string slug, Actor actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug)
            throw RenewAuthority.Elsewhere(slug);
        var row = await db.Authorities.AsNoTracking().Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
        if (row.Coming is not { } coming)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"No generation of {slug} waits to be taken up.",
                $"Begin with beacon authority rehearse {slug}."
            );
        if (coming.Waits)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Generation {coming.Number} of {slug} has no certificate yet.",
                $"Have its request signed, then: beacon authority install {slug} FILES"
            );
        var seen = await check.BeforeTakingUpAsync(registry.Keys.Single(k => k.KeyNumber == coming.KeyNumber), ct);
        if (seen.FirstOrDefault(s => s.Finding is { Severity: >= Core.Paths.Severity.Now }) is { Finding: { } bad } at)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{at.Uri} is not ready: {bad.Reason} Nothing was changed.",
                $"{bad.Cure} Then take it up again."
            );
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var authority = await db.Authorities.Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
            if (authority.Coming is not { Waits: false } generation || generation.Id != coming.Id)
                throw new BeaconProblem(
                    ProblemCode.ChangedMeanwhile,
                    "Somebody took it up or took it back in between.",
                    "See beacon authority show " + slug + "."
                );
            var now = clock.GetUtcNow();
            generation.TakeUp(now);
            await db.Note(
                now,
                actor,
                JournalAction.AuthorityTakenUp,
                slug,
                $"generation {generation.Number} issues from now on; {seen.Count} points were verified"
            );
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        book.KeysChanged();
        changes.Tell("authority", slug);
        return
        [
            .. seen.Select(s => $"{s.Uri}: {s.Finding?.Reason ?? s.Good}"),
            $"Generation {coming.Number} of {slug} issues from now on. Until its first edition this can be undone: beacon authority undo {slug}",
        ];
    }
}
