using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Anchors;

internal static class AnchorEndpoints
{
    public static void MapAnchors(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/trust").WithTags("Trust");
        g.MapGet(
                "/anchors",
                async ([AsParameters] AnchorList list, AnchorQueries q, CancellationToken ct) =>
                    TypedResults.Ok(await q.PageAsync(list, ct))
            )
            .Is(Operation.ListAnchors);
        g.MapGet(
                "/anchors/{anchor}",
                async (string anchor, AnchorQueries q, CancellationToken ct) => TypedResults.Ok(await q.OneAsync(anchor, ct))
            )
            .Is(Operation.GetAnchor);
        g.MapGet(
                "/stores",
                async ([AsParameters] TrustStoreList list, AnchorQueries q, CancellationToken ct) =>
                    TypedResults.Ok(await q.StoresAsync(list, ct))
            )
            .Is(Operation.ListTrustStores);
        g.MapPost(
                "/plan",
                async (TrustWish wish, ChangeTrust change, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await change.PlanAsync(wish, caller, ct))
            )
            .Is(Operation.PlanTrust);
        g.MapPost(
                "/changes",
                async (TrustWish wish, ChangeTrust change, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await change.OrderAsync(wish, caller, ct))
            )
            .Is(Operation.ChangeTrust);
        g.MapPost(
                "/why",
                async (WhyWish wish, Caller caller, WhyRefused why, CancellationToken ct) =>
                    TypedResults.Ok(await why.RunAsync(wish, caller, ct))
            )
            .Is(Operation.AskWhy);
    }
}
