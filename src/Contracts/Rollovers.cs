using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

/// <summary>How far a certificate's new key has come where TLSA records in DNS speak of it (RFC 7671, section 8.1).</summary>
[JsonConverter(typeof(OpenWord<RolloverStep>))]
public enum RolloverStep
{
    /// <summary>The key is made; its records are not in DNS yet.</summary>
    Adding,

    /// <summary>Its records are in DNS; others may still have the set without them.</summary>
    Waiting,

    /// <summary>The edition is issued, and on its way into its services.</summary>
    Swapping,

    /// <summary>It is served; the records of the keys before are being removed.</summary>
    Removing,

    /// <summary>Nothing is left to do.</summary>
    Done,

    /// <summary>A step that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>Why a next key is put in although DNS does not speak of it.</summary>
public sealed record SkipReason(string? Reason);

/// <summary>A record that has to come or to go.</summary>
/// <param name="Owner"><c>_25._tcp.mail.thistledown.example</c>.</param>
/// <param name="Life">Its TTL in seconds.</param>
/// <param name="Record">As in a zone file: <c>3 1 1 8f43…</c>.</param>
/// <param name="ByHand">The zone is not one that the service may write: a person does it.</param>
public sealed record RecordToDo(string Owner, int Life, string Record, bool IsAdded, bool ByHand)
{
    /// <summary>The whole line of a zone file.</summary>
    public string Line => $"{Owner}. {Life} IN TLSA {Record}";
}

/// <summary>A certificate's change to its next key, where TLSA records speak of it.</summary>
/// <param name="Until">When the edition is issued and put in, at the earliest; null unless it waits.</param>
/// <param name="ToDo">Records that have to come or to go in this step.</param>
/// <param name="Foreign">Records beside them that match nothing known here.</param>
/// <param name="Problem">Why it does not go on; null when it does.</param>
public sealed record RolloverInfo(
    RolloverStep Step,
    DateTimeOffset Since,
    DateTimeOffset? Until,
    IReadOnlyList<RecordToDo> ToDo,
    IReadOnlyList<string> Foreign,
    string? Problem
)
{
    /// <summary>Whether a person has to change a zone before it goes on.</summary>
    public bool IsByHand => Step is RolloverStep.Adding or RolloverStep.Removing && ToDo.Any(t => t.ByHand);
}
