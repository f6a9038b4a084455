using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Takes the answer to the issuing authority's request: checked, recorded, and in effect without a restart.</summary>
public sealed class InstallAnswer(BeaconDb db, AuthorityRegistry registry, PublishCrl publish, ServiceCertificate own, ResponderCertificates responders, BeaconOptions options, TimeProvider clock, Changes changes)
{
    public async Task RunAsync(string slug, IEnumerable<byte[]> files, string actor, CancellationToken ct)
    {
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var authority = await db.Authorities.Include(a => a.Generations).FirstOrDefaultAsync(a => a.Slug == slug, ct) ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no authority \"{slug}\".", "See beacon authority list.");
            var generation = authority.Generations.FirstOrDefault(g => g.Waits) ?? throw new BeaconProblem(ProblemCode.WrongState, $"\"{slug}\" waits for no answer.", "Nothing to do.");
            var answer = AuthorityAnswer.Find(CertificationRequest.Read(generation.Request), files, now);
            // The first certificate is the service's own: a bound that leaves its names out would shut everybody out.
            foreach (var bound in new[] { answer.Certificate.Constraints, answer.Root.Constraints })
                if (bound?.FirstAgainst(options.NameList.Select(AlternativeName.Parse)) is { } outside)
                    throw new BeaconProblem(ProblemCode.AnswerRefused, $"Under this certificate {outside}, a name of this service itself, may not be certified: it is bound to {bound}. Nobody could reach the service then.", $"Have the request signed with that name permitted too, or take it out of the setting Names.");
            generation.Answer(answer.Certificate.Der.ToArray());
            db.Authorities.Add(Authority.Of(Authority.RootSlug, answer.Root.Subject.CommonName ?? answer.Root.Subject.ToString(), "root", answer.Root.Der.ToArray(), null));
            await db.Note(now, actor, "authority.answered", slug, $"serial {answer.Certificate.Serial} until {answer.Certificate.NotAfter:yyyy-MM-dd} from {answer.Root.Subject}");
            await write.CommitAsync(ct);
            await File.WriteAllTextAsync(Path.Combine(options.Data, "root.pem"), Armor.Write(Armor.Certificate, answer.Root.Der.Span), ct);
        }
        await registry.LoadAsync(db, ct);
        await publish.RunAsync(actor, "the authority is ready", CrlOccasion.Now, ct);
        await own.RenewIfDueAsync(ct);
        await responders.RenewIfDueAsync(ct);
        changes.Tell("authority", slug);
    }
}

/// <summary>Publishes a CRL that the offline root signed: the newest one is served at the root's address.</summary>
public sealed class PublishRootCrl(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, TimeProvider clock)
{
    public async Task<string> RunAsync(byte[] file, string actor, CancellationToken ct)
    {
        var item = RootCeremony.Expect(file, FileItemKind.Crl, "a CRL of the root", "Give the file that beacon ceremony crl wrote, often named root-crl--….pem.");
        var crl = Crl.Read(item.Der);
        var now = clock.GetUtcNow();
        if (!crl.Issuer.Der.Span.SequenceEqual(registry.Root.Subject.Der.Span) || !crl.SignedBy(registry.Root.PublicKey))
            throw new BeaconProblem(ProblemCode.WrongFile, $"This CRL of {crl.Issuer} was not signed by our root's key: it may be another root's, or another generation's.", $"Give one of {registry.Root.Subject}.");
        if (crl.NextUpdate is not { } until || until < now) throw new BeaconProblem(ProblemCode.WrongFile, $"This CRL was good until {crl.NextUpdate:yyyy-MM-dd} only.", "Sign a fresh one: beacon ceremony crl.");
        await using var write = await db.BeginWriteAsync(ct);
        var root = await db.Authorities.AsNoTracking().SingleAsync(a => a.Slug == Authority.RootSlug, ct);
        var number = (long)(crl.Number ?? 0);
        if (shelf.Get(Authority.RootSlug) is { } newest && newest.Row.Number >= number)
            throw new BeaconProblem(ProblemCode.WrongFile, $"This is CRL {number}; number {newest.Row.Number} is published already.", "Give a newer one, or leave it.");
        var row = new PublishedCrl { AuthorityId = root.Id, Number = number, Der = item.Der.ToArray(), ThisUpdate = crl.ThisUpdate, NextUpdate = until, Revoked = crl.Revoked.Count };
        db.Crls.Add(row);
        await db.Note(now, actor, "crl.published", Authority.RootSlug, $"number {number}, {crl.Revoked.Count} revoked, next by {until:yyyy-MM-dd}");
        await write.CommitAsync(ct);
        shelf.Put(Authority.RootSlug, row);
        return $"number {number}, {crl.Revoked.Count} revoked, next by {until:yyyy-MM-dd}";
    }
}
