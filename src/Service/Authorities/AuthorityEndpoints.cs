using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

internal static class AuthorityEndpoints
{
    public static void MapAuthorities(this RouteGroupBuilder api)
    {
        api.MapGet("/authorities", async (AuthorityQueries q, CancellationToken ct) => TypedResults.Ok(await q.ListAsync(ct)))
            .Is(Operation.ListAuthorities)
            .WithTags("Authorities");

        api.MapPost(
                "/authorities/{id}/crl",
                async (string id, PublishCrl publish, Caller caller, CancellationToken ct) =>
                    id == Authority.IssuingSlug
                        ? TypedResults.Ok(new CrlIssued(await publish.RunAsync(caller.Actor, "asked for", CrlOccasion.Now, ct)))
                        : throw new BeaconProblem(
                            ProblemCode.WrongState,
                            $"The service does not have the key of \"{id}\", so it cannot sign a list.",
                            "Sign the root's list where its key is."
                        )
            )
            .Is(Operation.IssueCrl)
            .WithTags("Authorities");
    }

    public static void MapOfflineRoot(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/authorities").WithTags("Authorities");
        g.MapGet(
                "/{id}/request",
                (string id, AuthorityRegistry registry, TimeProvider clock) =>
                    id == Authority.IssuingSlug && registry.Waiting is { } w
                        ? Results.File(
                            System.Text.Encoding.ASCII.GetBytes(Armor.Write(Armor.CertificateRequest, w.Der.Span)),
                            "application/x-pem-file",
                            TellingName.Of("issuing-request", w.Name, clock.GetUtcNow())
                        )
                        : throw new BeaconProblem(
                            ProblemCode.WrongState,
                            $"\"{id}\" has no request that waits for an answer.",
                            "See beacon authority list."
                        )
            )
            .Is(Operation.GetAuthorityRequest)
            .Produces(200, contentType: "application/x-pem-file");
        g.MapPost(
                "/{id}/answer",
                async (string id, CarriedFiles body, InstallAnswer install, InstallRoot root, Caller caller, CancellationToken ct) =>
                {
                    var files = body.Files.Take(10).Select(Bytes).ToList();
                    return TypedResults.Ok(
                        new Told([
                            id == Authority.RootSlug
                                ? await root.RunAsync(files, caller.Actor, ct)
                                : await install.RunAsync(id, files, caller.Actor, ct),
                        ])
                    );
                }
            )
            .Is(Operation.InstallAuthorityAnswer);
        g.MapPost(
                "/root/published-crl",
                async (CarriedFiles body, PublishRootCrl publish, Caller caller, CancellationToken ct) =>
                    body.Files is [var one]
                        ? TypedResults.Ok(new CrlIssued(await publish.RunAsync(Bytes(one), caller.Actor, ct)))
                        : throw new BeaconProblem(
                            ProblemCode.InputInvalid,
                            $"{body.Files.Count} files came; one CRL is wanted.",
                            "Give one file."
                        )
            )
            .Is(Operation.PublishRootCrl);

        static byte[] Bytes(string base64)
        {
            try
            {
                return Convert.FromBase64String(base64);
            }
            catch (FormatException)
            {
                throw new BeaconProblem(ProblemCode.InputInvalid, "A file did not come in base64.", "Send each file's bytes in base64.");
            }
        }
    }

    /// <summary>For a subordinate service: how its request stands. Who knows the number and the key's fingerprint may see what is public anyway.</summary>
    public static void MapSubordinates(this RouteGroupBuilder api) =>
        api.MapGet(
                "/subordinates/{number:long}",
                async (
                    long number,
                    string key,
                    BeaconDb db,
                    AuthorityRegistry registry,
                    Profiles.ProfileCatalogue profiles,
                    CancellationToken ct
                ) =>
                {
                    var request = await db.Requests.AsNoTracking().FirstOrDefaultAsync(r => r.Id == number && r.Csr != null, ct);
                    if (
                        request is null
                        || profiles.Get(request.Profile).AuthorityDepth is null
                        || Core.Requests.CertificationRequest.Read(request.Csr).PublicKey.Fingerprint() != key
                    )
                        throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {number} for that key.", "Ask anew.");
                    var edition = await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == number, ct);
                    IReadOnlyList<string> files = edition is null
                        ? []
                        :
                        [
                            .. registry
                                .Above(Core.Issuing.X509.Read(edition.Der))
                                .Concat(registry.All.Where(x => x.IsSelfSigned))
                                .Select(x => x.Der)
                                .Prepend(edition.Der)
                                .Select(d => Convert.ToBase64String(d.Span)),
                        ];
                    return TypedResults.Ok(new SubordinateAnswer(request.State, request.Reason, files));
                }
            )
            .AllowAnonymous()
            .Is(Operation.GetSubordinateAnswer)
            .WithTags("Authorities");

    public static void MapRenewal(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/authorities/{id}").WithTags("Authorities");
        g.MapPost(
                "/rehearsal",
                async (string id, RenewalWish wish, RehearseRenewal rehearse, CancellationToken ct) =>
                    TypedResults.Ok(await rehearse.RunAsync(id, KeyOf(wish), ct))
            )
            .Is(Operation.RehearseRenewal);
        g.MapPost(
                "/renewal",
                async (string id, RenewalWish wish, RenewAuthority renew, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(
                        new Told([
                            $"Request {await renew.RunAsync(id, KeyOf(wish), caller.Actor, ct)} is made; the authority in use keeps issuing.",
                        ])
                    )
            )
            .Is(Operation.BeginRenewal);
        g.MapPost(
                "/parent",
                async (string id, ParentWish wish, AskParent ask, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new Told([await ask.RunAsync(id, wish, caller.Actor, ct)]))
            )
            .Is(Operation.AskParent);
        g.MapPost(
                "/take-up",
                async (string id, TakeUpGeneration take, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new Told(await take.RunAsync(id, caller.Actor, ct)))
            )
            .Is(Operation.TakeUpGeneration);
        g.MapPost(
                "/undo",
                async (string id, UndoRenewal undo, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new Told([await undo.RunAsync(id, caller.Actor, ct)]))
            )
            .Is(Operation.UndoRenewal);

        static KeySpec? KeyOf(RenewalWish wish) => string.IsNullOrWhiteSpace(wish.NewKey) ? null : KeySpec.Parse(wish.NewKey);
    }
}
