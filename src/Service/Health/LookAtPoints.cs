using System.Security.Cryptography;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Health;

/// <summary>Looks at addresses as a client would, a few at once, and judges what comes.</summary>
public sealed class LookAtPoints(AuthorityRegistry registry, CrlShelf shelf, FetchPoint fetch, TimeProvider clock)
{
    private const long MostOfSmall = 128 << 10,
        MostOfList = 64 << 20;
    private const int AtOnce = 8;

    /// <summary>Fetches and judges, and goes on to the deltas that the lists themselves name.</summary>
    public async Task<List<(Wanted Wanted, CheckedPoint Point)>> RunAsync(List<Wanted> wanted, CancellationToken ct)
    {
        using var few = new SemaphoreSlim(AtOnce);
        var done = new List<(Wanted, CheckedPoint)>();
        var round = wanted;
        while (round.Count > 0)
        {
            var seen = await Task.WhenAll(
                round.Select(async w =>
                {
                    await few.WaitAsync(ct);
                    try
                    {
                        return await OneAsync(w, ct);
                    }
                    finally
                    {
                        few.Release();
                    }
                })
            );
            done.AddRange(seen.Select(s => (s.Wanted, s.Point)));
            round =
            [
                .. seen.SelectMany(s =>
                        s.Deltas.Select(d => s.Wanted with { Kind = PointKind.DeltaCrl, Uri = d, WrittenIn = "its full list" })
                    )
                    .DistinctBy(d => (d.Uri, d.KeyNumber, d.Slug))
                    .Where(d =>
                        !done.Any(x =>
                            x.Item1.Kind == PointKind.DeltaCrl
                            && x.Item1.Uri == d.Uri
                            && x.Item1.KeyNumber == d.KeyNumber
                            && x.Item1.Slug == d.Slug
                        )
                    ),
            ];
        }
        return done;
    }

    private async Task<(Wanted Wanted, CheckedPoint Point, IReadOnlyList<string> Deltas)> OneAsync(Wanted w, CancellationToken ct)
    {
        var question = w.Kind == PointKind.Ocsp ? OcspRequest.Write([w.Asked!], RandomNumberGenerator.GetBytes(16)) : null;
        var file = Authority.FileOf(w.Slug, w.KeyNumber);
        // Before fetching: what is published in between is newer than what is asked for, never older.
        var published = w.Kind is PointKind.Crl or PointKind.DeltaCrl
            ? shelf.Get(w.Kind == PointKind.Crl ? file : CrlShelf.DeltaName(file))?.Row.Number
            : null;
        var fetched = await fetch.RunAsync(w.Uri, question, w.Kind is PointKind.Crl or PointKind.DeltaCrl ? MostOfList : MostOfSmall, ct);
        var family = registry.Authorities.Where(a => a.Slug == w.Slug).SelectMany(a => a.Certified).Select(g => g.Read()).ToList();
        var verdict = PointJudge.Judge(new(w.Kind, w.Issuer, family, published, w.Asked, w.Revoked), fetched, clock.GetUtcNow());
        IReadOnlyList<string> deltas =
            w.Kind == PointKind.Crl && verdict.Finding is null or { Fault: PointFault.Stale or PointFault.ExpiresSoon }
                ? Crl.Read(fetched.Body).FreshestUris
                : [];
        return (w, new(w.Kind, w.Uri, w.WrittenIn, w.KeyNumber, verdict.Finding, verdict.Good, verdict.FreshUntil), deltas);
    }
}
