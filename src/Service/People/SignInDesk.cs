using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>Checks passwords and tokens.</summary>
public sealed class SignInDesk(IServiceScopeFactory scopes, TimeProvider clock)
{
    public static readonly TimeSpan SessionLife = TimeSpan.FromHours(12);
    private static readonly TimeSpan CacheLife = TimeSpan.FromSeconds(30);
    private readonly PasswordHasher<Person> _hasher = new();
    private readonly byte[] _cacheKey = RandomNumberGenerator.GetBytes(32);
    private readonly ConcurrentDictionary<string, (Caller Caller, DateTimeOffset Until)> _cache = [];

    // An unknown name costs as much time as a known one.
    private readonly string _dummy = new PasswordHasher<Person>().HashPassword(null!, "no such person");

    public string Hash(string password) =>
        password.Length is >= 12 and <= 256
            ? _hasher.HashPassword(null!, password)
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "A password has 12 to 256 characters.",
                "Choose a longer one; several words do well."
            );

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SignInRefused"/> or <see cref="ProblemCode.LockedOut"/>.</exception>
    public async Task<Person> CheckPasswordAsync(string name, string password, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var now = clock.GetUtcNow();
        name = name.Trim().ToLowerInvariant();
        var seen = await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == name, ct);
        seen?.ThrowIfLocked(now);
        var verdict = _hasher.VerifyHashedPassword(seen!, seen?.PasswordHash ?? _dummy, password);
        if (seen is not null && verdict == PasswordVerificationResult.Success && seen.Failures == 0)
            return seen;

        if (seen is not null)
        {
            await using var write = await db.BeginWriteAsync(ct);
            var person = await db.People.SingleAsync(p => p.Id == seen.Id, ct);
            person.ThrowIfLocked(now);
            if (verdict == PasswordVerificationResult.Failed)
            {
                person.NoteFailure(now);
                await db.Note(now, name, "person.sign-in-refused", name, $"{person.Failures} wrong passwords in a row");
            }
            else
                person.NoteSuccess(
                    verdict == PasswordVerificationResult.SuccessRehashNeeded ? _hasher.HashPassword(person, password) : null
                );
            await write.CommitAsync(ct);
            if (verdict != PasswordVerificationResult.Failed)
                return person;
        }
        throw new BeaconProblem(
            ProblemCode.SignInRefused,
            "The name or the password is wrong.",
            "Try again; after five wrong passwords there is a pause."
        );
    }

    /// <summary>As <see cref="CheckPasswordAsync"/>, remembering a success for half a minute, for clients that send it with each call.</summary>
    public async Task<Caller> CheckBasicAsync(string name, string password, CancellationToken ct)
    {
        var key = "basic:" + Convert.ToHexString(HMACSHA256.HashData(_cacheKey, Encoding.UTF8.GetBytes(name + "\0" + password)));
        if (Cached(key) is { } known)
            return known;
        var p = await CheckPasswordAsync(name, password, ct);
        return Remember(key, new(p.Name, p.GroupList, null));
    }

    public async Task<(string Token, DateTimeOffset Until)> OpenSessionAsync(Person person, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var token = "obt_" + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        var now = clock.GetUtcNow();
        await using var write = await db.BeginWriteAsync(ct);
        await db.Sessions.Where(s => s.Until < now).ExecuteDeleteAsync(ct);
        db.Sessions.Add(
            new()
            {
                Hash = HashOf(token),
                PersonId = person.Id,
                Until = now + SessionLife,
            }
        );
        await db.Note(now, person.Name, "person.signed-in", person.Name);
        await write.CommitAsync(ct);
        return (token, now + SessionLife);
    }

    public async Task<Caller?> CheckTokenAsync(string token, CancellationToken ct)
    {
        var hash = HashOf(token);
        if (Cached(hash) is { } known)
            return known;
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var now = clock.GetUtcNow();
        var session = await db.Sessions.AsNoTracking().FirstOrDefaultAsync(s => s.Hash == hash && s.Until > now, ct);
        if (session is null)
            return null;
        var person = await db.People.AsNoTracking().SingleAsync(p => p.Id == session.PersonId, ct);
        return Remember(hash, new(person.Name, person.GroupList, null));
    }

    public async Task CloseSessionAsync(string token, CancellationToken ct)
    {
        var hash = HashOf(token);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        await using var write = await db.BeginWriteAsync(ct);
        await db.Sessions.Where(s => s.Hash == hash).ExecuteDeleteAsync(ct);
        await write.CommitAsync(ct);
        _cache.TryRemove(hash, out _);
    }

    private Caller? Cached(string key) => _cache.TryGetValue(key, out var e) && e.Until > clock.GetUtcNow() ? e.Caller : null;

    private Caller Remember(string key, Caller caller)
    {
        if (_cache.Count > 10_000)
            _cache.Clear();
        _cache[key] = (caller, clock.GetUtcNow() + CacheLife);
        return caller;
    }

    private static string HashOf(string token) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(token)));
}
