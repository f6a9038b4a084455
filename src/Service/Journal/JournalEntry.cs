using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;

namespace OrderlyBeacon.Service.Journal;

/// <summary>A stored entry; never changed after it is written.</summary>
public sealed class JournalEntry
{
    public long Sequence { get; private init; }
    public DateTimeOffset At { get; private init; }
    public string Actor { get; private init; } = "";
    public string Action { get; private init; } = "";
    public string Subject { get; private init; } = "";
    public string Detail { get; private init; } = "";
    public string Previous { get; private init; } = "";
    public string Hash { get; private init; } = "";

    public JournalRecord Record => new(Sequence, At, Actor, Action, Subject, Detail, Previous, Hash);

    public JournalEntryInfo Info => new(Sequence, At, Actor, Action, Subject, Detail, Previous, Hash);

    public static JournalEntry Of(JournalRecord r) =>
        new()
        {
            Sequence = r.Sequence,
            At = r.At,
            Actor = r.Actor,
            Action = r.Action,
            Subject = r.Subject,
            Detail = r.Detail,
            Previous = r.Previous,
            Hash = r.Hash,
        };
}
