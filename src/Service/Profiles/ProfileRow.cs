namespace OrderlyBeacon.Service.Profiles;

/// <summary>A profile's present state; what it says stands in its revisions.</summary>
public sealed class ProfileRow
{
    public string Name { get; private init; } = "";
    public int Revision { get; private set; }
    public bool Offered { get; private set; } = true;

    public static ProfileRow Of(string name) => new() { Name = name, Revision = 1 };

    public void Revise() => Revision++;

    public void Offer(bool offered) => Offered = offered;
}

/// <summary>One revision; it never changes.</summary>
public sealed class ProfileRevision
{
    public required string Name { get; init; }
    public required int Revision { get; init; }

    /// <summary>The definition, in JSON.</summary>
    public required string Json { get; init; }
    public required DateTimeOffset At { get; init; }
    public required string By { get; init; }
}
