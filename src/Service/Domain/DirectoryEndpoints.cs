using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Domain;

internal static class DirectoryEndpoints
{
    public static void MapDirectory(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/directory").WithTags("Directory");
        g.MapGet("", (DirectoryBook book, Resolver dns, BeaconOptions options) => TypedResults.Ok(State(book, dns, options)))
            .Is(Operation.GetDirectory);
        g.MapPost(
                "/refresh",
                (DirectoryBook book, Resolver dns, People.SignInDesk desk, BeaconOptions options) =>
                {
                    book.Forget();
                    dns.Forget();
                    desk.Forget();
                    return TypedResults.Ok(State(book, dns, options));
                }
            )
            .Is(Operation.RefreshDirectory);
        g.MapGet(
                "/names/{name}",
                async (string name, FindInDirectory find, CancellationToken ct) => TypedResults.Ok(await find.RunAsync(name, ct))
            )
            .Is(Operation.FindInDirectory);
    }

    private static DirectoryState State(DirectoryBook book, Resolver dns, BeaconOptions options) =>
        new(
            book.IsThere,
            book.Called,
            book.Realm.ToLowerInvariant(),
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
