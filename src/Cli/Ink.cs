using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Text;
using Spectre.Console;

namespace OrderlyBeacon.Cli;

/// <summary>
/// Text with styles for the terminal. What stands literally in an interpolated string is ours; what is put into it is data: it is never read as anything but text, and
/// characters that a terminal acts on, or that nobody sees, are written out. Only another <see cref="Ink"/> brings a style along.
/// </summary>
[InterpolatedStringHandler]
internal sealed class Ink
{
    private readonly List<(string Text, Style? Style)> _parts = [];

    public Ink() { }

    public Ink(int literalLength, int formattedCount) { }

    public IReadOnlyList<(string Text, Style? Style)> Parts => _parts;

    public void AppendLiteral(string text) => _parts.Add((text, null));

    public void AppendFormatted(Ink? ink) => _parts.AddRange(ink?._parts ?? []);

    public void AppendFormatted(string? data) => _parts.Add((Visible(data ?? ""), null));

    public void AppendFormatted<T>(T data) => AppendFormatted(data, null);

    public void AppendFormatted<T>(T data, string? format) =>
        AppendFormatted(data is IFormattable f ? f.ToString(format, CultureInfo.InvariantCulture) : data?.ToString());

    [return: NotNullIfNotNull(nameof(data))]
    public static implicit operator Ink?(string? data)
    {
        if (data is null)
            return null;
        var ink = new Ink();
        ink.AppendFormatted(data);
        return ink;
    }

    public static Ink operator +(Ink a, Ink b)
    {
        var ink = new Ink();
        ink._parts.AddRange(a._parts);
        ink._parts.AddRange(b._parts);
        return ink;
    }

    public static Ink Bold(Ink ink) => Styled(ink, new(decoration: Decoration.Bold));

    public static Ink Grey(Ink ink) => Styled(ink, new(Color.Grey));

    public static Ink Green(Ink ink) => Styled(ink, new(Color.Green));

    public static Ink Yellow(Ink ink) => Styled(ink, new(Color.Yellow));

    public static Ink Orange(Ink ink) => Styled(ink, new(Color.DarkOrange));

    public static Ink Red(Ink ink) => Styled(ink, new(Color.Red));

    public static Ink Cyan(Ink ink) => Styled(ink, new(Color.Teal));

    private static Ink Styled(Ink ink, Style style)
    {
        var styled = new Ink();
        styled._parts.AddRange(ink._parts.Select(p => (p.Text, (Style?)(p.Style is { } own ? style.Combine(own) : style))));
        return styled;
    }

    public bool IsEmpty => _parts.TrueForAll(p => p.Text.Length == 0);

    /// <summary>Its lines: line ends that stand literally, or between several texts.</summary>
    public IReadOnlyList<Ink> Lines()
    {
        var lines = new List<Ink> { new() };
        foreach (var (text, style) in _parts)
        {
            var pieces = text.Split('\n');
            for (var i = 0; i < pieces.Length; i++)
            {
                if (i > 0)
                    lines.Add(new());
                if (pieces[i].Length > 0)
                    lines[^1]._parts.Add((pieces[i], style));
            }
        }
        return lines;
    }

    /// <summary>Several lines of one cell.</summary>
    public static Ink Stack(params Ink[] lines)
    {
        var ink = new Ink();
        for (var i = 0; i < lines.Length; i++)
        {
            if (i > 0)
                ink.AppendLiteral("\n");
            ink.AppendFormatted(lines[i]);
        }
        return ink;
    }

    /// <summary>Without styles; data stays as visible as it was made.</summary>
    public override string ToString() => string.Concat(_parts.Select(p => p.Text));

    /// <summary>Control characters, directions, and what has no width, written out as <c>\u001B</c>.</summary>
    public static string Visible(string text)
    {
        if (text.All(c => c is >= ' ' and <= '~'))
            return text;
        var s = new StringBuilder(text.Length + 16);
        for (var i = 0; i < text.Length; i++)
            if (char.IsSurrogatePair(text, i))
            {
                s.Append(text, i, 2);
                i++;
            }
            else if (IsHidden(text[i]))
                s.Append("\\u").Append(((int)text[i]).ToString("X4", CultureInfo.InvariantCulture));
            else
                s.Append(text[i]);
        return s.ToString();
    }

    private static bool IsHidden(char c) =>
        char.GetUnicodeCategory(c)
            is UnicodeCategory.Control
                or UnicodeCategory.Format
                or UnicodeCategory.Surrogate
                or UnicodeCategory.LineSeparator
                or UnicodeCategory.ParagraphSeparator
                or UnicodeCategory.PrivateUse
                or UnicodeCategory.OtherNotAssigned;
}
