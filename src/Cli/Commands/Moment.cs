using System.Globalization;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>A moment as people give it: a date, a time (RFC 3339), or a span from now.</summary>
internal static class Moment
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static DateTimeOffset Of(string text)
    {
        // A hundred years are more than anything lives that is asked for.
        if (text.Length > 1 && int.TryParse(text[..^1], out var n) && Math.Abs(n) <= 36_500 && SpanOf(text[^1], n) is { } span)
            return DateTimeOffset.UtcNow + span;
        const DateTimeStyles utc = DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal;
        return DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, utc, out var at)
            ? at
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{text}\" is no date.",
                "Write it as 2027-01-31, or as a span from now: 30d, 12h."
            );
    }

    /// <summary>The same where it need not be said.</summary>
    public static DateTimeOffset? OrNone(string? text) => text is null ? null : Of(text);

    private static TimeSpan? SpanOf(char unit, int n) =>
        unit switch
        {
            'd' => TimeSpan.FromDays(n),
            'h' => TimeSpan.FromHours(n),
            'm' => TimeSpan.FromMinutes(n),
            _ => null,
        };
}
