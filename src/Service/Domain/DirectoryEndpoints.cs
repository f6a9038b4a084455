using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Domain;

internal static class DirectoryEndpoints
{
    public static void MapDirectory(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/directory").WithTags("Directory");
        g.MapGet(
                "",
                async (DirectoryBook book, Resolver dns, BeaconOptions options, CancellationToken ct) =>
                    TypedResults.Ok(await StateAsync(book, dns, options, ct))
            )
            .Is(Operation.GetDirectory);
        g.MapPost(
                "/refresh",
                async (DirectoryBook book, Resolver dns, People.SignInDesk desk, BeaconOptions options, CancellationToken ct) =>
                {
                    book.Forget();
                    dns.Forget();
                    desk.Forget();
                    return TypedResults.Ok(await StateAsync(book, dns, options, ct));
                }
            )
            .Is(Operation.RefreshDirectory);
        g.MapGet(
                "/names/{name}",
                async (string name, FindInDirectory find, CancellationToken ct) => TypedResults.Ok(await find.RunAsync(name, ct))
            )
            .Is(Operation.FindInDirectory);
    }

    private static async Task<DirectoryState> StateAsync(DirectoryBook book, Resolver dns, BeaconOptions options, CancellationToken ct) =>
        new(
            book.IsThere,
            book.Called,
            await book.DomainAsync(ct),
            book.Answered,
            book.Away is { } away ? new(away.Since, away.Problem.Message, away.Problem.Cure) : null,
            options.DirectoryMinutes,
            dns.IsThere,
            [
                .. options.Holdings.Zones.Select(z => new ZoneInfo(z.Zone.Ascii, z.Group, z.Wildcards, z.Depth, z.Profile)),
                .. options.Holdings.Networks.Select(n => new ZoneInfo(n.Network.ToString(), n.Group, false, null, null)),
            ]
        );
}
