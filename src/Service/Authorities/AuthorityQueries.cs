using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>What there is to see of the authorities.</summary>
public sealed class AuthorityQueries(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, ResponderCertificates responders)
{
    public async Task<List<AuthorityInfo>> ListAsync(CancellationToken ct)
    {
        var list = new List<AuthorityInfo>();
        var asked = await db.ParentRequests.AsNoTracking().OrderByDescending(p => p.Id).FirstOrDefaultAsync(ct);
        var waitsAt = registry.Waiting is null || asked is null ? null : $"request {asked.Number} at {asked.Url}: {asked.Says}";
        foreach (var a in registry.Authorities)
            list.Add(await OfAsync(a, waitsAt, ct));
        if (!registry.IsReady && registry.Waiting is { } w)
            list.Add(new(Authority.IssuingSlug, w.Name, "issuing", "online", [], null, null, null, 0, "", w.Request) { WaitsAt = waitsAt });
        return list;
    }

    private async Task<AuthorityInfo> OfAsync(Authority a, string? waitsAt, CancellationToken ct)
    {
        var issues = a.Slug == Authority.IssuingSlug;
        var generations = a.Generations.Where(g => !g.Waits).OrderBy(g => g.Number).Select(g => (Row: g, X: g.Read())).ToList();
        var held = generations.Where(g => g.Row.WithdrawnAt is null).ToList();
        var ids = generations.Select(g => g.Row.Id).ToList();
        var used = KeyOf(a, a.InUse!.KeyNumber);
        return new(
            a.Slug,
            a.Name,
            a.Kind,
            a.Kind switch
            {
                "issuing" => "online",
                "root" => "offline",
                _ => "elsewhere",
            },
            [.. generations.Select(g => OfGeneration(a, g.Row, g.X))],
            used.Crl,
            used.Delta,
            used.Responder,
            await db.Editions.LongCountAsync(e => ids.Contains(e.GenerationId), ct),
            string.Concat(held.Select(g => Armor.Write(Armor.Certificate, g.X.Der.Span))),
            issues ? registry.Waiting?.Request : null
        )
        {
            WaitsAt = issues ? waitsAt : null,
            OtherKeys = [.. held.Select(g => g.Row.KeyNumber).Distinct().Where(k => k != used.KeyNumber).Select(k => KeyOf(a, k))],
        };
    }

    private GenerationInfo OfGeneration(Authority a, Generation g, X509 x) =>
        new(
            g.Number,
            x.Subject.ToString(),
            x.Issuer.ToString(),
            x.Serial.Hex,
            x.Thumbprint.Hex,
            x.NotBefore,
            x.NotAfter,
            x.PublicKey.Spec.ToString(),
            registry.IssuerUri(Authority.FileOf(a.Slug, g.KeyNumber)),
            BeaconProblem.SlugOf(a.StateOf(g)),
            g.KeyNumber
        );

    private KeyInfo KeyOf(Authority a, int key)
    {
        var file = Authority.FileOf(a.Slug, key);
        var responder =
            a.Slug == Authority.IssuingSlug && responders.Of(key) is { } r
                ? new ResponderInfo(registry.OcspUri(a.Slug), r.Certificate.Serial.Hex, r.Certificate.NotAfter)
                : null;
        return new(key, Crl(file), Crl(CrlShelf.DeltaName(file)), responder);
    }

    private CrlInfo? Crl(string file) =>
        shelf.Get(file)?.Row is { } c ? new(c.Number, c.ThisUpdate, c.NextUpdate, c.Revoked, registry.CrlUri(file), c.BaseNumber) : null;
}
