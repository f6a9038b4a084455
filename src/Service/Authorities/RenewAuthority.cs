using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Begins a renewal of the issuing authority: makes the request for its next generation, with its key or a new one. What issues goes on as it is.</summary>
public sealed class RenewAuthority(BeaconDb db, AuthorityKeys keys, AuthorityRegistry registry, TimeProvider clock, Changes changes)
{
    /// <param name="newKey">The kind of a new key; null goes on with the key in use.</param>
    /// <returns>The request's short name.</returns>
    public async Task<string> RunAsync(string slug, KeySpec? newKey, string actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug) throw Elsewhere(slug);
        var point = registry.Issuing;
        string name;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var authority = await db.Authorities.Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
            if (authority.Coming is { } coming)
                throw new BeaconProblem(ProblemCode.WrongState, $"Generation {coming.Number} of {slug} is on its way already: it {(coming.Waits ? "waits for the answer to its request" : "is published and waits to be taken up")}.",
                    coming.Waits ? $"Install the answer (beacon authority install {slug} FILES), or take the renewal back: beacon authority undo {slug}" : $"beacon authority take-up {slug}, or beacon authority undo {slug}");
            var now = clock.GetUtcNow();
            // A kill between the file and the row leaves a key that nothing points to; the next one has a name of its own.
            var file = newKey is null ? null : keys.NameFor($"{slug}--{now:yyyyMMdd-HHmmss}");
            var signer = file is null ? point.Signer : keys.Make(file, newKey!);
            var request = CertificationRequest.Write(point.Certificate.Subject, [], signer);
            var generation = authority.Ask(request, file);
            name = AuthorityAnswer.NameOf(CertificationRequest.Read(request));
            await db.Note(now, actor, "authority.renewal-begun", slug, $"generation {generation.Number} with {(newKey is null ? "the same key" : $"a new key, {newKey}")}; its request {name} waits for an answer");
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        changes.Tell("authority", slug);
        return name;
    }

    internal static BeaconProblem Elsewhere(string slug) => new(slug == Authority.RootSlug ? ProblemCode.WrongState : ProblemCode.NotFound,
        slug == Authority.RootSlug ? "The root's key is not here, so it cannot be renewed here." : $"There is no authority \"{slug}\".",
        slug == Authority.RootSlug ? "Where it is: beacon ceremony renew FOLDER. Then bring what it wrote: beacon authority install root FILES" : "See beacon authority list.");
}

/// <summary>Lets a published generation issue. Before that, each point that its editions will name is fetched as a client would.</summary>
public sealed class TakeUpGeneration(BeaconDb db, AuthorityRegistry registry, CheckHierarchy check, RevocationBook book, TimeProvider clock, Changes changes)
{
    /// <returns>What was seen at each point, then what happened.</returns>
    public async Task<IReadOnlyList<string>> RunAsync(string slug, string actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug) throw RenewAuthority.Elsewhere(slug);
        var row = await db.Authorities.AsNoTracking().Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
        if (row.Coming is not { } coming) throw new BeaconProblem(ProblemCode.WrongState, $"No generation of {slug} waits to be taken up.", $"Begin with beacon authority rehearse {slug}.");
        if (coming.Waits) throw new BeaconProblem(ProblemCode.WrongState, $"Generation {coming.Number} of {slug} has no certificate yet.", $"Have its request signed, then: beacon authority install {slug} FILES");
        var seen = await check.BeforeTakingUpAsync(registry.Keys.Single(k => k.KeyNumber == coming.KeyNumber), ct);
        if (seen.FirstOrDefault(s => s.Finding is { Severity: >= Core.Paths.Severity.Now }) is { Finding: { } bad } at)
            throw new BeaconProblem(ProblemCode.WrongState, $"{at.Uri} is not ready: {bad.Reason} Nothing was changed.", $"{bad.Cure} Then take it up again.");
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var authority = await db.Authorities.Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
            if (authority.Coming is not { Waits: false } generation || generation.Id != coming.Id) throw new BeaconProblem(ProblemCode.ChangedMeanwhile, "Somebody took it up or took it back in between.", "See beacon authority show " + slug + ".");
            var now = clock.GetUtcNow();
            generation.TakeUp(now);
            await db.Note(now, actor, "authority.taken-up", slug, $"generation {generation.Number} issues from now on; {seen.Count} points were verified");
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        book.KeysChanged();
        changes.Tell("authority", slug);
        return [.. seen.Select(s => $"{s.Uri}: {s.Finding?.Reason ?? s.Good}"), $"Generation {coming.Number} of {slug} issues from now on. Until its first edition this can be undone: beacon authority undo {slug}"];
    }
}

/// <summary>Takes a renewal back, whatever stage it is in, as long as nothing was issued under it.</summary>
public sealed class UndoRenewal(BeaconDb db, AuthorityRegistry registry, RevocationBook book, ResponderCertificates responders, TimeProvider clock, Changes changes)
{
    public async Task<string> RunAsync(string slug, string actor, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug) throw RenewAuthority.Elsewhere(slug);
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
                throw new BeaconProblem(ProblemCode.WrongState, $"{issued} editions were issued under generation {last.Number} since it was taken up: taking it back would leave them without lists and answers.", "Go on with it; its predecessor's editions stay good until they end.");
            var now = clock.GetUtcNow();
            if (last.TakenUpAt is not null && authority.Certified.Last(g => g != last && g.TakenUpAt is not null).Read().NotAfter < now)
                throw new BeaconProblem(ProblemCode.WrongState, "The generation before it has ended: nothing could be issued then.", "Go on with this one, or begin another renewal.");
            last.Withdraw(now);
            told = $"Generation {last.Number} of {slug} is withdrawn; generation {authority.InUse!.Number} issues.";
            await db.Note(now, actor, "authority.renewal-undone", slug, told);
            await write.CommitAsync(ct);
        }
        await registry.LoadAsync(db, ct);
        book.KeysChanged();
        await responders.RenewIfDueAsync(ct);
        changes.Tell("authority", slug);
        return told;
    }
}
