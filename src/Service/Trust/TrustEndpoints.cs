using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Trust;

internal static class TrustEndpoints
{
    public static void MapTrust(this RouteGroupBuilder api)
    {
        api.MapGet("/today", async (TodayQuery q, CancellationToken ct) => TypedResults.Ok(await q.RunAsync(ct)))
            .Is(Operation.GetToday)
            .WithTags("Today");
        api.MapGet("/lookahead", async (LookaheadQuery q, CancellationToken ct) => TypedResults.Ok(await q.RunAsync(ct)))
            .Is(Operation.GetLookahead)
            .WithTags("Today");
        api.MapPost(
                "/looks",
                async (LookWish wish, Caller caller, LookFromHost look, CancellationToken ct) =>
                    TypedResults.Ok(await look.RunAsync(wish, caller, ct))
            )
            .Is(Operation.Look)
            .WithTags("Looks");
        api.MapPost(
                "/looks/from-service",
                async (LookWish wish, LookFromService look, CancellationToken ct) => TypedResults.Ok(await look.RunAsync(wish, ct))
            )
            .Is(Operation.LookFromService)
            .WithTags("Looks");
    }
}
