using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

internal static class AuthorityEndpoints
{
    public static void MapAuthorities(this RouteGroupBuilder api)
    {
        api.MapGet("/authorities", async (BeaconDb db, AuthorityRegistry registry, CancellationToken ct) =>
            TypedResults.Ok(await ListAsync(db, registry, ct))).WithName("listAuthorities").WithTags("Authorities");
    }

    private static async Task<List<AuthorityInfo>> ListAsync(BeaconDb db, AuthorityRegistry registry, CancellationToken ct)
    {
        var list = new List<AuthorityInfo>();
        foreach (var a in registry.Authorities)
        {
            var generations = a.Generations.OrderBy(g => g.Number).Select(g => (Row: g, X: g.Read())).ToList();
            var crl = await db.Crls.AsNoTracking().Where(c => c.AuthorityId == a.Id).OrderByDescending(c => c.Number).FirstOrDefaultAsync(ct);
            var ids = generations.Select(g => g.Row.Id).ToList();
            list.Add(new(a.Slug, a.Name, a.Kind, a.Kind == "root" ? "offline" : "online",
                [.. generations.Select(g => new GenerationInfo(g.Row.Number, g.X.Subject.ToString(), g.X.Issuer.ToString(), g.X.Serial.Hex, g.X.Thumbprint.Hex, g.X.NotBefore, g.X.NotAfter, g.X.PublicKey.Spec.ToString(), registry.IssuerUri(a.Slug)))],
                crl is null ? null : new(crl.Number, crl.ThisUpdate, crl.NextUpdate, crl.Revoked, registry.CrlUri(a.Slug)),
                await db.Editions.LongCountAsync(e => ids.Contains(e.GenerationId), ct),
                string.Concat(generations.Select(g => Armor.Write(Armor.Certificate, g.X.Der.Span)))));
        }
        return list;
    }
}
