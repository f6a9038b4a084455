using OrderlyBeacon.Core;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service;

/// <summary>What is let in where: in the clear only what verifiers fetch; from browsers only what the console itself calls.</summary>
internal static class Doors
{
    public static void UseDoors(this WebApplication app, BeaconOptions options) =>
        app.Use(
            async (context, next) =>
            {
                context.Response.Headers.XContentTypeOptions = "nosniff";
                if (!context.Request.IsHttps && !IsPlain(context.Request.Path, options))
                {
                    context.Response.StatusCode = 404;
                    await context.Response.WriteAsync(
                        $"Only /crl, /ocsp and /issuer are served here. The console and the API are at {options.Url}.\n"
                    );
                    return;
                }
                if (context.Request.Path.StartsWithSegments("/api"))
                    ThrowIfForeign(context.Request);
                await next();
            }
        );

    private static bool IsPlain(PathString path, BeaconOptions options) =>
        path.StartsWithSegments("/crl")
        || path.StartsWithSegments("/issuer")
        || path.Value is "/healthz" or "/readyz"
        || (path.Value is "/metrics" && options.PlainMetrics);

    /// <summary>
    /// A cookie is sent by the browser whoever asks: a call that does not come from the console's own pages is turned away. Browsers say so in two ways; either is enough,
    /// and what they say is read without regard to case, anything unknown being foreign.
    /// </summary>
    private static void ThrowIfForeign(HttpRequest request)
    {
        var site = request.Headers["Sec-Fetch-Site"].ToString();
        var isSiteOwn =
            site.Length == 0
            || site.Equals("same-origin", StringComparison.OrdinalIgnoreCase)
            || site.Equals("none", StringComparison.OrdinalIgnoreCase);
        var origin = request.Headers.Origin.ToString();
        var isOriginOwn =
            origin.Length == 0
            || (
                Uri.TryCreate(origin, UriKind.Absolute, out var u)
                && u.Scheme == "https"
                && u.Authority.Equals(request.Host.Value, StringComparison.OrdinalIgnoreCase)
            );
        if (!isSiteOwn || !isOriginOwn)
            throw new BeaconProblem(ProblemCode.NotAllowed, "This call comes from another site.", "Open the console itself.");
    }
}
