using System.Text.Json;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Records;

/// <summary>One change of a certificate's key where its names have TLSA records, or may have.</summary>
public sealed class KeyRollover
{
    public int Id { get; private init; }
    public int CertificateId { get; private init; }
    public long RequestId { get; private init; }

    /// <summary>SHA-256 over the next key, hexadecimal: what its records say.</summary>
    public string NextKey { get; private init; } = "";
    public RolloverStep Step { get; private set; }
    public DateTimeOffset At { get; private init; }
    public DateTimeOffset? Until { get; private set; }

    /// <summary>Where records may be: a name and a port each.</summary>
    public string OwnersJson { get; private init; } = "[]";

    /// <summary>Seconds: the longest life of a set that was met. 0 when none was, in which case there is nothing to wait for.</summary>
    public int LongestLife { get; private set; }
    public string ToDoJson { get; private set; } = "[]";
    public string ForeignJson { get; private set; } = "[]";
    public string? Problem { get; private set; }

    /// <summary>Its next key will not be used: what is removed are its own records.</summary>
    public bool IsDropped { get; private set; }

    public static KeyRollover Begin(int certificateId, long requestId, string nextKey, IReadOnlyList<string> owners, DateTimeOffset at) =>
        new()
        {
            CertificateId = certificateId,
            RequestId = requestId,
            NextKey = nextKey,
            OwnersJson = Shapes.Json(owners),
            At = at,
        };

    public IReadOnlyList<string> Owners => Shapes.Strings(OwnersJson);

    private List<RecordToDo> ToDo => JsonSerializer.Deserialize(ToDoJson, BeaconJson.Default.ListRecordToDo)!;

    public RolloverInfo Info => new(Step, At, Until, ToDo, Shapes.Strings(ForeignJson), Problem);

    /// <summary>What was met in DNS and what is left to do there.</summary>
    public void Met(int longestLife, IReadOnlyList<RecordToDo> toDo, IReadOnlyList<string> foreign, string? problem)
    {
        LongestLife = Math.Max(LongestLife, longestLife);
        (ToDoJson, ForeignJson, Problem) = (
            JsonSerializer.Serialize([.. toDo], BeaconJson.Default.ListRecordToDo),
            Shapes.Json(foreign),
            problem
        );
    }

    public void Wait(DateTimeOffset until) => (Step, Until) = (RolloverStep.Waiting, until);

    /// <summary>Somebody does not wait for DNS.</summary>
    public bool IsSkipped { get; private set; }

    public void Skip(DateTimeOffset now) => (IsSkipped, Step, Until) = (true, RolloverStep.Waiting, now);

    public void AddAgain() => (Step, Until) = (RolloverStep.Adding, null);

    public void Swap() => (Step, Until, ToDoJson, Problem) = (RolloverStep.Swapping, null, "[]", null);

    public void Remove(bool isDropped) =>
        (Step, Until, IsDropped, ToDoJson, Problem) = (RolloverStep.Removing, null, isDropped, "[]", null);

    public void End() => (Step, ToDoJson, Problem) = (RolloverStep.Done, "[]", null);
}
