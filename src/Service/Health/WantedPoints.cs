using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Health;

/// <summary>An address that is to be looked at.</summary>
public sealed record Wanted(
    PointKind Kind,
    string Uri,
    string WrittenIn,
    string Slug,
    int KeyNumber,
    X509 Issuer,
    OcspCertId? Asked,
    bool? Revoked
);

/// <summary>Finds the addresses that clients are sent to.</summary>
public sealed class WantedPoints(BeaconDb db, AuthorityRegistry registry, EditionStates states, TimeProvider clock)
{
    /// <summary>All addresses that stand in our authorities' and editions' certificates.</summary>
    public async Task<List<Wanted>> AllAsync(CancellationToken ct)
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

    /// <summary>The addresses that editions under a published generation will name.</summary>
    public async Task<List<Wanted>> BeforeTakingUpAsync(IssuingPoint point, CancellationToken ct) =>
        [.. Above(X509.Read(point.Certificate.Der), "the new certificate"), .. await BelowAsync(point, ct)];
}
