using System.Collections.Concurrent;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>
/// Counts refused sign-ins and writes them into the journal now and then, a line for each name that exists and one for all that do not: the journal shows who is being
/// guessed at, and nobody can fill it or measure by it.
/// </summary>
public sealed class RefusedSignIns(PeopleBook people, TimeProvider clock)
{
    private const int MostNames = 1000;
    private readonly ConcurrentDictionary<string, (int Count, string Source)> _counts = [];
    private int _others;

    public void Count(string name, string source)
    {
        if (_counts.Count < MostNames || _counts.ContainsKey(name))
            _counts.AddOrUpdate(name, (1, source), (_, c) => (c.Count + 1, source));
        else
            Interlocked.Increment(ref _others);
    }

    /// <summary>Whether some are counted and not written yet.</summary>
    public bool Any => !_counts.IsEmpty || _others > 0;

    public async Task WriteAsync(BeaconDb db, CancellationToken ct)
    {
        if (!Any)
            return;
        var unknown = Interlocked.Exchange(ref _others, 0);
        await using var write = await db.BeginWriteAsync(ct);
        foreach (var name in _counts.Keys)
        {
            if (!_counts.TryRemove(name, out var c))
                continue;
            if (await people.KnowsAsync(name, ct))
                await db.Note(
                    clock.GetUtcNow(),
                    Actor.Door,
                    JournalAction.PersonSignInRefused,
                    name,
                    $"{c.Count} wrong passwords, last from {c.Source}"
                );
            else
                unknown += c.Count;
        }
        if (unknown > 0)
            await db.Note(
                clock.GetUtcNow(),
                Actor.Door,
                JournalAction.PersonSignInRefused,
                "unknown names",
                $"{unknown} sign-ins with names that do not exist"
            );
        await write.CommitAsync(ct);
    }
}
