using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Storage;

/// <summary>
/// A POST that carries an Idempotency-Key is carried out once; asked again, it gets the same answer for a day. Answers of failures are not kept,
/// so that a mended cause can be tried again with the same key.
/// </summary>
internal static class AnswerOnce
{
    public static void UseAnswerOnce(this WebApplication app) =>
        app.Use(
            async (context, next) =>
            {
                var key = context.Request.Headers["Idempotency-Key"].ToString();
                if (
                    key.Length == 0
                    || context.Request.Method != "POST"
                    || !context.Request.Path.StartsWithSegments("/api/v1")
                    || context.User.Identity?.IsAuthenticated != true
                )
                {
                    await next();
                    return;
                }
                if (key.Length > 200)
                    throw new BeaconProblem(ProblemCode.InputInvalid, "The idempotency key is longer than 200 characters.", "Use a UUID.");
                var db = context.RequestServices.GetRequiredService<BeaconDb>();
                var clock = context.RequestServices.GetRequiredService<TimeProvider>();
                context.Request.EnableBuffering();
                var hash = Convert.ToHexStringLower(await SHA256.HashDataAsync(context.Request.Body, context.RequestAborted));
                context.Request.Body.Position = 0;
                var row = $"{Caller.Of(context.User).Actor} {context.Request.Path} {key}";
                if (await db.AnsweredPosts.AsNoTracking().FirstOrDefaultAsync(a => a.Key == row, context.RequestAborted) is { } known)
                {
                    if (known.BodyHash != hash)
                        throw new BeaconProblem(
                            ProblemCode.IdempotencyKeyReused,
                            "This idempotency key was used for another call before.",
                            "Use a new key for each new wish."
                        );
                    context.Response.StatusCode = known.Status;
                    context.Response.ContentType = known.ContentType;
                    context.Response.Headers["Idempotency-Replayed"] = "true";
                    await context.Response.WriteAsync(known.Body, context.RequestAborted);
                    return;
                }
                var real = context.Response.Body;
                using var kept = new MemoryStream();
                context.Response.Body = kept;
                try
                {
                    await next();
                }
                finally
                {
                    context.Response.Body = real;
                }
                if (context.Response.StatusCode < 300)
                {
                    db.ChangeTracker.Clear();
                    await using var write = await db.BeginWriteAsync(CancellationToken.None);
                    db.AnsweredPosts.Add(
                        new()
                        {
                            Key = row,
                            BodyHash = hash,
                            Status = context.Response.StatusCode,
                            ContentType = context.Response.ContentType ?? "",
                            Body = Encoding.UTF8.GetString(kept.ToArray()),
                            At = clock.GetUtcNow(),
                        }
                    );
                    await write.CommitAsync(CancellationToken.None);
                }
                kept.Position = 0;
                await kept.CopyToAsync(real, context.RequestAborted);
            }
        );
}
