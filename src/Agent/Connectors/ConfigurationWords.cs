using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>A word of a configuration line, without its quotes, and where it stands in the file's text with them.</summary>
internal readonly record struct Word(string Value, int Start, int End);

/// <summary>A line that has words.</summary>
/// <param name="Number">From 1.</param>
/// <param name="Start">Index of its first character in the file's text.</param>
/// <param name="End">Index behind its last word.</param>
internal sealed record WordLine(string Path, int Number, int Start, int End, IReadOnlyList<Word> Words)
{
    /// <summary>The first word in lower case: many servers do not tell the two.</summary>
    public string Name => Words[0].Value.ToLowerInvariant();

    /// <summary>A word's value; null when the line has fewer.</summary>
    public string? At(int index) => index < Words.Count ? Words[index].Value : null;

    public string Place => $"{Path}:{Number}";
}

/// <summary>How a kind of server writes its lines.</summary>
/// <param name="Server">For messages.</param>
/// <param name="CommentsAnywhere">A number sign begins a comment behind words too.</param>
/// <param name="Escapes">A backslash takes the meaning from what follows, also outside of quotes.</param>
internal sealed record WordRules(string Server, bool CommentsAnywhere, bool Escapes)
{
    /// <summary>A quote has its meaning at a word's begin alone, and where it is not closed the rest of the line is the word.</summary>
    public bool QuotesBeginWords { get; init; }
}

/// <summary>Configurations of lines of words: the first says what it is, the others are its values, in quotes when they have blanks.</summary>
internal static class ConfigurationWords
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/>: a quote is not closed.</exception>
    public static IReadOnlyList<WordLine> Read(string path, string text, WordRules rules)
    {
        var lines = new List<WordLine>();
        var (at, number) = (0, 0);
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next;
            var words = WordsOf(path, number, text, at, end, rules);
            if (words.Count > 0)
                lines.Add(new(path, number, at, words[^1].End, words));
            at = end + 1;
        }
        return lines;
    }

    private static List<Word> WordsOf(string path, int number, string text, int at, int end, WordRules rules)
    {
        var words = new List<Word>();
        while (true)
        {
            while (at < end && char.IsWhiteSpace(text[at]))
                at++;
            if (at >= end || text[at] == '#' && (rules.CommentsAnywhere || words.Count == 0))
                return words;
            var word = WordAt(path, number, text, at, end, rules);
            words.Add(word);
            at = word.End;
        }
    }

    private static Word WordAt(string path, int number, string text, int start, int end, WordRules rules)
    {
        var value = new StringBuilder();
        var (at, quote) = (start, '\0');
        for (; at < end; at++)
        {
            var c = text[at];
            if (c == '\\' && rules.Escapes && quote != '\'' && at + 1 < end)
                value.Append(text[++at]);
            else if (quote != '\0' && c == quote)
                quote = '\0';
            else if (quote == '\0' && c is '"' or '\'' && (at == start || !rules.QuotesBeginWords))
                quote = c;
            else if (quote == '\0' && (char.IsWhiteSpace(c) || c == '#' && rules.CommentsAnywhere))
                break;
            else
                value.Append(c);
        }
        return quote == '\0' || rules.QuotesBeginWords
            ? new(value.ToString(), start, at)
            : throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path}, line {number}: a quote is not closed.",
                $"Correct the file; {rules.Server} does not accept it either."
            );
    }

    /// <summary>A path of ours as these servers read it: in quotes only where it needs them.</summary>
    public static string Quoted(string path)
    {
        var text = ByteText.From(path);
        return text.All(c => char.IsAsciiLetterOrDigit(c) || "/._@:+,-=".Contains(c, StringComparison.Ordinal)) ? text : $"\"{text}\"";
    }
}
