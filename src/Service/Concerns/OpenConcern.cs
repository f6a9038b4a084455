using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Something that needs a hand, from the change that caused it until the change that ends it.</summary>
public sealed class OpenConcern
{
    public long Id { get; private init; }

    /// <summary>Of what it is, with that row's number; 0 of the house.</summary>
    public ConcernSubject Of { get; private init; }
    public long SubjectId { get; private init; }
    public ConcernKind Kind { get; private init; }

    /// <summary>The subject as people call it.</summary>
    public string About { get; private init; } = "";
    public Severity Severity { get; private set; }
    public string Reason { get; private set; } = "";
    public string Hurts { get; private set; } = "";
    public string Cure { get; private set; } = "";

    /// <summary>The command that is the cure, or shows where it lies; null when there is none, or when it depends on what else the host has.</summary>
    public string? Command { get; private set; }

    /// <summary>The console's page.</summary>
    public string? Link { get; private set; }
    public DateTimeOffset Since { get; private init; }

    public static OpenConcern Open(Found f, DateTimeOffset at)
    {
        var row = new OpenConcern
        {
            Of = f.Of,
            SubjectId = f.SubjectId,
            Kind = f.Kind,
            About = f.About,
            Since = at,
        };
        row.Is(f);
        return row;
    }

    /// <summary>The same cause, perhaps worse or told otherwise: since when stays.</summary>
    public void Is(Found f) => (Severity, Reason, Hurts, Cure, Command, Link) = (f.Severity, f.Reason, f.Hurts, f.Cure, f.Command, f.Link);

    public bool IsOf(Found f) => Kind == f.Kind && About == f.About;
}

/// <summary>What a judgement finds: a concern as it is now.</summary>
public sealed record Found(
    ConcernSubject Of,
    long SubjectId,
    ConcernKind Kind,
    string About,
    Severity Severity,
    string Reason,
    string Hurts,
    string Cure
)
{
    public string? Command { get; init; }
    public string? Link { get; init; }
}
