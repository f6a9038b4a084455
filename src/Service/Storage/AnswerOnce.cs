using System.Security.Cryptography;
using System.Text;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;

namespace OrderlyBeacon.Service.Storage;

/// <summary>
/// A POST that carries an Idempotency-Key is carried out once; asked again, it gets the same answer for a day. The key is reserved before the work begins, for this caller,
/// address and body, so that of several at once one works and the others are told so. Answers of failures are not kept, so that a fixed cause can be tried again with the
/// same key; answers with secrets are not kept either.
/// </summary>
internal static class AnswerOnce
{
    private const int MostKept = 256 << 10;

    public static void UseAnswerOnce(this WebApplication app) =>
        app.Use(
            (context, next) =>
            {
                var key = context.Request.Headers["Idempotency-Key"].ToString();
                var isMeant =
                    key.Length > 0
                    && context.Request.Method == "POST"
                    && context.Request.Path.StartsWithSegments("/api/v1")
                    // What an agent says again changes nothing anyway: it is told apart by its order and by what it says.
                    && !context.Request.Path.StartsWithSegments("/api/v1/agent")
                    && context.User.Identity?.IsAuthenticated == true;
                return isMeant ? OnceAsync(context, key, next) : next();
            }
        );

    private static async Task OnceAsync(HttpContext context, string key, Func<Task> next)
    {
        if (key.Length > 200)
            throw new BeaconProblem(ProblemCode.InputInvalid, "The idempotency key is longer than 200 characters.", "Use a UUID.");
        var db = context.RequestServices.GetRequiredService<BeaconDb>();
        var row = $"{Caller.Of(context.User).Actor} {context.Request.Path}{context.Request.QueryString} {key}";
        var hash = await HashAsync(context);
        if (await ReserveAsync(db, row, hash, context.RequestServices.GetRequiredService<TimeProvider>()) is { } known)
        {
            await AgainAsync(context, known, hash);
            return;
        }
        var isSecret = context.GetEndpoint()?.Metadata.GetMetadata<SecretAnswer>() is not null;
        var real = context.Response.Body;
        using var kept = new MemoryStream();
        // A secret goes straight out: it is not even held here.
        if (!isSecret)
            context.Response.Body = kept;
        var isDone = false;
        try
        {
            await next();
            isDone = context.Response.StatusCode < 300;
        }
        finally
        {
            context.Response.Body = real;
            if (!isDone)
                await ReleaseAsync(db, row);
        }
        if (isDone)
            await KeepAsync(db, row, context, isSecret || kept.Length > MostKept ? null : kept.ToArray());
        if (!isSecret)
        {
            kept.Position = 0;
            await kept.CopyToAsync(real, context.RequestAborted);
        }
    }

    private static async Task<string> HashAsync(HttpContext context)
    {
        context.Request.EnableBuffering();
        var hash = Convert.ToHexStringLower(await SHA256.HashDataAsync(context.Request.Body, context.RequestAborted));
        context.Request.Body.Position = 0;
        return hash;
    }

    /// <returns>Null when the key is this call's; else what is known about it.</returns>
    private static async Task<AnsweredPost?> ReserveAsync(BeaconDb db, string row, string hash, TimeProvider clock)
    {
        await using var write = await db.BeginWriteAsync(CancellationToken.None);
        if (await db.AnsweredPosts.AsNoTracking().FirstOrDefaultAsync(a => a.Key == row) is { } known)
            return known;
        db.AnsweredPosts.Add(
            new()
            {
                Key = row,
                BodyHash = hash,
                Status = AnsweredPost.Reserved,
                At = clock.GetUtcNow(),
            }
        );
        await write.CommitAsync(CancellationToken.None);
        db.ChangeTracker.Clear();
        return null;
    }

    private static async Task AgainAsync(HttpContext context, AnsweredPost known, string hash)
    {
        if (known.BodyHash != hash)
            throw new BeaconProblem(
                ProblemCode.IdempotencyKeyReused,
                "This idempotency key was used for another call before.",
                "Use a new key for each new wish."
            );
        if (known.Status == AnsweredPost.Reserved)
            throw new BeaconProblem(
                ProblemCode.InProgress,
                "The same call is being carried out now.",
                "Wait, then ask with the same key again for its answer."
            );
        if (known.Status == AnsweredPost.CutOff)
            throw new BeaconProblem(
                ProblemCode.InProgress,
                "The same call was cut off when the service stopped: it may have been carried out.",
                "Look whether it was done; if it was not, repeat it with a new key."
            );
        if (known.Body is null)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                "This call was carried out; its answer held a secret, or was too large, and is not kept.",
                "If the answer was lost, make a new one with a new key."
            );
        context.Response.StatusCode = known.Status;
        context.Response.ContentType = known.ContentType;
        context.Response.Headers["Idempotency-Replayed"] = "true";
        // Not even nothing may be written where an answer has no body.
        if (known.Body.Length > 0)
            await context.Response.Body.WriteAsync(known.Body, context.RequestAborted);
    }

    private static async Task ReleaseAsync(BeaconDb db, string row)
    {
        db.ChangeTracker.Clear();
        await using var write = await db.BeginWriteAsync(CancellationToken.None);
        await db.AnsweredPosts.Where(a => a.Key == row).ExecuteDeleteAsync();
        await write.CommitAsync(CancellationToken.None);
    }

    private static async Task KeepAsync(BeaconDb db, string row, HttpContext context, byte[]? body)
    {
        db.ChangeTracker.Clear();
        await using var write = await db.BeginWriteAsync(CancellationToken.None);
        var post = await db.AnsweredPosts.SingleAsync(a => a.Key == row);
        (post.Status, post.ContentType, post.Body) = (context.Response.StatusCode, context.Response.ContentType ?? "", body);
        await write.CommitAsync(CancellationToken.None);
    }

    /// <summary>At start: what was reserved and not answered was cut off.</summary>
    public static async Task CutOffAsync(BeaconDb db)
    {
        await using var write = await db.BeginWriteAsync();
        await db
            .AnsweredPosts.Where(a => a.Status == AnsweredPost.Reserved)
            .ExecuteUpdateAsync(u => u.SetProperty(a => a.Status, AnsweredPost.CutOff));
        await write.CommitAsync();
    }
}

/// <summary>The answer that a POST with an idempotency key got, or that it is being worked out.</summary>
public sealed class AnsweredPost
{
    public const int Reserved = 0,
        CutOff = -1;

    /// <summary>Caller, address and key.</summary>
    public required string Key { get; init; }
    public required string BodyHash { get; init; }

    /// <summary>The HTTP status, or <see cref="Reserved"/>, or <see cref="CutOff"/>.</summary>
    public required int Status { get; set; }
    public string ContentType { get; set; } = "";

    /// <summary>Null while there is none, and for answers that are not kept.</summary>
    public byte[]? Body { get; set; }
    public required DateTimeOffset At { get; init; }
}
