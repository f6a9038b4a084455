using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>
/// Takes the answer to the issuing authority's request: checked, recorded, and in effect without a restart. The first one issues at once; a later one is
/// published only, until <see cref="TakeUpGeneration"/>.
/// </summary>
public sealed class InstallAnswer(
    BeaconDb db,
    AuthorityRegistry registry,
    PublishCrl publish,
    IEnumerable<IRenewsItself> own,
    BeaconOptions options,
    TimeProvider clock,
    Changes changes
)
{
    /// <returns>What follows, in a sentence.</returns>
    public async Task<string> RunAsync(string slug, IEnumerable<byte[]> files, Actor actor, CancellationToken ct)
    {
        var first = !registry.IsReady;
        string told;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var authority =
                await db.Authorities.Include(a => a.Generations).FirstOrDefaultAsync(a => a.Slug == slug, ct)
                ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no authority \"{slug}\".", "See beacon authority list.");
            var generation = authority.Coming is { Waits: true } g
                ? g
                : throw new BeaconProblem(ProblemCode.WrongState, $"\"{slug}\" waits for no answer.", "Nothing to do.");
            var roots = await db.Authorities.Include(a => a.Generations).FirstOrDefaultAsync(a => a.Slug == Authority.RootSlug, ct);
            var answer = AuthorityAnswer.Find(
                CertificationRequest.Read(generation.Request),
                files,
                [.. roots?.Certified.Select(r => r.Read()) ?? []],
                [.. authority.Certified.Select(c => c.Read())],
                now
            );
            ThrowIfShutOut(answer);
            generation.Answer(answer.Certificate.Der.ToArray());
            KeepRoot(roots, answer.Root, now);
            await KeepAboveAsync(answer.Above, now, ct);
            if (first)
                generation.TakeUp(now);
            await db.Note(
                now,
                actor,
                JournalAction.AuthorityAnswered,
                slug,
                $"generation {generation.Number}, serial {answer.Certificate.Serial} until {answer.Certificate.NotAfter:yyyy-MM-dd} from {answer.Root.Subject}"
            );
            told = first
                ? $"{slug} is ready: it issues from now on, below {answer.Root.Subject}."
                : $"Generation {generation.Number} of {slug} is published; nothing is issued under it yet. See that every point has it, then: beacon authority take-up {slug}";
            await write.CommitAsync(ct);
            if (first)
                await File.WriteAllTextAsync(
                    Path.Combine(options.Data, "root.pem"),
                    Armor.Write(Armor.Certificate, answer.Root.Der.Span),
                    ct
                );
        }
        await registry.LoadAsync(db, ct);
        await publish.RunAsync(
            actor,
            first ? "the authority is ready" : "a generation is published",
            first ? CrlOccasion.Now : CrlOccasion.Due,
            ct
        );
        foreach (var one in own)
            await one.RenewIfDueAsync(ct);
        changes.Tell("authority", slug);
        return told;
    }

    /// <summary>The first certificate is the service's own: a bound that leaves its names out would shut everybody out.</summary>
    private void ThrowIfShutOut(AuthorityAnswer answer)
    {
        foreach (var bound in answer.Above.Append(answer.Certificate).Append(answer.Root).Select(x => x.Constraints))
            if (bound?.FirstAgainst(options.NameList.Select(AlternativeName.Parse)) is { } outside)
                throw new BeaconProblem(
                    ProblemCode.AnswerRefused,
                    $"Under this certificate {outside}, a name of this service itself, may not be certified: it is bound to {bound}. Nobody could reach the service then.",
                    $"Have the request signed with that name permitted too, or take it out of the setting Names."
                );
    }

    /// <summary>The root comes with the first answer; later ones stand under a root that is here.</summary>
    private void KeepRoot(Authority? roots, X509 root, DateTimeOffset now)
    {
        if (roots is null)
            db.Authorities.Add(
                Authority.Of(Authority.RootSlug, root.Subject.CommonName ?? root.Subject.ToString(), "root", root.Der.ToArray(), null, now)
            );
        else if (!roots.Certified.Any(r => r.Der.AsSpan().SequenceEqual(root.Der.Span)))
            throw new BeaconProblem(
                ProblemCode.AnswerRefused,
                $"It is signed by {root.Subject} with the key {root.Serial.Short}, a root that is not installed here: nobody would trust what is issued under it.",
                "Install that root's certificate first: beacon authority install root FILES."
            );
    }

    /// <summary>Authorities between ours and the root: they are sent along with everything that ours issues.</summary>
    private async Task KeepAboveAsync(IReadOnlyList<X509> above, DateTimeOffset now, CancellationToken ct)
    {
        foreach (var x in above)
        {
            var rows = await db.Authorities.Include(a => a.Generations).Where(a => a.Kind == Authority.Above).ToListAsync(ct);
            var same = rows.FirstOrDefault(a => a.Certified.First().Read().Subject.Der.Span.SequenceEqual(x.Subject.Der.Span));
            if (same is null)
                db.Authorities.Add(
                    Authority.Of(
                        rows.Count == 0 ? Authority.Above : $"{Authority.Above}-{rows.Count + 1}",
                        x.Subject.CommonName ?? x.Subject.ToString(),
                        Authority.Above,
                        x.Der.ToArray(),
                        null,
                        now
                    )
                );
            else if (same.Certified.FirstOrDefault(g => g.Der.AsSpan().SequenceEqual(x.Der.Span)) is null)
                same.Add(
                    x.Der.ToArray(),
                    same.Certified.FirstOrDefault(g => g.Read().PublicKey.SameKey(x.PublicKey))?.KeyNumber
                        ?? same.Generations.Max(g => g.KeyNumber) + 1,
                    now
                );
            await db.SaveChangesAsync(ct);
        }
    }
}
