using System.Runtime.CompilerServices;
using System.Text;

namespace OrderlyBeacon.Contracts;

/// <summary>
/// A command for people to copy: what is put into the interpolated text is quoted as a POSIX shell needs it, so that <c>*.thistledown.example</c> is not taken for file
/// names and nobody's name becomes a command.
/// </summary>
[InterpolatedStringHandler]
public sealed class ShellCommand
{
    private readonly StringBuilder _text;

    public ShellCommand(int literalLength, int formattedCount) => _text = new(literalLength + formattedCount * 16);

    /// <summary>The text that <c>$"beacon cert show {name}"</c> makes.</summary>
    public static string Of(ShellCommand command) => command._text.ToString();

    public void AppendLiteral(string text) => _text.Append(text);

    public void AppendFormatted(string? word) => _text.Append(Quoted(word ?? ""));

    public void AppendFormatted(long number) => _text.Append(number);

    /// <summary>One word of a shell: as it is where that is safe, else in single quotes.</summary>
    public static string Quoted(string word) =>
        word.Length > 0 && word.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_' or '/' or ':' or '@' or '+' or ',' or '=')
            ? word
            : "'" + word.Replace("'", "'\\''") + "'";
}
