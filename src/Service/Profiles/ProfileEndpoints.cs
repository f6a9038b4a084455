using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Profiles;

internal static class ProfileEndpoints
{
    public static void MapProfiles(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/profiles").WithTags("Profiles");
        g.MapGet(
                "",
                (ProfileCatalogue catalogue, Caller caller) =>
                    TypedResults.Ok(catalogue.All.Select(p => ProfileWords.Info(p, caller.Groups)).ToList())
            )
            .Is(Operation.ListProfiles);
        g.MapGet(
                "/{id}",
                async (string id, ProfileCatalogue catalogue, BeaconDb db, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await DetailAsync(id, catalogue, db, caller, ct))
            )
            .Is(Operation.GetProfile);
        g.MapGet(
                "/{id}/revisions/{revision:int}",
                async (string id, int revision, BeaconDb db, CancellationToken ct) =>
                    TypedResults.Ok(await RevisionAsync(db, id, revision, ct))
            )
            .Is(Operation.GetProfileRevision);
        g.MapGet(
                "/{id}/differences",
                async (string id, int? from, int? to, ProfileCatalogue catalogue, BeaconDb db, CancellationToken ct) =>
                {
                    var newest = catalogue.Get(id).Revision;
                    var (b, a) = (from ?? Math.Max(1, newest - 1), to ?? newest);
                    return TypedResults.Ok(
                        ProfileWords.Differences(await RevisionAsync(db, id, b, ct), await RevisionAsync(db, id, a, ct))
                    );
                }
            )
            .Is(Operation.CompareProfileRevisions);
        g.MapGet(
                "/{id}/yaml",
                async (string id, int? revision, ProfileCatalogue catalogue, BeaconDb db, CancellationToken ct) =>
                    TypedResults.Ok(
                        new ProfileText(ProfileYaml.Write(await RevisionAsync(db, id, revision ?? catalogue.Get(id).Revision, ct)))
                    )
            )
            .Is(Operation.ExportProfile);

        MapChanges(g);
    }

    private static void MapChanges(RouteGroupBuilder g)
    {
        var change = g.MapGroup("");
        change
            .MapPut(
                "/{id}",
                async (
                    string id,
                    ProfileDefinition body,
                    ChangeProfile use,
                    ProfileCatalogue catalogue,
                    BeaconDb db,
                    Caller caller,
                    CancellationToken ct
                ) =>
                {
                    if (body.Id != id)
                        throw new BeaconProblem(
                            ProblemCode.InputInvalid,
                            $"The address says \"{id}\", the profile \"{body.Id}\".",
                            "Make both the same."
                        );
                    await use.RunAsync(body, caller.Actor, ct);
                    return TypedResults.Ok(await DetailAsync(id, catalogue, db, caller, ct));
                }
            )
            .Is(Operation.ChangeProfile);
        change
            .MapPost(
                "/import",
                async (ProfileText body, bool? preview, ChangeProfile use, Caller caller, CancellationToken ct) =>
                {
                    var definition = ProfileYaml.Read(body.Yaml);
                    var (profile, differences) = use.Judge(definition);
                    if (preview != true)
                        await use.RunAsync(definition, caller.Actor, ct);
                    return TypedResults.Ok(new ProfileRevisionInfo(profile.Revision, default, caller.Name, differences));
                }
            )
            .Is(Operation.ImportProfile);
        MapCopies(change);
    }

    private static void MapCopies(RouteGroupBuilder change)
    {
        change
            .MapPost(
                "/{id}/copy",
                async (
                    string id,
                    ProfileCopy body,
                    ChangeProfile use,
                    ProfileCatalogue catalogue,
                    BeaconDb db,
                    Caller caller,
                    CancellationToken ct
                ) =>
                {
                    await use.CopyAsync(id, body, caller.Actor, ct);
                    return TypedResults.Ok(await DetailAsync(body.Id, catalogue, db, caller, ct));
                }
            )
            .Is(Operation.CopyProfile);
        change
            .MapPost(
                "/{id}/offer",
                async (string id, ChangeProfile use, Caller caller, CancellationToken ct) =>
                {
                    await use.OfferAsync(id, true, caller.Actor, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.OfferProfile);
        change
            .MapPost(
                "/{id}/withdraw",
                async (string id, ChangeProfile use, Caller caller, CancellationToken ct) =>
                {
                    await use.OfferAsync(id, false, caller.Actor, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.WithdrawProfile);
    }

    private static async Task<ProfileDefinition> RevisionAsync(BeaconDb db, string id, int revision, CancellationToken ct) =>
        await db.ProfileRevisions.AsNoTracking().FirstOrDefaultAsync(r => r.Name == id && r.Revision == revision, ct) is { } row
            ? ProfileWords.FromJson(row.Json)
            : throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no revision {revision} of a profile \"{id}\".",
                "See beacon profile show " + id + "."
            );

    private static async Task<ProfileDetail> DetailAsync(
        string id,
        ProfileCatalogue catalogue,
        BeaconDb db,
        Caller caller,
        CancellationToken ct
    )
    {
        var profile = catalogue.Get(id);
        var rows = await db.ProfileRevisions.AsNoTracking().Where(r => r.Name == id).OrderBy(r => r.Revision).ToListAsync(ct);
        var revisions = rows.Select(
                (r, i) =>
                    new ProfileRevisionInfo(
                        r.Revision,
                        r.At,
                        r.By,
                        i == 0 ? [] : ProfileWords.Differences(ProfileWords.FromJson(rows[i - 1].Json), ProfileWords.FromJson(r.Json))
                    )
            )
            .Reverse()
            .ToList();
        return new(
            ProfileWords.Info(profile, caller.Groups),
            ProfileWords.FromJson(rows[^1].Json),
            revisions,
            await db.Certificates.LongCountAsync(c => c.Profile == id, ct)
        );
    }
}
