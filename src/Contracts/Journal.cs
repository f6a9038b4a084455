namespace OrderlyBeacon.Contracts;

public sealed record JournalEntryInfo(
    long Sequence,
    DateTimeOffset At,
    string Actor,
    string Action,
    string Subject,
    string Detail,
    string Previous,
    string Hash
);
