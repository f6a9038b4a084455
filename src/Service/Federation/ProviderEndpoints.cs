using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Federation;

internal static class ProviderEndpoints
{
    public static void MapProviders(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/federation").WithTags("Federation");
        g.MapGet(
                "",
                async ([AsParameters] ProviderList list, ProviderQueries q, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(await q.PageAsync(list, ct), p => offers.To(caller, p)))
            )
            .Is(Operation.ListProviders);
        g.MapGet(
                "/{number:int}",
                async (int number, ProviderQueries q, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(caller, await q.OneAsync(number, ct)))
            )
            .Is(Operation.GetProvider);
        g.MapPost(
                "/{number:int}/plan",
                async (int number, FederationPlanWish wish, ChangeProvider change, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await change.PlanAsync(number, wish.Act, caller, ct))
            )
            .Is(Operation.PlanSigning);
        g.MapPut(
                "/{number:int}/certificate",
                async (int number, SigningWish wish, ChangeProvider change, SeenProvider seen, Caller caller, CancellationToken ct) =>
                {
                    await change.SignWithAsync(number, wish, caller, ct);
                    return TypedResults.Ok(await seen.OfAsync(number, caller, ct));
                }
            )
            .Is(Operation.SignWith);
        g.MapPost(
                "/{number:int}/go-on",
                async (int number, GoOnWish wish, ChangeProvider change, SeenProvider seen, Caller caller, CancellationToken ct) =>
                {
                    await change.GoOnAsync(number, wish, caller, ct);
                    return TypedResults.Ok(await seen.OfAsync(number, caller, ct));
                }
            )
            .Is(Operation.GoOnSigning);
        g.MapPost(
                "/{number:int}/back",
                async (int number, BackWish wish, ChangeProvider change, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await change.BackAsync(number, wish, caller, ct)))
            )
            .Is(Operation.StepBackSigning);
        g.MapPut(
                "/{number:int}/partner",
                async (int number, PartnerWish wish, ChangeProvider change, SeenProvider seen, Caller caller, CancellationToken ct) =>
                {
                    await change.KeepPartnerAsync(number, wish, caller, ct);
                    return TypedResults.Ok(await seen.OfAsync(number, caller, ct));
                }
            )
            .Is(Operation.KeepPartner);
    }
}
