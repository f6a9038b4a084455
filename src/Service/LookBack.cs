namespace OrderlyBeacon.Service;

/// <summary>
/// How far back one answer to a search looks through rows that are only ever added, numbered as they came: a search for what is rare would read all of them otherwise. The next answer goes on from there.
/// </summary>
/// <param name="From">The first number that is looked at.</param>
/// <param name="Before">The first that is not any more.</param>
internal readonly record struct LookBack(long From, long Before)
{
    /// <summary>Rows that one answer looks at.</summary>
    public const int Most = 50_000;

    /// <param name="before">Where the answer before this one stopped; null begins with the newest.</param>
    /// <param name="newest">The highest number that there is.</param>
    public static LookBack Of(long? before, long newest)
    {
        var end = Math.Clamp(before ?? long.MaxValue, 1, newest + 1);
        return new(Math.Max(1, end - Most), end);
    }

    /// <summary>Where the next answer goes on; null when everything was looked at.</summary>
    /// <param name="found">The numbers that were found, the highest first.</param>
    /// <param name="take">How many were wanted.</param>
    public string? Next(IReadOnlyList<long> found, int take)
    {
        if (found.Count == take)
            return found[^1].ToString();
        if (From > 1)
            return From.ToString();
        return null;
    }
}
