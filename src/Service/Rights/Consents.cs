using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Rights;

/// <summary>One call that an administrator wants to make and a second one must consent to: this very call, once, within the hour.</summary>
public sealed class Consent
{
    public static readonly TimeSpan Life = TimeSpan.FromHours(1);

    public long Id { get; private init; }
    public required string Operation { get; init; }

    /// <summary>Over operation, address and body: another call is another consent.</summary>
    public required string Hash { get; init; }
    public required string About { get; init; }

    /// <summary>The body for the second person to read, without secrets.</summary>
    public required string Body { get; init; }
    public required string By { get; init; }
    public required DateTimeOffset At { get; init; }
    public string? ConsentedBy { get; private set; }
    public DateTimeOffset? UsedAt { get; private set; }
    public DateTimeOffset Until => At + Life;

    public void Give(string by, DateTimeOffset now)
    {
        if (by == By)
            throw new BeaconProblem(ProblemCode.OwnRequest, "You asked for this consent yourself.", "Ask another administrator.");
        if (ConsentedBy is not null || now > Until)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                ConsentedBy is not null ? $"{ConsentedBy} has consented already." : "It was good for an hour only.",
                "Have the call made again."
            );
        ConsentedBy = by;
    }

    public void Use(DateTimeOffset now) => UsedAt = now;
}

/// <summary>Keeps what waits for a second administrator.</summary>
public sealed class Consents(BeaconDb db, DomainGroups domain, TimeProvider clock)
{
    private const int MostBody = 2000;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConsentNeeded"/>, with the number that the second person consents to.</exception>
    public async Task ThrowUnlessGivenAsync(HttpContext context, Operation operation, Caller caller)
    {
        var ct = context.RequestAborted;
        // Where nobody else could consent, nothing would ever be done.
        var others = db.People.Where(p => p.LeftAt == null && p.Name != caller.Name);
        if (
            !domain.Grants(Who.Administrators)
            && !await others.AnyAsync(p => ("," + p.Groups + ",").Contains("," + Who.Administrators + ","), ct)
        )
            return;
        var body = await BodyAsync(context);
        var about = $"{context.Request.Method} {context.Request.Path}{context.Request.QueryString}";
        var hash = Convert.ToHexStringLower(SHA256.HashData([.. Encoding.UTF8.GetBytes($"{operation} {about}\n"), .. body]));
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        var row = await db
            .Consents.Where(c => c.Hash == hash && c.By == caller.Name && c.UsedAt == null && c.At > now - Consent.Life)
            .OrderByDescending(c => c.Id)
            .FirstOrDefaultAsync(ct);
        if (row?.ConsentedBy is { } by)
        {
            row.Use(now);
            await db.Note(now, caller.Actor, JournalAction.ConsentUsed, $"consent {row.Id}", $"{row.Operation} {row.About}, with {by}");
            await write.CommitAsync(ct);
            db.ChangeTracker.Clear();
            return;
        }
        if (row is null)
        {
            db.Consents.Add(
                row = new()
                {
                    Operation = BeaconProblem.SlugOf(operation),
                    Hash = hash,
                    About = about,
                    Body = Readable(body),
                    By = caller.Name,
                    At = now,
                }
            );
            await db.SaveChangesAsync(ct);
            await db.Note(now, caller.Actor, JournalAction.ConsentAsked, $"consent {row.Id}", $"{row.Operation} {about}");
            await write.CommitAsync(ct);
        }
        throw new BeaconProblem(
            ProblemCode.ConsentNeeded,
            $"A second administrator must consent to this: it is consent {row.Id}.",
            $"Have another administrator look at it and consent (beacon consent give {row.Id}), then make the same call again within the hour."
        );
    }

    public async Task GiveAsync(long id, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var row =
            await db.Consents.FirstOrDefaultAsync(c => c.Id == id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no consent {id}.", "See beacon consent list.");
        var now = clock.GetUtcNow();
        row.Give(caller.Name, now);
        await db.Note(
            now,
            caller.Actor,
            JournalAction.ConsentGiven,
            $"consent {id}",
            $"{row.Operation} {row.About}, asked for by {row.By}"
        );
        await write.CommitAsync(ct);
    }

    public async Task<List<ConsentInfo>> ListAsync(CancellationToken ct) =>
        [
            .. (await db.Consents.AsNoTracking().OrderByDescending(c => c.Id).Take(100).ToListAsync(ct)).Select(c => new ConsentInfo(
                c.Id,
                c.Operation,
                c.About,
                c.Body,
                c.By,
                c.At,
                c.Until,
                c.ConsentedBy,
                c.UsedAt is not null
            )),
        ];

    private static async Task<byte[]> BodyAsync(HttpContext context)
    {
        context.Request.EnableBuffering();
        using var all = new MemoryStream();
        await context.Request.Body.CopyToAsync(all, context.RequestAborted);
        context.Request.Body.Position = 0;
        return all.ToArray();
    }

    private static string Readable(byte[] body)
    {
        try
        {
            var node = body.Length == 0 ? null : JsonNode.Parse(body);
            if (node is JsonObject o)
                foreach (
                    var key in o.Select(p => p.Key)
                        .Where(k => k.Contains("password", StringComparison.OrdinalIgnoreCase) || k is "old" or "new")
                        .ToList()
                )
                    o[key] = "(not shown)";
            var text = node?.ToJsonString() ?? "";
            return text.Length > MostBody ? text[..MostBody] + " …" : text;
        }
        catch (JsonException)
        {
            return "(not readable)";
        }
    }
}
