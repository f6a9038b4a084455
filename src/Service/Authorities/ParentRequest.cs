namespace OrderlyBeacon.Service.Authorities;

/// <summary>A request that lies with a parent service, until its answer is collected.</summary>
public sealed class ParentRequest
{
    public int Id { get; private init; }
    public required int GenerationId { get; init; }
    public required string Url { get; init; }

    /// <summary>PEM of the only roots that are trusted for it.</summary>
    public required string Root { get; init; }

    /// <summary>Its number there.</summary>
    public required long Number { get; init; }
    public required string Fingerprint { get; init; }
    public bool Open { get; private set; } = true;

    /// <summary>What the parent said last.</summary>
    public string Says { get; private set; } = "waiting for approval";

    public void Say(string says, bool open) => (Says, Open) = (says, open);
}
