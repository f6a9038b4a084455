using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>
/// Which agents were heard from, and what they said last, in memory: a poll and a report that says nothing new write nothing. The database learns when a host was seen
/// with its next change, once in half a day, and when the service stops.
/// </summary>
public sealed class Presence(AuthorityRegistry registry, BeaconOptions options, TimeProvider clock)
{
    /// <summary>A judgement is made anew at the latest after this time, though the host says the same.</summary>
    private static readonly TimeSpan JudgementLife = TimeSpan.FromHours(6),
        KeptEvery = TimeSpan.FromHours(12);

    private sealed record Said(ReportPrint Print, int Epoch, DateTimeOffset JudgeAgainAt, DateTimeOffset At);

    private readonly ConcurrentDictionary<int, DateTimeOffset> _seen = [];
    private readonly ConcurrentDictionary<int, Said> _said = [];
    private int _revocations;

    /// <summary>Changes with whatever a judgement of what is served depends on besides the report.</summary>
    public int Epoch => unchecked(registry.Version * 1_000_003 + Volatile.Read(ref _revocations));

    public void Saw(int host) => _seen[host] = clock.GetUtcNow();

    public DateTimeOffset? LastSeen(Host h) =>
        _seen.TryGetValue(h.AgentHostId, out var at) && (h.LastSeen is null || at > h.LastSeen) ? at : h.LastSeen;

    public bool IsOnline(Host h) =>
        h.State == HostState.Joined && LastSeen(h) > clock.GetUtcNow() - TimeSpan.FromSeconds(options.HostAwaySeconds);

    /// <summary>Whether others are silent than these: asks nobody.</summary>
    public bool IsOtherThan(IReadOnlySet<int> away)
    {
        var since = clock.GetUtcNow() - TimeSpan.FromSeconds(options.HostAwaySeconds);
        if (!_silentKnown)
            return since >= _started;
        var silent = 0;
        foreach (var (host, at) in _seen)
        {
            if (at > since)
                continue;
            if (!away.Contains(host))
                return true;
            silent++;
        }
        return silent != away.Count;
    }

    /// <summary>
    /// Hosts that fell silent. After a start each has as long to speak as any other time; then those that did not are asked of the database, once.
    /// </summary>
    /// <returns>Null while that is not known yet.</returns>
    public async Task<HashSet<int>?> AwayAsync(BeaconDb db, CancellationToken ct)
    {
        var since = clock.GetUtcNow() - TimeSpan.FromSeconds(options.HostAwaySeconds);
        if (since < _started)
            return null;
        if (!_silentKnown)
        {
            foreach (
                var id in await db.Hosts.Where(h => h.State == HostState.Joined && h.ViaHostId == null).Select(h => h.Id).ToListAsync(ct)
            )
                _seen.TryAdd(id, DateTimeOffset.MinValue);
            _silentKnown = true;
        }
        return [.. _seen.Where(s => s.Value <= since).Select(s => s.Key)];
    }

    /// <summary>A host that was removed is missed no more.</summary>
    public void Remove(int host)
    {
        _seen.TryRemove(host, out _);
        _said.TryRemove(host, out _);
    }

    private readonly DateTimeOffset _started = clock.GetUtcNow();
    private bool _silentKnown;

    /// <summary>Whether this was said before, and was judged by what holds now: then there is nothing to write.</summary>
    /// <param name="whole">Of the report's <see cref="ReportPrint"/>.</param>
    public bool IsKnown(int host, string whole)
    {
        Saw(host);
        if (Judged(host) is not { } said || said.Print.Whole != whole)
            return false;
        _said[host] = said with { At = clock.GetUtcNow() };
        return true;
    }

    /// <summary>A host's services as it said them last, as far as they are kept and judged by what holds now; null when all are to be looked at again.</summary>
    public IReadOnlyDictionary<string, long>? ServicesOf(int host) => Judged(host)?.Print.Services;

    /// <summary>A report is being written: until it is kept, nothing is known of its host. Asked while nobody else writes.</summary>
    /// <param name="used">What <see cref="ServicesOf"/> said when it was judged.</param>
    /// <returns>Whether that holds still; if not, another report came between.</returns>
    public bool Begin(int host, IReadOnlyDictionary<string, long>? used)
    {
        _said.TryRemove(host, out var said);
        return used is null || ReferenceEquals(used, said?.Print.Services);
    }

    private Said? Judged(int host) =>
        _said.TryGetValue(host, out var said) && said.Epoch == Epoch && clock.GetUtcNow() < said.JudgeAgainAt ? said : null;

    /// <param name="epoch">The <see cref="Epoch"/> before it was judged: what changed meanwhile counts for the next report.</param>
    /// <param name="nextEnd">When the first certificate of those that were judged expires.</param>
    public void Keep(int host, ReportPrint print, int epoch, DateTimeOffset? nextEnd)
    {
        var now = clock.GetUtcNow();
        var again = nextEnd is { } end && end > now && end < now + JudgementLife ? end : now + JudgementLife;
        _said[host] = new(print, epoch, again, now);
    }

    /// <summary>When a host last said what is kept of it; null when it has not since the service started.</summary>
    public DateTimeOffset? Confirmed(int host) => _said.TryGetValue(host, out var said) ? said.At : null;

    /// <summary>What is kept of a host was changed otherwise: its next report is taken whole.</summary>
    public void Forget(int host) => _said.TryRemove(host, out _);

    /// <summary>States of certificates changed: what was judged before may be judged otherwise now.</summary>
    public void JudgeAgain() => Interlocked.Increment(ref _revocations);

    /// <summary>Writes down when hosts were seen last.</summary>
    /// <param name="all">Also what was written down a short while ago: the service stops.</param>
    public async Task WriteAsync(BeaconDb db, bool all, CancellationToken ct)
    {
        // Who joined since and never spoke is missed from now on.
        _silentKnown = false;
        await using var write = await db.BeginWriteAsync(ct);
        var old = clock.GetUtcNow() - KeptEvery;
        foreach (var ids in _seen.Keys.Chunk(500))
        foreach (var h in await db.Hosts.Where(h => ids.Contains(h.Id) && (all || h.LastSeen == null || h.LastSeen < old)).ToListAsync(ct))
            if (LastSeen(h) is { } at && at != h.LastSeen)
                h.Seen(at);
        await write.CommitAsync(ct);
    }
}
