using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>
/// Whether the regular round has anything to do: something was written or told since it began last, a moment has come, or a while has passed. An idle service asks its
/// database nothing in between.
/// </summary>
internal sealed class Wake(WriteGate gate, Changes changes, TimeProvider clock)
{
    /// <summary>What neither a write nor a moment tells of, a backup that grows old for one, is looked at this often.</summary>
    internal static readonly TimeSpan Anyway = TimeSpan.FromMinutes(1);

    private long _seen = -1;
    private DateTimeOffset _next,
        _began;

    /// <summary>True at the beginning of a round that is worth it.</summary>
    public bool IsTime()
    {
        var (signs, now) = (gate.Writes + changes.Told, clock.GetUtcNow());
        if (signs == _seen && now < _next)
            return false;
        (_seen, _began, _next) = (signs, now, now + Anyway);
        return true;
    }

    /// <summary>A moment at which there is something to do; null when there is none.</summary>
    public void At(DateTimeOffset? moment)
    {
        if (moment < _next)
            _next = moment.Value;
    }

    /// <summary>Something is left to do: the next round comes this long after the last one began, if not before.</summary>
    public void Within(TimeSpan span) => At(_began + span);
}
