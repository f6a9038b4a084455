using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Publishes a CRL that the offline root signed: the newest one of each of its keys is served at that key's address.</summary>
public sealed class PublishRootCrl(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, TimeProvider clock)
{
    public async Task<string> RunAsync(byte[] file, Actor actor, CancellationToken ct)
    {
        var item = RootCeremony.Expect(
            file,
            FileItemKind.Crl,
            "a CRL of the root",
            "Give the file that beacon ceremony crl wrote, often named root-crl--….pem."
        );
        var crl = Crl.Read(item.Der);
        var now = clock.GetUtcNow();
        var generation =
            registry
                .Authorities.Where(a => a.Slug == Authority.RootSlug)
                .SelectMany(a => a.Certified)
                .LastOrDefault(g => g.Read() is var x && crl.Issuer.Der.Span.SequenceEqual(x.Subject.Der.Span) && crl.SignedBy(x.PublicKey))
            ?? throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This CRL of {crl.Issuer} was not signed by our root's key: it may be another root's, or another generation's.",
                $"Give one of {registry.Root.Subject}."
            );
        if (crl.NextUpdate is not { } until || until < now)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This CRL was good until {crl.NextUpdate:yyyy-MM-dd} only.",
                "Sign a fresh one: beacon ceremony crl."
            );
        await using var write = await db.BeginWriteAsync(ct);
        var number = (long)(crl.Number ?? 0);
        if (shelf.Get(Authority.FileOf(Authority.RootSlug, generation.KeyNumber)) is { } newest && newest.Row.Number >= number)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This is CRL {number}; number {newest.Row.Number} is published already.",
                "Give a newer one, or leave it."
            );
        var row = new PublishedCrl
        {
            AuthorityId = generation.AuthorityId,
            KeyNumber = generation.KeyNumber,
            Number = number,
            Der = item.Der.ToArray(),
            ThisUpdate = crl.ThisUpdate,
            NextUpdate = until,
            Revoked = crl.Revoked.Count,
        };
        db.Crls.Add(row);
        var told =
            $"number {number}{(generation.KeyNumber > 1 ? $" of key {generation.KeyNumber}" : "")}, {crl.Revoked.Count} revoked, next by {until:yyyy-MM-dd}";
        await db.Note(now, actor, JournalAction.CrlPublished, Authority.RootSlug, told);
        await write.CommitAsync(ct);
        shelf.Put(Authority.RootSlug, row);
        return told;
    }
}
