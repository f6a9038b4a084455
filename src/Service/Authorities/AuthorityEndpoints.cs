using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

internal static class AuthorityEndpoints
{
    public static void MapAuthorities(this RouteGroupBuilder api)
    {
        api.MapGet("/authorities", async (BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, ResponderCertificates responders, CancellationToken ct) =>
            TypedResults.Ok(await ListAsync(db, registry, shelf, responders, ct))).WithName("listAuthorities").WithTags("Authorities");

        api.MapPost("/authorities/{id}/crl", async (string id, PublishCrl publish, Caller caller, CancellationToken ct) => id == Authority.IssuingSlug
                ? TypedResults.Ok(new CrlIssued(await publish.RunAsync(caller.Actor, "asked for", CrlOccasion.Now, ct)))
                : throw new BeaconProblem(ProblemCode.WrongState, $"The key of \"{id}\" is not here to sign a list with.", "Sign the root's list where its key is."))
            .RequireAuthorization(Policies.Administrator).WithName("issueCrl").WithTags("Authorities");
    }

    public static void MapOfflineRoot(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/authorities").WithTags("Authorities");
        g.MapGet("/{id}/request", (string id, AuthorityRegistry registry, TimeProvider clock) => id == Authority.IssuingSlug && registry.Waiting is { } w
                ? Results.File(System.Text.Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, w.Der.Span)), "application/x-pem-file", TellingName.Of("issuing-request", w.Name, clock.GetUtcNow()))
                : throw new BeaconProblem(ProblemCode.WrongState, $"\"{id}\" has no request that waits for an answer.", "See beacon authority list."))
            .WithName("getAuthorityRequest").Produces(200, contentType: "application/x-pem-file");
        g.MapPost("/{id}/answer", async (string id, CarriedFiles body, InstallAnswer install, InstallRoot root, Caller caller, CancellationToken ct) =>
        {
            var files = body.Files.Take(10).Select(Bytes).ToList();
            return TypedResults.Ok(new Told([id == Authority.RootSlug ? await root.RunAsync(files, caller.Actor, ct) : await install.RunAsync(id, files, caller.Actor, ct)]));
        }).RequireAuthorization(Policies.Administrator).WithName("installAuthorityAnswer");
        g.MapPost("/root/published-crl", async (CarriedFiles body, PublishRootCrl publish, Caller caller, CancellationToken ct) => body.Files is [var one]
                ? TypedResults.Ok(new CrlIssued(await publish.RunAsync(Bytes(one), caller.Actor, ct)))
                : throw new BeaconProblem(ProblemCode.InputInvalid, $"{body.Files.Count} files came; one CRL is wanted.", "Give one file."))
            .RequireAuthorization(Policies.Administrator).WithName("publishRootCrl");

        static byte[] Bytes(string base64)
        {
            try { return Convert.FromBase64String(base64); }
            catch (FormatException) { throw new BeaconProblem(ProblemCode.InputInvalid, "A file did not come in base64.", "Send each file's bytes in base64."); }
        }
    }

    /// <summary>For a subordinate service: how its request stands. Who knows the number and the key's fingerprint may see what is public anyway.</summary>
    public static void MapSubordinates(this RouteGroupBuilder api) =>
        api.MapGet("/subordinates/{number:long}", async (long number, string key, BeaconDb db, AuthorityRegistry registry, Profiles.ProfileCatalogue profiles, CancellationToken ct) =>
        {
            var request = await db.Requests.AsNoTracking().FirstOrDefaultAsync(r => r.Id == number && r.Csr != null, ct);
            if (request is null || profiles.Get(request.Profile).AuthorityDepth is null || Core.Requests.CertificationRequest.Read(request.Csr).PublicKey.Fingerprint() != key)
                throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {number} for that key.", "Ask anew.");
            var edition = await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == number, ct);
            IReadOnlyList<string> files = edition is null ? [] : [.. registry.Above(Core.Issuing.X509.Read(edition.Der)).Concat(registry.All.Where(x => x.IsSelfSigned)).Select(x => x.Der).Prepend(edition.Der).Select(d => Convert.ToBase64String(d.Span))];
            return TypedResults.Ok(new SubordinateAnswer(request.State, request.Reason, files));
        }).AllowAnonymous().WithName("getSubordinateAnswer").WithTags("Authorities");

    public static void MapRenewal(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/authorities/{id}").WithTags("Authorities");
        g.MapPost("/rehearsal", async (string id, RenewalWish wish, RehearseRenewal rehearse, CancellationToken ct) => TypedResults.Ok(await rehearse.RunAsync(id, KeyOf(wish), ct))).WithName("rehearseRenewal");
        g.MapPost("/renewal", async (string id, RenewalWish wish, RenewAuthority renew, Caller caller, CancellationToken ct) =>
            TypedResults.Ok(new Told([$"Request {await renew.RunAsync(id, KeyOf(wish), caller.Actor, ct)} is made; what issues goes on as it is."]))).RequireAuthorization(Policies.Administrator).WithName("beginRenewal");
        g.MapPost("/parent", async (string id, ParentWish wish, AskParent ask, Caller caller, CancellationToken ct) => TypedResults.Ok(new Told([await ask.RunAsync(id, wish, caller.Actor, ct)]))).RequireAuthorization(Policies.Administrator).WithName("askParent");
        g.MapPost("/take-up", async (string id, TakeUpGeneration take, Caller caller, CancellationToken ct) => TypedResults.Ok(new Told(await take.RunAsync(id, caller.Actor, ct)))).RequireAuthorization(Policies.Administrator).WithName("takeUpGeneration");
        g.MapPost("/undo", async (string id, UndoRenewal undo, Caller caller, CancellationToken ct) => TypedResults.Ok(new Told([await undo.RunAsync(id, caller.Actor, ct)]))).RequireAuthorization(Policies.Administrator).WithName("undoRenewal");

        static KeySpec? KeyOf(RenewalWish wish) => string.IsNullOrWhiteSpace(wish.NewKey) ? null : KeySpec.Parse(wish.NewKey);
    }

    private static async Task<List<AuthorityInfo>> ListAsync(BeaconDb db, AuthorityRegistry registry, CrlShelf shelf, ResponderCertificates responders, CancellationToken ct)
    {
        var list = new List<AuthorityInfo>();
        var asked = await db.ParentRequests.AsNoTracking().OrderByDescending(p => p.Id).FirstOrDefaultAsync(ct);
        var waitsAt = registry.Waiting is null || asked is null ? null : $"request {asked.Number} at {asked.Url}: {asked.Says}";
        foreach (var a in registry.Authorities)
        {
            var generations = a.Generations.Where(g => !g.Waits).OrderBy(g => g.Number).Select(g => (Row: g, X: g.Read())).ToList();
            var used = a.InUse!;
            ResponderInfo? Responder(int key) => a.Slug == Authority.IssuingSlug && responders.Of(key) is { } r ? new(registry.OcspUri(a.Slug), r.Certificate.Serial.Hex, r.Certificate.NotAfter) : null;
            var ids = generations.Select(g => g.Row.Id).ToList();
            list.Add(new(a.Slug, a.Name, a.Kind, a.Kind == "issuing" ? "online" : a.Kind == "root" ? "offline" : "elsewhere",
                [.. generations.Select(g => new GenerationInfo(g.Row.Number, g.X.Subject.ToString(), g.X.Issuer.ToString(), g.X.Serial.Hex, g.X.Thumbprint.Hex, g.X.NotBefore, g.X.NotAfter, g.X.PublicKey.Spec.ToString(), registry.IssuerUri(Authority.FileOf(a.Slug, g.Row.KeyNumber)), BeaconProblem.SlugOf(a.StateOf(g.Row)), g.Row.KeyNumber))],
                Crl(Authority.FileOf(a.Slug, used.KeyNumber)), Crl(CrlShelf.DeltaName(Authority.FileOf(a.Slug, used.KeyNumber))), Responder(used.KeyNumber),
                await db.Editions.LongCountAsync(e => ids.Contains(e.GenerationId), ct),
                string.Concat(generations.Where(g => g.Row.WithdrawnAt is null).Select(g => Armor.Write(Armor.Certificate, g.X.Der.Span))), a.Slug == Authority.IssuingSlug ? registry.Waiting?.Request : null)
            {
                WaitsAt = a.Slug == Authority.IssuingSlug ? waitsAt : null,
                OtherKeys = [.. generations.Where(g => g.Row.WithdrawnAt is null).Select(g => g.Row.KeyNumber).Distinct().Where(k => k != used.KeyNumber)
                    .Select(k => new KeyInfo(k, Crl(Authority.FileOf(a.Slug, k)), Crl(CrlShelf.DeltaName(Authority.FileOf(a.Slug, k))), Responder(k)))],
            });
        }
        if (!registry.IsReady && registry.Waiting is { } w) list.Add(new(Authority.IssuingSlug, w.Name, "issuing", "online", [], null, null, null, 0, "", w.Request) { WaitsAt = waitsAt });
        return list;

        CrlInfo? Crl(string file) => shelf.Get(file)?.Row is { } c ? new(c.Number, c.ThisUpdate, c.NextUpdate, c.Revoked, registry.CrlUri(file), c.BaseNumber) : null;
    }
}
