using Microsoft.AspNetCore.Diagnostics;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service;

/// <summary>Writes every failure as an RFC 9457 problem with our code and cure.</summary>
internal static class Problems
{
    public const string TypePrefix = "urn:orderly-beacon:problem:";

    public static int StatusOf(ProblemCode code) =>
        code switch
        {
            ProblemCode.NotFound => 404,
            ProblemCode.NotSignedIn or ProblemCode.SignInRefused or ProblemCode.JoinCodeRefused or ProblemCode.TicketRefused => 401,
            ProblemCode.NotAllowed or ProblemCode.OwnRequest or ProblemCode.SignInAgain or ProblemCode.ConsentNeeded => 403,
            ProblemCode.LockedOut or ProblemCode.TooBusy => 429,
            ProblemCode.AlreadyExists
            or ProblemCode.WrongState
            or ProblemCode.HostAway
            or ProblemCode.InProgress
            or ProblemCode.NameAmbiguous => 409,
            ProblemCode.HostGone => 410,
            ProblemCode.ChangedMeanwhile => 412,
            ProblemCode.VersionMissing => 428,
            ProblemCode.TooLarge => 413,
            ProblemCode.IdempotencyKeyReused
            or ProblemCode.RequestRefused
            or ProblemCode.ProfileRefused
            or ProblemCode.NamesNotCovered
            or ProblemCode.KeyNotAllowed
            or ProblemCode.CertificateUnwritable => 422,
            ProblemCode.AuthorityNotReady or ProblemCode.CannotWrite or ProblemCode.DirectoryAway => 503,
            ProblemCode.Unreachable => 502,
            ProblemCode.Internal or ProblemCode.DataDamaged => 500,
            _ => 400,
        };

    public static Problem Shape(BeaconProblem p) => new(TypePrefix + p.Slug, Title(p.Code), StatusOf(p.Code), p.Message, p.Slug, p.Cure);

    private static string Title(ProblemCode code)
    {
        var words = BeaconProblem.SlugOf(code).Replace('-', ' ');
        return char.ToUpperInvariant(words[0]) + words[1..];
    }

    public static async Task WriteAsync(HttpContext context, BeaconProblem problem)
    {
        if (context.Response.HasStarted)
            return;
        var shape = Shape(problem);
        var retry = context.Response.Headers.RetryAfter.ToString();
        context.Response.Clear();
        context.Response.StatusCode = shape.Status!.Value;
        if (shape.Status == 429)
            context.Response.Headers.RetryAfter = retry.Length > 0 ? retry : UsualWait(problem.Code);
        await context.Response.WriteAsJsonAsync(shape, BeaconJson.Default.Problem, "application/problem+json", context.RequestAborted);
    }

    /// <summary>In seconds, where nothing else is known.</summary>
    private static string UsualWait(ProblemCode code) => code == ProblemCode.LockedOut ? "60" : "5";

    /// <summary>What the platform could not read ends a call with a bare number: it gets words.</summary>
    public static Task SayWhatCannotBeReadAsync(HttpContext context)
    {
        if (!context.Request.Path.StartsWithSegments("/api"))
            return Task.CompletedTask;
        return context.Response.StatusCode switch
        {
            400 => WriteAsync(
                context,
                new(
                    ProblemCode.InputInvalid,
                    $"A parameter of the call cannot be read: {context.Request.QueryString}.",
                    "Numbers are digits, dates are written as 2027-01-31T00:00:00Z; compare the call with /api/openapi.json."
                )
            ),
            413 => WriteAsync(context, TooLarge),
            _ => Task.CompletedTask,
        };
    }

    private static BeaconProblem TooLarge => new(ProblemCode.TooLarge, "The body of the call is too large.", "Send less.");

    /// <summary>Expected failures are told; everything else is logged and told as one code, without its inside.</summary>
    public static async Task HandleAsync(HttpContext context)
    {
        var fault = context.Features.Get<IExceptionHandlerFeature>()?.Error;
        var problem = fault switch
        {
            BeaconProblem p => p,
            BadHttpRequestException { StatusCode: 413 } => TooLarge,
            BadHttpRequestException b => new BeaconProblem(
                ProblemCode.InputInvalid,
                "The body or a parameter of the call cannot be read: " + (b.InnerException?.Message ?? b.Message).Split(" Path:")[0],
                "Compare it with /api/openapi.json."
            ),
            DbUpdateConcurrencyException => new BeaconProblem(
                ProblemCode.ChangedMeanwhile,
                "Somebody else changed it in between; nothing of yours was stored.",
                "Look at it again, then repeat the change."
            ),
            SqliteException { SqliteErrorCode: 13 } or DbUpdateException { InnerException: SqliteException { SqliteErrorCode: 13 } } =>
                new BeaconProblem(
                    ProblemCode.CannotWrite,
                    "The service's disk is full; nothing was stored.",
                    "Free space in its data folder, then repeat."
                ),
            _ => null,
        };
        if (problem is null)
        {
            var log = context.RequestServices.GetRequiredService<ILoggerFactory>().CreateLogger("Unexpected");
            log.LogError(
                fault,
                "{Method} {Path} failed unexpectedly ({Trace})",
                context.Request.Method,
                context.Request.Path,
                context.TraceIdentifier
            );
            problem = new BeaconProblem(
                ProblemCode.Internal,
                "Something went wrong inside the service.",
                $"Look for {context.TraceIdentifier} in its log."
            );
        }
        await WriteAsync(context, problem);
    }
}
