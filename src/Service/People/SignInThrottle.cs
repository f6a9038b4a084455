using System.Collections.Concurrent;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.People;

/// <summary>
/// Slows guessing down without locking anybody out for long. Wrong passwords for a name from one address make that address wait, up to five minutes; many of them from
/// many addresses make everybody wait a few seconds for that name, except where its owner signed in before. Names that do not exist are treated alike, and nothing is
/// written for any of it.
/// </summary>
public sealed class SignInThrottle(TimeProvider clock)
{
    private const int FreeTries = 5,
        MostKept = 20_000,
        ManyForName = 50;
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(5),
        NamePause = TimeSpan.FromSeconds(5),
        Forgotten = TimeSpan.FromMinutes(30);

    private sealed record Entry(int Failures, DateTimeOffset Last, DateTimeOffset Until);

    private readonly ConcurrentDictionary<(string Name, string Source), Entry> _bySource = [];
    private readonly ConcurrentDictionary<string, Entry> _byName = [];
    private readonly ConcurrentDictionary<(string Name, string Source), byte> _trusted = [];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.LockedOut"/>.</exception>
    public void ThrowIfPaused(string name, string source)
    {
        var now = clock.GetUtcNow();
        var until = _bySource.TryGetValue((name, source), out var own) ? own.Until : default;
        if (!_trusted.ContainsKey((name, source)) && _byName.TryGetValue(name, out var all) && all.Until > until)
            until = all.Until;
        if (until > now)
            throw new BeaconProblem(
                ProblemCode.LockedOut,
                "There were too many wrong passwords.",
                $"Wait until {until:HH:mm:ss} UTC and try again; an administrator can end the pause: beacon person unlock NAME."
            );
    }

    public void Failed(string name, string source)
    {
        var now = clock.GetUtcNow();
        Bound();
        _bySource.AddOrUpdate((name, source), _ => new(1, now, default), (_, e) => After(e, now, FreeTries, Pause));
        _byName.AddOrUpdate(name, _ => new(1, now, default), (_, e) => After(e, now, ManyForName, _ => NamePause));
    }

    private static Entry After(Entry e, DateTimeOffset now, int free, Func<int, TimeSpan> pause)
    {
        var failures = now - e.Last > Forgotten ? 1 : e.Failures + 1;
        return new(failures, now, failures >= free ? now + pause(failures - free) : default);
    }

    private static TimeSpan Pause(int over) => TimeSpan.FromSeconds(Math.Min(LongestPause.TotalSeconds, 60 * Math.Pow(2, over)));

    public void Succeeded(string name, string source)
    {
        _bySource.TryRemove((name, source), out _);
        _trusted[(name, source)] = 0;
    }

    /// <summary>Ends every pause for a name.</summary>
    public void Unlock(string name)
    {
        _byName.TryRemove(name, out _);
        foreach (var key in _bySource.Keys.Where(k => k.Name == name))
            _bySource.TryRemove(key, out _);
    }

    public bool IsPaused(string name)
    {
        var now = clock.GetUtcNow();
        return (_byName.TryGetValue(name, out var all) && all.Until > now) || _bySource.Any(e => e.Key.Name == name && e.Value.Until > now);
    }

    /// <summary>Whoever invents names must not fill the memory.</summary>
    private void Bound()
    {
        if (_bySource.Count > MostKept)
            Drop(_bySource);
        if (_byName.Count > MostKept)
            Drop(_byName);
        if (_trusted.Count > MostKept)
            _trusted.Clear();
    }

    private void Drop<TKey>(ConcurrentDictionary<TKey, Entry> of)
        where TKey : notnull
    {
        var now = clock.GetUtcNow();
        foreach (var (key, e) in of.OrderBy(e => e.Value.Until > now).ThenBy(e => e.Value.Last).Take(MostKept / 2))
            of.TryRemove(KeyValuePair.Create(key, e));
    }
}
