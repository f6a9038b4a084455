using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service;

/// <summary>What all lists share: words that are checked, pages that go on behind the last item.</summary>
internal static class ListQuery
{
    private const int Usual = 100,
        Most = 500,
        MostSearched = 253;

    /// <summary>The state of whatever has a concern, of whatever cause.</summary>
    public const string NeedsAHand = "needs-a-hand";

    /// <summary>What a pattern of <see cref="Having"/> is escaped by.</summary>
    public const string EscapedBy = "\\";

    /// <summary>The pattern of texts that have this in them, in capitals or not; for <c>EF.Functions.Like</c> with <see cref="EscapedBy"/>.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>: longer than any name; each row would be compared with all of it.</exception>
    public static string Having(string text) =>
        text.Trim() is { Length: > MostSearched }
            ? throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"That is longer than any name: at most {MostSearched} characters are searched for.",
                "Give a part of it."
            )
            : $"%{string.Concat(text.Trim().Select(c => c is '%' or '_' or '\\' ? EscapedBy + c : c.ToString()))}%";

    /// <summary>How many items a page has.</summary>
    public static int Take(int? take) => Math.Clamp(take ?? Usual, 1, Most);

    /// <summary>A filter's or sort's word; null and empty ask for nothing.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>, with the words that there are.</exception>
    public static string? Word(string what, string? word, params IReadOnlyList<string> known)
    {
        if (string.IsNullOrWhiteSpace(word))
            return null;
        if (known.Contains(word))
            return word;
        throw new BeaconProblem(ProblemCode.InputInvalid, $"There is no {what} \"{word}\".", $"Use one of {string.Join(", ", known)}.");
    }
}
