using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Begins a renewal of the issuing authority: makes the request for its next generation, with its key or a new one. The authority in use keeps issuing.</summary>
public sealed class RenewAuthority(
    BeaconDb db,
    AuthorityKeys keys,
    AuthorityRegistry registry,
    BeaconOptions options,
    TimeProvider clock,
    Changes changes
)
{
    /// <param name="newKey">The kind of a new key; null goes on with the key in use.</param>
    /// <returns>The request's short name.</returns>
    public async Task<string> RunAsync(string slug, KeySpec? newKey, Actor actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug)
            throw Elsewhere(slug);
        var point = registry.Issuing;
        string name;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var authority = await db.Authorities.Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
            if (authority.Coming is { } coming)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"Generation {coming.Number} of {slug} is on its way already: it {(coming.Waits ? "waits for the answer to its request" : "is published and waits to be taken up")}.",
                    coming.Waits
                        ? $"Install the answer (beacon authority install {slug} FILES), or take the renewal back: beacon authority undo {slug}"
                        : $"beacon authority take-up {slug}, or beacon authority undo {slug}"
                );
            var now = clock.GetUtcNow();
            // A kill between the file and the row leaves a key that nothing points to; the next one has a name of its own.
            var file = newKey is null ? null : keys.NameFor($"{slug}--{now:yyyyMMdd-HHmmss-fff}");
            var signer = file is null ? point.Signer : keys.Make(file, newKey!);
            var request = CertificationRequest.Write(point.Certificate.Subject, [], signer, AuthorityBounds.Of(options));
            var generation = authority.Ask(request, file);
            name = AuthorityAnswer.NameOf(CertificationRequest.Read(request));
            await db.Note(
                now,
                actor,
                JournalAction.AuthorityRenewalBegun,
                slug,
                $"generation {generation.Number} with {(newKey is null ? "the same key" : $"a new key, {newKey}")}; its request {name} waits for an answer"
            );
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        changes.Tell("authority", slug);
        return name;
    }

    internal static BeaconProblem Elsewhere(string slug) =>
        new(
            slug == Authority.RootSlug ? ProblemCode.WrongState : ProblemCode.NotFound,
            slug == Authority.RootSlug ? "The root's key is offline: the service cannot renew it." : $"There is no authority \"{slug}\".",
            slug == Authority.RootSlug
                ? "Where it is: beacon ceremony renew FOLDER. Then bring what it wrote: beacon authority install root FILES"
                : "See beacon authority list."
        );
}
