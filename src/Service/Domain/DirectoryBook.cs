using System.Collections.Concurrent;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Service.Domain;

/// <summary>An answer of the directory and when it was given.</summary>
public sealed record Known<T>(T Value, DateTimeOffset AsOf);

/// <summary>
/// What the directory said, kept for a few minutes and then asked anew; <see cref="Forget"/> has everything asked anew at once. When it does not answer, what was said before
/// its time is over stands, and beyond that nothing does: the question fails with <see cref="ProblemCode.DirectoryAway"/>.
/// </summary>
public sealed class DirectoryBook(IDirectory? directory, BeaconOptions options, TimeProvider clock)
{
    private const int MostKept = 20_000;

    /// <summary>After a failure the next callers are told the same for a while: a dead directory is not called by everybody in turn.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(3);

    /// <summary>An answer that is younger is not asked for again because somebody was refused.</summary>
    private static readonly TimeSpan Settled = TimeSpan.FromSeconds(5);

    private readonly ConcurrentDictionary<string, Known<object?>> _kept = [];
    private (BeaconProblem Problem, DateTimeOffset Since, DateTimeOffset Last)? _away;
    private DateTimeOffset? _answered;

    public bool IsThere => directory is not null;

    /// <summary>Whether it is a file beside the service, whose people sign in with passwords kept here.</summary>
    public bool IsFile => directory is EmbeddedDirectory;

    public string Called => directory?.Called ?? "";

    /// <summary>The realm of its accounts, upper case; empty when there is none.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DirectoryAway"/>: it has not said so yet.</exception>
    public async Task<string> RealmAsync(CancellationToken ct) =>
        directory is null ? options.Realm.ToUpperInvariant() : await AskAsync(d => d.RealmAsync(ct).AsTask());

    /// <summary>The same in small letters, as people write a domain; empty while it is not known.</summary>
    public async Task<string> DomainAsync(CancellationToken ct)
    {
        try
        {
            return (await RealmAsync(ct)).ToLowerInvariant();
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.DirectoryAway)
        {
            return "";
        }
    }

    /// <summary>When it answered last.</summary>
    public DateTimeOffset? Answered => _answered;

    /// <summary>Why it does not answer, and since when; null while it does.</summary>
    public (BeaconProblem Problem, DateTimeOffset Since)? Away => _away is { } a ? (a.Problem, a.Since) : null;

    private TimeSpan Life => TimeSpan.FromMinutes(options.DirectoryMinutes);

    /// <summary>Everything is asked anew from now on.</summary>
    public void Forget()
    {
        _kept.Clear();
        if (_away is { } a)
            _away = a with { Last = DateTimeOffset.MinValue };
    }

    /// <summary>Asked now, whatever is kept.</summary>
    public async Task<DirectoryComputer?> ComputerNowAsync(string account, CancellationToken ct)
    {
        _kept.TryRemove(AccountKey(account), out _);
        return (await ComputerOfAccountAsync(account, ct)).Value;
    }

    /// <summary>
    /// Groups that an account has joined since the answer that is kept for it: asked anew where that is some seconds old, and kept from now on. For who was refused by what the
    /// directory said a while ago.
    /// </summary>
    public async Task<IReadOnlyList<DirectoryGroup>> JoinedSinceAsync(string account, CancellationToken ct)
    {
        var isComputer = account.EndsWith('$');
        var key = isComputer ? AccountKey(account) : "person:" + account.ToLowerInvariant();
        if (!_kept.TryGetValue(key, out var before) || before.AsOf > clock.GetUtcNow() - Settled)
            return [];
        _kept.TryRemove(key, out _);
        var now = isComputer
            ? GroupsOf((await ComputerOfAccountAsync(account, ct)).Value)
            : GroupsOf((await PersonAsync(account, ct)).Value);
        var had = GroupsOf(before.Value).Select(g => g.Name).ToHashSet();
        return [.. now.Where(g => !had.Contains(g.Name))];
    }

    private static IReadOnlyList<DirectoryGroup> GroupsOf(object? answer) =>
        answer switch
        {
            DirectoryComputer c => c.Groups,
            DirectoryPerson p => p.Groups,
            _ => [],
        };

