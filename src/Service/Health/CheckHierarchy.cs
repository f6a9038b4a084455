using System.Security.Cryptography;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;
using Severity = OrderlyBeacon.Core.Paths.Severity;

namespace OrderlyBeacon.Service.Health;

/// <summary>An address with what was found there.</summary>
public sealed record CheckedPoint(
    PointKind Kind,
    string Uri,
    string WrittenIn,
    int KeyNumber,
    PointFinding? Finding,
    string Good,
    DateTimeOffset? FreshUntil
);

/// <summary>
/// Looks at the whole hierarchy as its clients do: every address of certificates, CRLs, deltas and OCSP as it stands in the certificates is fetched and judged,
/// every online key is tried. What was found is kept in <see cref="HealthBook"/>.
/// </summary>
public sealed class CheckHierarchy(
    BeaconDb db,
    AuthorityRegistry registry,
    AuthorityKeys keys,
    CrlShelf shelf,
    EditionStates states,
    FetchPoint fetch,
    ProfileCatalogue profiles,
    HealthBook book,
    Publishing.PushPublished pushes,
    TimeProvider clock
)
{
    private const long MostOfSmall = 128 << 10,
        MostOfList = 64 << 20;
    private const int AtOnce = 8;

    /// <summary>An address that is to be looked at.</summary>
    private sealed record Wanted(
        PointKind Kind,
        string Uri,
        string WrittenIn,
        string Slug,
        int KeyNumber,
        X509 Issuer,
        OcspCertId? Asked,
        bool? Revoked
    );

    public async Task<HealthReport> RunAsync(CancellationToken ct)
    {
        var authorities = new List<HealthAuthority>();
        var now = clock.GetUtcNow();
        var seen = (await LookAsync(await WantedAsync(ct), ct)).ToLookup(x => (x.Wanted.Slug, x.Point.KeyNumber), x => x.Point);
        foreach (var row in await db.Authorities.AsNoTracking().Include(a => a.Generations).ToListAsync(ct))
        {
            var generations = new List<HealthGeneration>();
            foreach (var g in row.Generations.OrderBy(g => g.Number))
                generations.Add(await OfGenerationAsync(row, g, seen, now, ct));
            authorities.Add(new(row.Slug, row.Name, row.Kind, generations.Max(g => g.Severity), generations));
        }
        var all = authorities.SelectMany(a => a.Generations).ToList();
        var pushed = pushes.States;
        var worst = pushed.Any(p => !p.Good) ? Contracts.Severity.Now : Contracts.Severity.Fine;
        var report = new HealthReport(
            now,
            authorities.Select(a => a.Severity).Append(worst).Max(),
            all.Sum(g => g.Points.Count),
            all.Sum(g => g.Findings.Count + g.Points.Count(p => p.Finding is not null)) + pushed.Count(p => !p.Good),
            [.. authorities.OrderBy(a => a.Kind != "root")]
        )
        {
            Pushes = [.. pushed.Select(p => new HealthPush(p.Target, p.Good, p.Told, p.At))],
        };
        book.Keep(report);
        return report;
    }

    /// <summary>The addresses that editions under a published generation will name.</summary>
    public async Task<IReadOnlyList<CheckedPoint>> BeforeTakingUpAsync(IssuingPoint point, CancellationToken ct)
    {
        var wanted = Above(X509.Read(point.Certificate.Der), "the new certificate").Concat(await BelowAsync(point, ct)).ToList();
        return [.. (await LookAsync(wanted, ct)).Select(x => x.Point)];
    }

    private async Task<HealthGeneration> OfGenerationAsync(
        Authority a,
        Generation g,
        ILookup<(string, int), CheckedPoint> seen,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        var state = a.StateOf(g);
        var findings = new List<PointFinding>();
        var x = g.Waits ? null : g.Read();
        if (state == GenerationState.Waiting)
            findings.Add(
                new(
                    PointFault.AuthorityWaits,
                    a.InUse is null ? Severity.Now : Severity.Soon,
                    $"It waits for the answer to its request.",
                    ["The request was not carried to the root yet, or its answer not back."],
                    a.InUse is null ? "Nothing can be issued." : "Nobody yet: the generation before it issues.",
                    $"beacon authority request {a.Slug}, have it signed, then beacon authority install {a.Slug} FILES; or take it back: beacon authority undo {a.Slug}"
                )
            );
        var keyState =
            g.KeyFile is null ? "offline"
            : state == GenerationState.Withdrawn ? "withdrawn"
            : "usable";
        if (
            g.KeyFile is not null
            && x is not null
            && state != GenerationState.Withdrawn
            && keys.Try(g.KeyFile, x.PublicKey) is { } unusable
        )
        {
            keyState = "unusable";
            findings.Add(
                new(
                    PointFault.KeyUnusable,
                    Severity.Now,
                    unusable.Message,
                    ["The file was moved, altered or restored without its key-encryption key.", "Its permissions were changed."],
                    state == GenerationState.InUse
                        ? "Nothing can be issued; lists and answers expire one after the other."
                        : "The lists of this key expire: clients then refuse what it certified.",
                    unusable.Cure
                )
            );
        }
        if (x is not null && state == GenerationState.InUse && EndsBefore(a, x, now) is { } ends)
            findings.Add(ends);
        // What several generations share with their key is told with the newest of them.
        var points =
            x is null || a.Certified.LastOrDefault(o => o.KeyNumber == g.KeyNumber) != g ? [] : seen[(a.Slug, g.KeyNumber)].ToList();
        var editions =
            a.Slug == Authority.IssuingSlug
                ? await db
                    .Editions.AsNoTracking()
                    .Where(e => e.GenerationId == g.Id && e.NotAfter > now)
                    .GroupBy(_ => 1)
                    .Select(e => new { Count = e.LongCount(), Last = e.Max(i => i.NotAfter) })
                    .SingleOrDefaultAsync(ct)
                : null;
        var worst = findings
            .Concat(points.Select(p => p.Finding).OfType<PointFinding>())
            .Select(f => f.Severity)
            .DefaultIfEmpty(Severity.Fine)
            .Max();
        return new(
            g.Number,
            g.KeyNumber,
            BeaconProblem.SlugOf(state),
            x?.Serial.Hex ?? "",
            x?.PublicKey.Spec.ToString() ?? "",
            keyState,
            x?.NotBefore,
            x?.NotAfter,
            (Contracts.Severity)(int)worst,
            [.. findings.Select(Of)],
            [
                .. points.Select(p => new HealthPoint(
                    BeaconProblem.SlugOf(p.Kind),
                    p.Uri,
                    p.WrittenIn,
                    (Contracts.Severity)(int)(p.Finding?.Severity ?? Severity.Fine),
                    p.Finding?.Reason ?? p.Good,
                    p.Finding is { } f ? Of(f) : null,
                    p.FreshUntil
                )),
            ],
            editions?.Count ?? 0,
            editions?.Last
        )
        {
            SignedBy = x is null || x.IsSelfIssued ? null : SignerOf(x),
        };

        static HealthFinding Of(PointFinding f) =>
            new(BeaconProblem.SlugOf(f.Fault), (Contracts.Severity)(int)f.Severity, f.Reason, f.Causes, f.Hurts, f.Cure);
    }

    /// <summary>The generation under which a certificate was signed: of several with the same key, the last that was there by then.</summary>
    private HealthLink? SignerOf(X509 x) =>
        registry
            .Authorities.SelectMany(a => a.Certified.Select(g => (a.Slug, g.Number, X: g.Read())))
            .Where(s => s.X.Subject.Der.Span.SequenceEqual(x.Issuer.Der.Span) && x.SignedBy(s.X.PublicKey))
            .OrderBy(s => s.X.NotBefore <= x.NotBefore.AddMinutes(10))
            .ThenBy(s => s.Number)
            .Select(s => new HealthLink(s.Slug, s.Number))
            .LastOrDefault();

    /// <summary>The point from which a certificate with its full life would be cut short.</summary>
    private PointFinding? EndsBefore(Authority a, X509 x, DateTimeOffset now)
    {
        var left = x.NotAfter - now;
        if (a.Kind != "issuing")
            return left > TimeSpan.FromDays(365)
                ? null
                : new(
                    PointFault.AuthorityEnds,
                    left < TimeSpan.Zero ? Severity.Now : Severity.Soon,
                    $"{a.Name} ends on {x.NotAfter:yyyy-MM-dd}.",
                    ["Its life is nearly over."],
                    "After that nothing below it is accepted.",
                    "Where it is: beacon ceremony renew FOLDER. Then: beacon authority install root FILES"
                );
        var longest = profiles.All.Where(p => p.ForPeople).MaxBy(p => p.Life)!;
        return left > longest.Life
            ? null
            : new(
                PointFault.AuthorityEnds,
                left < TimeSpan.Zero ? Severity.Now : Severity.Soon,
                $"The authority ends on {x.NotAfter:yyyy-MM-dd}: the full life of profile \"{longest.Id}\", {longest.Life.TotalDays:0} days, does not fit any more.",
                ["Its life is nearly over."],
                "Lives of new certificates are cut short; after its end nothing it issued is accepted.",
                $"Begin its renewal: beacon authority rehearse {a.Slug}"
            );
    }

    /// <summary>All addresses that stand in our authorities' and editions' certificates.</summary>
    private async Task<List<Wanted>> WantedAsync(CancellationToken ct)
    {
        var wanted = new List<Wanted>();
        if (!registry.IsReady)
            return wanted;
        foreach (var a in registry.Authorities.Where(a => a.Kind != "root"))
        foreach (var g in a.Certified)
            wanted.AddRange(Above(g.Read(), $"{a.Name}, generation {g.Number}"));
        foreach (var key in registry.Keys)
            wanted.AddRange(await BelowAsync(key, ct));
        return
        [
            .. wanted
                .GroupBy(w => (w.Kind, w.Uri, w.Slug, w.KeyNumber))
                .Select(g => g.First() with { WrittenIn = string.Join("; ", g.Select(w => w.WrittenIn).Distinct()) }),
        ];
    }

    /// <summary>What an authority's certificate says about the one above it.</summary>
    private IEnumerable<Wanted> Above(X509 x, string who)
    {
        var (slug, key, issuer) = registry
            .Authorities.Where(a => a.Slug != Authority.IssuingSlug)
            .SelectMany(a => a.Certified.Select(g => (a.Slug, g.KeyNumber, X: g.Read())))
            .LastOrDefault(r => x.Issuer.Der.Span.SequenceEqual(r.X.Subject.Der.Span) && x.SignedBy(r.X.PublicKey));
        if (issuer is null)
            yield break;
        foreach (var uri in x.CrlUris)
            yield return new(PointKind.Crl, uri, who, slug, key, issuer, null, null);
        foreach (var (method, uri) in x.Access)
            if (method == Oids.CaIssuers)
                yield return new(PointKind.IssuerCertificate, uri, who, slug, key, issuer, null, null);
            else if (method == Oids.Ocsp)
                yield return new(PointKind.Ocsp, uri, who, slug, key, issuer, OcspCertId.Of(issuer, x.Serial, sha256: false), false);
    }

    /// <summary>What editions under a key say about it: the oldest and the newest that are still good, and what the next one will say.</summary>
    private async Task<List<Wanted>> BelowAsync(IssuingPoint key, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var good = db
            .Editions.AsNoTracking()
            .Where(e => key.Generations.Contains(e.GenerationId) && e.NotAfter > now && e.Profile != "responder");
        var asked = await db
            .Editions.AsNoTracking()
            .Where(e => key.Generations.Contains(e.GenerationId))
            .OrderByDescending(e => e.Id)
            .Select(e => e.Serial)
            .FirstOrDefaultAsync(ct);
        var id = asked is null ? null : OcspCertId.Of(key.Certificate, new SerialNumber(asked), sha256: false);
        bool? revoked = asked is null ? null : states.Find(new SerialNumber(asked))?.Revocation is not null;
        var wanted = new List<Wanted>();
        foreach (
            var (what, der) in new[]
            {
                ("the newest edition", await good.OrderByDescending(e => e.Id).Select(e => e.Der).FirstOrDefaultAsync(ct)),
                ("the oldest edition", await good.OrderBy(e => e.Id).Select(e => e.Der).FirstOrDefaultAsync(ct)),
            }
        )
        {
            if (der is null)
                continue;
            var x = X509.Read(der);
            Add(PointKind.Crl, x.CrlUris, what);
            Add(PointKind.DeltaCrl, x.FreshestCrlUris, what);
            Add(PointKind.IssuerCertificate, x.Access.Where(a => a.Method == Oids.CaIssuers).Select(a => a.Uri), what);
            Add(PointKind.Ocsp, x.Access.Where(a => a.Method == Oids.Ocsp).Select(a => a.Uri), what);
        }
        // A past key issues nothing more.
        if (key.KeyNumber >= registry.Issuing.KeyNumber)
        {
            Add(PointKind.Crl, [key.CrlUri], "the next edition");
            Add(PointKind.IssuerCertificate, [key.IssuerUri], "the next edition");
            Add(PointKind.Ocsp, [key.OcspUri], "the next edition");
        }
        return wanted;

        void Add(PointKind kind, IEnumerable<string> uris, string what)
        {
            foreach (var uri in uris)
                if (wanted.FindIndex(w => w.Kind == kind && w.Uri == uri) is >= 0 and var i)
                    wanted[i] = wanted[i] with { WrittenIn = wanted[i].WrittenIn + ", " + what };
                else if (kind != PointKind.Ocsp || id is not null)
                    wanted.Add(new(kind, uri, what, Authority.IssuingSlug, key.KeyNumber, key.Certificate, id, revoked));
        }
    }

    /// <summary>Fetches and judges, and goes on to the deltas that the lists themselves name.</summary>
    private async Task<List<(Wanted Wanted, CheckedPoint Point)>> LookAsync(List<Wanted> wanted, CancellationToken ct)
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
