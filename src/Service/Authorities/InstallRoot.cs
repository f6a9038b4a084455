using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Takes a renewed root: its certificate, and the cross certificates that lead from one of its keys to another.</summary>
public sealed class InstallRoot(
    BeaconDb db,
    AuthorityRegistry registry,
    ServiceCertificate own,
    BeaconOptions options,
    TimeProvider clock,
    Changes changes
)
{
    /// <summary>Takes one certificate in, when it is ours and new here.</summary>
    /// <param name="known">Certificates of the root with their keys' numbers; what is taken is added.</param>
    /// <param name="together">All that came along: one may vouch for the other.</param>
    /// <returns>What it is; null for one that is here already.</returns>
    private static string? Take(
        X509 c,
        Authority root,
        List<(int KeyNumber, X509 X)> known,
        IReadOnlyList<X509> together,
        DateTimeOffset now
    )
    {
        var isHere =
            known.Exists(k => k.X.Der.Span.SequenceEqual(c.Der.Span)) || root.Crosses.Any(x => x.Der.AsSpan().SequenceEqual(c.Der.Span));
        if (isHere)
            return null;
        ThrowUnlessOfRoot(c, known[0].X, now);
        if (c.IsSelfSigned)
            return TakeRoot(c, root, known, together, now);
        if (!known.Exists(k => c.SignedBy(k.X.PublicKey)) || !known.Exists(k => k.X.PublicKey.SameKey(c.PublicKey)))
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"The certificate {c.Serial} has our root's name, but no key of ours signed it.",
                "Give the files that beacon ceremony renew wrote."
            );
        root.Crosses.Add(new() { Der = c.Der.ToArray() });
        return $"the cross certificate {c.Serial.Short}";
    }

    private static void ThrowUnlessOfRoot(X509 c, X509 ours, DateTimeOffset now)
    {
        if (!c.Subject.Der.Span.SequenceEqual(ours.Subject.Der.Span))
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This is a certificate of {c.Subject}; our root is {ours.Subject}.",
                "Give our root's renewed certificate. Another root is another service's, or a new founding."
            );
        if (!c.IsAuthority || c.NotAfter < now)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                c.IsAuthority
                    ? $"This certificate of the root expired on {c.NotAfter:yyyy-MM-dd}."
                    : "This certificate is not one of an authority.",
                "Give the newest one."
            );
    }

    /// <summary>A new key is believed for a reason: an older one of ours has certified it.</summary>
    private static string TakeRoot(
        X509 c,
        Authority root,
        List<(int KeyNumber, X509 X)> known,
        IReadOnlyList<X509> together,
        DateTimeOffset now
    )
    {
        var same = known.Find(k => k.X.PublicKey.SameKey(c.PublicKey));
        var isNew = same.X is null;
        if (isNew && !together.Any(x => x.PublicKey.SameKey(c.PublicKey) && known.Exists(k => x.SignedBy(k.X.PublicKey))))
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                "This root certificate has a key that is new here, and no cross certificate by a key that is known came with it: anybody could have made it.",
                "Give cross-new-by-old--….pem along with it."
            );
        var key = isNew ? known.Max(k => k.KeyNumber) + 1 : same.KeyNumber;
        root.Add(c.Der.ToArray(), key, now);
        known.Add((key, c));
        return $"the root's certificate {c.Serial.Short} with {(isNew ? "a new" : "the same")} key, until {c.NotAfter:yyyy-MM-dd}";
    }

    /// <returns>What was taken, in a sentence.</returns>
    public async Task<string> RunAsync(IEnumerable<byte[]> files, Actor actor, CancellationToken ct)
    {
        var items = files.SelectMany(f => FileInspection.Inspect(f)).ToList();
        var certificates = items.Where(i => i.Kind == FileItemKind.Certificate).Select(i => X509.Read(i.Der)).ToList();
        if (certificates.Count == 0)
            throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"There is no certificate in this. What it is: {string.Join(" ", items.Select(i => i.Summary))}",
                "Give the root's new certificate and its cross certificates, often named root-certificate--….pem and cross-….pem."
            );
        var taken = new List<string>();
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var root =
                await db
                    .Authorities.Include(a => a.Generations)
                    .Include(a => a.Crosses)
                    .AsSplitQuery()
                    .OrderBy(a => a.Id)
                    .FirstOrDefaultAsync(a => a.Slug == Authority.RootSlug, ct)
                ?? throw new BeaconProblem(
                    ProblemCode.WrongState,
                    "There is no root here yet: it comes with the answer to the issuing authority's request.",
                    "See beacon authority show issuing."
                );
            var known = root.Certified.Select(g => (g.KeyNumber, X: g.Read())).ToList();
            foreach (var c in certificates.OrderByDescending(c => c.IsSelfSigned))
                if (Take(c, root, known, certificates, now) is { } told)
                    taken.Add(told);
            if (taken.Count == 0)
                throw new BeaconProblem(ProblemCode.WrongState, "All of these are installed already.", "Nothing to do.");
            await db.Note(now, actor, JournalAction.AuthorityRootRenewed, Authority.RootSlug, string.Join("; ", taken));
            await write.CommitAsync(ct);
            // Older roots stay in it as long as they are good: clients may have the one or the other.
            var all = known.Where(k => k.X.NotAfter > now).Select(k => Armor.Write(Armor.Certificate, k.X.Der.Span));
            var path = Path.Combine(options.Data, "root.pem");
            await File.WriteAllTextAsync(path + ".new", string.Concat(all), ct);
            File.Move(path + ".new", path, overwrite: true);
        }
        await registry.LoadAsync(db, ct);
        own.ChainChanged();
        changes.Tell("authority", Authority.RootSlug);
        return $"Taken: {string.Join("; ", taken)}.";
    }
}
