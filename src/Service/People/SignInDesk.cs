using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>Checks passwords and tokens. What it answers, and how long that takes, says nothing about who exists.</summary>
public sealed class SignInDesk(
    IServiceScopeFactory scopes,
    HashLane lane,
    SignInThrottle throttle,
    RefusedSignIns refused,
    PeopleBook book,
    DomainPeople domain,
    TimeProvider clock
)
{
    public static readonly TimeSpan SessionLife = TimeSpan.FromHours(12);
    private static readonly TimeSpan CacheLife = TimeSpan.FromSeconds(30);
    private const int MostPassword = 256;
    private readonly byte[] _cacheKey = RandomNumberGenerator.GetBytes(32);
    private readonly ConcurrentDictionary<string, (Caller Caller, DateTimeOffset Until)> _cache = [];
    private long _version;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> when it is too short or too long.</exception>
    public Task<string> HashAsync(string password, CancellationToken ct) =>
        password.Length is >= 12 and <= MostPassword
            ? lane.HashAsync(password, ct)
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"A password has 12 to {MostPassword} characters.",
                "Choose a longer one; several words do well."
            );

    /// <param name="source">The address that the call comes from.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SignInRefused"/>, <see cref="ProblemCode.LockedOut"/> or <see cref="ProblemCode.TooBusy"/>.</exception>
    public async Task<Person> CheckPasswordAsync(string name, string password, string source, CancellationToken ct)
    {
        name = name.Trim().ToLowerInvariant();
        if (name.Length > 64 || password.Length > MostPassword)
            throw Refused();
        throttle.ThrowIfPaused(name, source);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var person = await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == name && p.LeftAt == null, ct);
        var isGood = name.Contains('@')
            ? await domain.IsPasswordOfAsync(name, password, ct)
            : await lane.VerifyAsync(person?.PasswordHash, password, ct) != PasswordVerificationResult.Failed && person is not null;
        if (isGood && name.Contains('@'))
        {
            throttle.Succeeded(name, source);
            return await domain.FindAsync(name, ct);
        }
        if (person is null || !isGood)
        {
            throttle.Failed(name, source);
            refused.Count(name, source);
            throw Refused();
        }
        throttle.Succeeded(name, source);
        return person;
    }

    /// <summary>Who calls, with the groups of this moment: those kept here, and the directory's.</summary>
    public async Task<Caller> CallerOfAsync(Person person, CancellationToken ct) =>
        new(person.Name, await book.GroupsOfAsync(person.Name, ct), null);

    private static BeaconProblem Refused() =>
        new(ProblemCode.SignInRefused, "The name or the password is wrong.", "Try again; after five wrong passwords there is a pause.");

    /// <summary>As <see cref="CheckPasswordAsync"/>, remembering a success for half a minute, for clients that send it with each call.</summary>
    public async Task<Caller> CheckBasicAsync(string name, string password, string source, CancellationToken ct)
    {
        var key = "basic:" + Convert.ToHexString(HMACSHA256.HashData(_cacheKey, Encoding.UTF8.GetBytes(name + "\0" + password)));
        if (Cached(key) is { } known)
            return known;
        var version = Interlocked.Read(ref _version);
        var p = await CheckPasswordAsync(name, password, source, ct);
        return Remember(key, await CallerOfAsync(p, ct), version);
    }

    /// <param name="isProved">Whether the password was given for it.</param>
    public async Task<(string Token, DateTimeOffset Until)> OpenSessionAsync(Person person, bool isProved, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var token = "obt_" + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        await db.Sessions.Where(s => s.Until < now).ExecuteDeleteAsync(ct);
        db.Sessions.Add(
            new()
            {
                Hash = HashOf(token),
                PersonId = person.Id,
                Until = now + SessionLife,
                ProvedAt = isProved ? now : DateTimeOffset.UnixEpoch,
            }
        );
        await db.Note(now, Actor.Person(person.Name), JournalAction.PersonSignedIn, person.Name);
        await write.CommitAsync(ct);
        return (token, now + SessionLife);
    }

    /// <summary>The password was given once more: what needs it fresh may be done for a while.</summary>
    public async Task ProveAsync(string sessionHash, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        await using var write = await db.BeginWriteAsync(ct);
        if (await db.Sessions.FirstOrDefaultAsync(s => s.Hash == sessionHash, ct) is { } session)
            session.ProvedAt = clock.GetUtcNow();
        await write.CommitAsync(ct);
        Forget();
    }

    public async Task<Caller?> CheckTokenAsync(string token, CancellationToken ct)
    {
        var hash = HashOf(token);
        if (Cached(hash) is { } known)
            return known;
        var version = Interlocked.Read(ref _version);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var now = clock.GetUtcNow();
        var session = await db.Sessions.AsNoTracking().FirstOrDefaultAsync(s => s.Hash == hash && s.Until > now, ct);
        if (session is null)
            return null;
        var person = await db.People.AsNoTracking().SingleAsync(p => p.Id == session.PersonId, ct);
        if (person.LeftAt is not null)
            return null;
        var caller = await CallerOfAsync(person, ct);
        return Remember(hash, caller with { ProvedAt = session.ProvedAt, SessionHash = hash }, version);
    }

    public async Task CloseSessionAsync(string token, CancellationToken ct)
    {
        var hash = HashOf(token);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        await using var write = await db.BeginWriteAsync(ct);
        await db.Sessions.Where(s => s.Hash == hash).ExecuteDeleteAsync(ct);
        await write.CommitAsync(ct);
        Forget();
    }

    /// <summary>After a change of people or sessions: what is remembered may be over.</summary>
    public void Forget()
    {
        Interlocked.Increment(ref _version);
        _cache.Clear();
    }

    private Caller? Cached(string key) => _cache.TryGetValue(key, out var e) && e.Until > clock.GetUtcNow() ? e.Caller : null;

    private Caller Remember(string key, Caller caller, long version)
    {
        // Something changed while it was looked up: it is good for this call, and not kept.
        if (Interlocked.Read(ref _version) != version)
            return caller;
        if (_cache.Count > 10_000)
            _cache.Clear();
        _cache[key] = (caller, clock.GetUtcNow() + CacheLife);
        return caller;
    }

    private static string HashOf(string token) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(token)));
}