    public Task<Known<DirectoryComputer?>> ComputerOfAccountAsync(string account, CancellationToken ct) =>
        GetAsync(AccountKey(account), d => d.ComputerOfAccountAsync(account, ct));

    public Task<Known<IReadOnlyList<DirectoryComputer>>> ComputersOfNameAsync(string name, CancellationToken ct) =>
        GetAsync("name:" + name, d => d.ComputersOfNameAsync(name, ct));

    public Task<Known<DirectoryPerson?>> PersonAsync(string name, CancellationToken ct) =>
        GetAsync("person:" + name.ToLowerInvariant(), d => d.PersonAsync(name, ct));

    /// <summary>Which computers have these names; names that nobody has are missing.</summary>
    public async Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> OwnersAsync(
        IReadOnlyCollection<string> names,
        CancellationToken ct
    )
    {
        var now = clock.GetUtcNow();
        var owners = new Dictionary<string, IReadOnlyList<string>>();
        var missing = new List<string>();
        foreach (var name in names.Distinct())
            if (_kept.TryGetValue("owners:" + name, out var kept) && kept.AsOf > now - Life)
                owners[name] = (IReadOnlyList<string>)kept.Value!;
            else
                missing.Add(name);
        if (missing.Count > 0)
        {
            var found = await AskAsync(d => d.OwnersAsync(missing, ct));
            foreach (var name in missing)
                Keep("owners:" + name, owners[name] = found.GetValueOrDefault(name, []), now);
        }
        return owners.Where(o => o.Value.Count > 0).ToDictionary(o => o.Key, o => o.Value);
    }

    /// <summary>Puts a certificate on a computer's object and takes others away.</summary>
    public Task PublishAsync(string account, byte[] certificate, IReadOnlyList<byte[]> instead, CancellationToken ct) =>
        AskAsync(async d =>
        {
            await d.PublishAsync(account, certificate, instead, ct);
            return true;
        });

    private static string AccountKey(string account) => "account:" + account.ToLowerInvariant();

    private async Task<Known<T>> GetAsync<T>(string key, Func<IDirectory, Task<T>> ask)
    {
        var now = clock.GetUtcNow();
        if (_kept.TryGetValue(key, out var kept) && kept.AsOf > now - Life)
            return new((T)kept.Value!, kept.AsOf);
        var answer = await AskAsync(ask);
        Keep(key, answer, now);
        return new(answer, now);
    }

    private void Keep(string key, object? value, DateTimeOffset now)
    {
        if (_kept.Count > MostKept)
            _kept.Clear();
        _kept[key] = new(value, now);
    }

    private async Task<T> AskAsync<T>(Func<IDirectory, Task<T>> ask)
    {
        var now = clock.GetUtcNow();
        if (_away is { } away && now - away.Last < Pause)
            throw Again(away.Problem);
        try
        {
            var answer = await ask(directory!);
            (_away, _answered) = (null, now);
            return answer;
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.DirectoryAway)
        {
            _away = (p, _away?.Since ?? now, clock.GetUtcNow());
            throw;
        }
    }

    // An exception is thrown once; the next caller gets one of its own.
    private static BeaconProblem Again(BeaconProblem p) => new(p.Code, p.Message, p.Cure);

    /// <summary>The host part of a service principal: <c>HTTP/www.thistledown.example:8443/x</c> is of www.thistledown.example.</summary>
    public static string HostOf(string principal)
    {
        var parts = principal.Split('/');
        return parts.Length < 2 ? "" : parts[1].Split(':')[0].ToLowerInvariant().TrimEnd('.');
    }

    /// <summary>Its names and service principals in the form that names are decided in; what is no name is left out.</summary>
    public static IReadOnlyDictionary<string, string> ServiceNames(DirectoryComputer computer)
    {
        var names = new Dictionary<string, string>();
        foreach (var principal in computer.Principals)
            if (DnsName.TryParse(HostOf(principal), out var name, out _) && !name!.IsWildcard)
                names.TryAdd(name.Ascii, principal);
        return names;
    }
}
