using System.Text;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using Spectre.Console;

namespace OrderlyBeacon.Cli;

/// <summary>What the client's output is made of: the same shapes and words for states everywhere, colour only as a third sign.</summary>
internal static class Screen
{
    private static IAnsiConsole? _console;

    /// <summary>Made when first needed: a command that prints JSON or a version does without.</summary>
    public static IAnsiConsole Out => _console ??= Make();

    private static IAnsiConsole Make()
    {
        Console.OutputEncoding = new UTF8Encoding(false);
        var c = AnsiConsole.Create(
            new AnsiConsoleSettings
            {
                ColorSystem =
                    Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 } || Console.IsOutputRedirected
                        ? ColorSystemSupport.NoColors
                        : ColorSystemSupport.Detect,
            }
        );
        if (int.TryParse(Environment.GetEnvironmentVariable("COLUMNS"), out var columns) && columns is >= 40 and <= 1000)
            c.Profile.Width = columns;
        else if (Console.IsOutputRedirected)
            c.Profile.Width = 80;
        return c;
    }

    public static int Width => Out.Profile.Width;

    public static void Json(string json)
    {
        using var document = JsonDocument.Parse(json);
        Console.Out.WriteLine(JsonSerializer.Serialize(document.RootElement, CliJson.Default.JsonElement));
    }

    public static void Line(string text = "") => Out.WriteLine(text);

    public static void Rich(string markup) => Out.Markup(markup + "\n");

    public static string Mark(Severity s) =>
        s switch
        {
            Severity.Fine => "[green]○[/] fine",
            Severity.Soon => "[yellow]◐[/] soon",
            Severity.Now => "[darkorange]◆[/] now",
            _ => "[red]✕[/] failed",
        };

    public static string Mark(Verdict v) =>
        v switch
        {
            Verdict.Granted => "[green]○[/] granted",
            Verdict.NeedsApproval => "[yellow]◐[/] needs approval",
            _ => "[red]✕[/] refused",
        };

    public static string Esc(string? text) => Markup.Escape(text ?? "");

    /// <summary>An absolute date with the distance beside it.</summary>
    public static string When(DateTimeOffset? at)
    {
        if (at is not { } t)
            return "–";
        var left = t - DateTimeOffset.UtcNow;
        return Math.Abs(left.TotalDays) < 1.5
            ? $"{t.UtcDateTime:d MMM HH:mm} · {Distance(left)}"
            : $"{t.UtcDateTime:d MMM yyyy} · {Distance(left)}";
    }

    public static string Distance(TimeSpan left)
    {
        var (a, before, after) = (left.Duration(), left < TimeSpan.Zero ? "" : "in ", left < TimeSpan.Zero ? " ago" : "");
        var text =
            a.TotalDays >= 730 ? $"{Math.Round(a.TotalDays / 365.25)} years"
            : a.TotalDays >= 1.5 ? $"{Math.Round(a.TotalDays)} days"
            : a.TotalHours >= 1.5 ? $"{Math.Round(a.TotalHours)} hours"
            : a.TotalMinutes >= 1.5 ? $"{Math.Round(a.TotalMinutes)} minutes"
            : $"{Math.Round(a.TotalSeconds)} seconds";
        return before + text + after;
    }

    /// <summary>A life as a bar: filled as far as it is used, a notch where the renewal is planned.</summary>
    public static string LifeBar(DateTimeOffset from, DateTimeOffset to, DateTimeOffset? planned, int cells = 12)
    {
        var life = (to - from).TotalSeconds;
        var used = Math.Clamp((DateTimeOffset.UtcNow - from).TotalSeconds / life, 0, 1);
        var notch = planned is { } p ? (int)Math.Clamp((p - from).TotalSeconds / life * cells, 0, cells - 1) : -1;
        var text = new StringBuilder();
        for (var i = 0; i < cells; i++)
            text.Append(
                i == notch ? '┃'
                : i < used * cells ? '━'
                : '·'
            );
        return text.ToString();
    }

    /// <summary>
    /// A table of texts in markup. Names are never cut: where the lines do not fit, the last column wraps, and where that is not enough,
    /// each row becomes a few lines with the heads as labels.
    /// </summary>
    public static void Table(string[] heads, IEnumerable<string[]> rows, string empty)
    {
        var all = rows.Select(r => r.Select(c => c.Split('\n')).ToArray()).ToList();
        if (all.Count == 0)
        {
            Line(empty);
            return;
        }
        var widths = heads.Select((h, i) => Math.Max(h.Length, all.Max(r => r[i].Max(Length)))).ToArray();
        var before = widths[..^1].Sum() + 2 * (widths.Length - 1);
        var room = Width - 1 - before;
        if (room < Math.Min(widths[^1], 24))
        {
            Records(heads, all);
            return;
        }
        WriteRow([.. heads.Select(h => new[] { $"[bold]{Esc(h)}[/]" })], widths);
        foreach (var r in all)
            WriteRow(widths[^1] <= room ? r : [.. r[..^1], [.. r[^1].SelectMany(l => Wrap(l, room))]], widths);
    }

    private static void WriteRow(string[][] cells, int[] widths)
    {
        for (var line = 0; line < cells.Max(c => c.Length); line++)
        {
            var text = new StringBuilder();
            for (var i = 0; i < cells.Length; i++)
            {
                var cell = line < cells[i].Length ? cells[i][line] : "";
                text.Append(cell);
                if (i < cells.Length - 1)
                    text.Append(' ', widths[i] - Length(cell) + 2);
            }
            Rich(text.ToString().TrimEnd());
        }
    }

    private static void Records(string[] heads, List<string[][]> rows)
    {
        foreach (var r in rows)
        {
            Rich(string.Join("  ", r.Take(2).Select(c => c[0])));
            var rest = r.Skip(2).Select((c, i) => (Head: heads[i + 2], Text: string.Join(' ', c))).Where(x => Length(x.Text) > 0);
            Hanging(
                "    ",
                4,
                string.Join("  ", rest.Select(x => $"[grey]{Esc(x.Head.ToLowerInvariant()).Replace(' ', '\u00a0')}[/] {x.Text}"))
            );
        }
    }

    private static int Length(string markup) => Markup.Remove(markup).Length;

    /// <summary>A command to be copied: where it does not fit, its lines are continued as shells take it.</summary>
    public static void Command(int indent, string command)
    {
        var lines = Wrap(Esc(command), Math.Max(20, Width - indent - 6)).ToList();
        for (var i = 0; i < lines.Count; i++)
            Rich(new string(' ', indent + (i > 0 ? 4 : 0)) + $"[cyan]{lines[i]}[/]" + (i < lines.Count - 1 ? " \\" : ""));
    }

    /// <summary>Names and values, one pair a line.</summary>
    public static void Pairs(params (string Name, string? Value)[] pairs)
    {
        var shown = pairs.Where(p => p.Value is not null).ToList();
        var width = shown.Max(p => p.Name.Length);
        foreach (var (name, value) in shown)
            Hanging($"[grey]{Esc(name.PadRight(width))}[/]  ", width + 2, value!);
    }

    /// <summary>Text that wraps under itself.</summary>
    /// <param name="head">Markup that stands before the first line.</param>
    public static void Hanging(string head, int indent, string markup)
    {
        var room = Math.Max(20, Width - indent - 1);
        var first = true;
        foreach (var line in Wrap(markup, room))
        {
            Out.Markup((first ? head : new string(' ', indent)) + line + "\n");
            first = false;
        }
    }

    // Wraps at blanks; markup tags have no blanks of their own here and count as nothing.
    private static IEnumerable<string> Wrap(string markup, int room)
    {
        foreach (var paragraph in markup.Split('\n'))
        {
            var (line, length) = (new StringBuilder(), 0);
            foreach (var word in paragraph.Split(' '))
            {
                var n = Markup.Remove(word.Count(c => c == '[') == word.Count(c => c == ']') ? word : Esc(word)).Length;
                if (length > 0 && length + 1 + n > room)
                {
                    yield return line.ToString();
                    line.Clear();
                    length = 0;
                }
                if (length > 0)
                {
                    line.Append(' ');
                    length++;
                }
                line.Append(word);
                length += n;
            }
            yield return line.ToString();
        }
    }

    public static void Diff(string diff)
    {
        foreach (var l in diff.TrimEnd('\n').Split('\n'))
            Rich(
                l.StartsWith('+') ? $"[green]{Esc(l)}[/]"
                : l.StartsWith('-') ? $"[red]{Esc(l)}[/]"
                : l.StartsWith('@') ? $"[grey]{Esc(l)}[/]"
                : Esc(l)
            );
    }

    public static void Problem(BeaconProblem p)
    {
        Console.Error.WriteLine($"beacon: {p.Message}");
        Console.Error.WriteLine($"        {p.Cure}");
    }
}
