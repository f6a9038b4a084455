using System.Security.Cryptography;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service;

/// <summary>Serves the console: hashed files for good, the page itself fresh each time with its policy and nonce.</summary>
internal static class ConsoleFiles
{
    public static void UseConsoleFiles(this WebApplication app)
    {
        app.Use(
            async (context, next) =>
            {
                context.Response.Headers["Referrer-Policy"] = "no-referrer";
                context.Response.Headers["Cross-Origin-Opener-Policy"] = "same-origin";
                if (context.Request.IsHttps)
                    context.Response.Headers.StrictTransportSecurity = "max-age=31536000";
                if (context.Request.Path.StartsWithSegments("/assets"))
                    context.Response.OnStarting(
                        static state =>
                        {
                            var r = (HttpResponse)state;
                            if (r.StatusCode is 200 or 206 or 304)
                                r.Headers.CacheControl = "public, max-age=31536000, immutable";
                            return Task.CompletedTask;
                        },
                        context.Response
                    );
                await next();
            }
        );
    }

    public static void MapConsole(this WebApplication app)
    {
        app.MapStaticAssets();
        app.MapGet("/index.html", () => TypedResults.LocalRedirect("/")).WithOrder(-1000).ExcludeFromDescription();
        // Names with dots are pages too: only what looks for a file of the build is not.
        app.MapFallback(
            "{*path}",
            async (HttpContext context) =>
            {
                if (new[] { "/api", "/.well-known", "/assets" }.Any(p => context.Request.Path.StartsWithSegments(p)))
                {
                    await Problems.WriteAsync(
                        context,
                        new BeaconProblem(ProblemCode.NotFound, $"There is nothing at {context.Request.Path}.", "See /api/openapi.json.")
                    );
                    return;
                }
                var file = app.Environment.WebRootFileProvider.GetFileInfo("index.html");
                if (!file.Exists)
                {
                    context.Response.StatusCode = 503;
                    await context.Response.WriteAsync("The console was left out of this build.\n");
                    return;
                }
                using var reader = new StreamReader(file.CreateReadStream());
                var html = await reader.ReadToEndAsync(context.RequestAborted);
                var nonce = Convert.ToBase64String(RandomNumberGenerator.GetBytes(18));
                context.Response.ContentType = "text/html; charset=utf-8";
                context.Response.Headers.CacheControl = "no-store";
                context.Response.Headers.ContentSecurityPolicy =
                    $"default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self'; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";
                await context.Response.WriteAsync(html.Replace("__CSP_NONCE__", nonce), context.RequestAborted);
            }
        );
    }
}
