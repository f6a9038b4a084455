using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Many concerns of one cause are told as one, with where to find them.</summary>
internal static class ConcernGroups
{
    /// <summary>More than this many of one cause are one.</summary>
    public const int MostSingle = 5;

    public static Concern Of(ConcernSubject of, ConcernKind kind, int count, IReadOnlyList<OpenConcern> first)
    {
        var one = first[0];
        var names = $"{string.Join(", ", first.Take(3).Select(c => c.About))} and {count - 3:N0} more";
        var word = OpenWord<ConcernKind>.WordOf(kind);
        var (nouns, command, link) = Where(of, word);
        var (hurts, cure) = Told(kind, one);
        return new(one.Severity, kind, $"{count:N0} {nouns}", $"{Sentence(kind)}: {names}.{Example(of, one)}", hurts, cure, command, link)
        {
            Count = count,
            Since = first.Min(c => c.Since),
        };
    }

    private static (string Nouns, string Command, string Link) Where(ConcernSubject of, string word) =>
        of switch
        {
            ConcernSubject.Service => ("services", $"beacon service list --state {word}", $"/hosts?view=services&state={word}"),
            ConcernSubject.Host when word == "host-away" => (
                "hosts",
                "beacon host list --state away --sort seen",
                "/hosts?state=away&sort=seen"
            ),
            ConcernSubject.Host => ("hosts", "beacon host list --state problem", "/hosts?state=problem"),
            ConcernSubject.Request => ("requests", "beacon request list", "/requests"),
            _ => ("certificates", $"beacon cert list --state {word}", $"/certificates?state={word}"),
        };

    /// <summary>What is so of each is told of the first; many agents that are not heard from have most likely one cause between them and here.</summary>
    private static (string Hurts, string Cure) Told(ConcernKind kind, OpenConcern one) =>
        kind == ConcernKind.HostAway
            ? (
                "Nothing on these hosts is renewed or looked at.",
                "Where many fell silent at once, see that they reach this service by its name and port; else start their agents."
            )
            : (one.Hurts, one.Cure);

    private static string Example(ConcernSubject of, OpenConcern one) =>
        of is ConcernSubject.Certificate or ConcernSubject.Host && one.Kind != ConcernKind.HostAway ? $" The first says: {one.Reason}" : "";

    private static string Sentence(ConcernKind kind)
    {
        var words =
            kind == ConcernKind.HostAway
                ? "their agents have not been heard from"
                : Bindings.ServiceQueries.Word(OpenWord<ConcernKind>.WordOf(kind));
        return char.ToUpperInvariant(words[0]) + words[1..];
    }
}
