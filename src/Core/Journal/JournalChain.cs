using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace OrderlyBeacon.Core.Journal;

/// <summary>One entry of the journal: who did what to what, and why.</summary>
/// <param name="Sequence">1, 2, 3 … without gaps.</param>
/// <param name="Detail">Text that says the rest; never a secret.</param>
/// <param name="Previous">The hash of the entry before; 64 zeros for the first.</param>
/// <param name="Hash">See <see cref="JournalChain.HashOf"/>.</param>
public sealed record JournalRecord(
    long Sequence,
    DateTimeOffset At,
    string Actor,
    string Action,
    string Subject,
    string Detail,
    string Previous,
    string Hash
);

/// <summary>The chain of hashes that shows when an entry was altered, removed or put in between.</summary>
public static class JournalChain
{
    public static string Start { get; } = new('0', 64);

    /// <summary>SHA-256, lower-case hexadecimal, over the fields, each with its length in UTF-8 bytes before it (so that no two entries read the same).</summary>
    public static string HashOf(
        long sequence,
        DateTimeOffset at,
        string actor,
        string action,
        string subject,
        string detail,
        string previous
    )
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (
            var field in new[]
            {
                sequence.ToString(CultureInfo.InvariantCulture),
                at.ToUnixTimeMilliseconds().ToString(CultureInfo.InvariantCulture),
                actor,
                action,
                subject,
                detail,
                previous,
            }
        )
        {
            var bytes = Encoding.UTF8.GetBytes(field);
            hash.AppendData(Encoding.ASCII.GetBytes(bytes.Length.ToString(CultureInfo.InvariantCulture) + ":"));
            hash.AppendData(bytes);
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    public static JournalRecord Append(JournalRecord? last, DateTimeOffset at, string actor, string action, string subject, string detail)
    {
        var sequence = (last?.Sequence ?? 0) + 1;
        var previous = last?.Hash ?? Start;
        var whole = DateTimeOffset.FromUnixTimeMilliseconds(at.ToUnixTimeMilliseconds());
        return new(
            sequence,
            whole,
            actor,
            action,
            subject,
            detail,
            previous,
            HashOf(sequence, whole, actor, action, subject, detail, previous)
        );
    }

    /// <summary>Checks one entry against the one before it; null when it fits, else what is wrong.</summary>
    public static string? Fault(JournalRecord? before, JournalRecord entry)
    {
        var expected = (before?.Sequence ?? 0) + 1;
        if (entry.Sequence != expected)
            return $"Entry {expected} is missing: {entry.Sequence} follows {expected - 1}.";
        if (entry.Previous != (before?.Hash ?? Start))
            return $"Entry {entry.Sequence} does not continue entry {expected - 1}: one of them was altered.";
        return entry.Hash == HashOf(entry.Sequence, entry.At, entry.Actor, entry.Action, entry.Subject, entry.Detail, entry.Previous)
            ? null
            : $"Entry {entry.Sequence} was altered: its content does not match its hash.";
    }
}
