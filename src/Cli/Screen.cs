using System.Text;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using Spectre.Console;
using Spectre.Console.Rendering;
using static OrderlyBeacon.Cli.Ink;

namespace OrderlyBeacon.Cli;

/// <summary>What the client's output is made of: the same shapes and words for states everywhere, colour only as a third sign. Texts wrap as the terminal library's paragraphs.</summary>
internal static class Screen
{
    private const int Narrowest = 20,
        Unbounded = 1_000_000;
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
        // A pipe has no width: what is read there by programs is never wrapped.
        if (IsPiped)
            c.Profile.Width = Unbounded;
        else if (int.TryParse(Environment.GetEnvironmentVariable("COLUMNS"), out var columns) && columns is >= Narrowest and <= 1000)
            c.Profile.Width = columns;
        return c;
    }

    public static int Width => Out.Profile.Width;

    /// <summary>Whether the output goes to a program or a file.</summary>
    public static bool IsPiped => Console.IsOutputRedirected;

    public static void Json(string json)
    {
        using var document = JsonDocument.Parse(json);
        Console.Out.WriteLine(JsonSerializer.Serialize(document.RootElement, CliJson.Default.JsonElement));
    }

    /// <summary>Lines of segments as they are: they were wrapped before, or shall not be.</summary>
    private sealed class Ready(IEnumerable<SegmentLine> lines) : IRenderable
    {
        public Measurement Measure(RenderOptions options, int maxWidth) => new(0, maxWidth);

        public IEnumerable<Segment> Render(RenderOptions options, int maxWidth)
        {
            foreach (var line in lines)
            {
                foreach (var segment in Trimmed(line))
                    yield return segment;
                yield return Segment.LineBreak;
            }
        }

        private static IEnumerable<Segment> Trimmed(SegmentLine line)
        {
            var last = line.FindLastIndex(s => s.Text.Trim(' ').Length > 0);
            for (var i = 0; i <= last; i++)
                yield return i < last ? line[i] : new Segment(line[i].Text.TrimEnd(' '), line[i].Style);
        }
    }

    private static void Write(IEnumerable<SegmentLine> lines) => Out.Write(new Ready(lines));

    private static Paragraph ParagraphOf(Ink ink)
    {
        var p = new Paragraph();
        foreach (var (text, style) in ink.Parts)
            p.Append(text, style);
        return p;
    }

    /// <summary>Wrapped to a width: at blanks, and inside of what is longer than a line.</summary>
    private static List<SegmentLine> Wrapped(Ink ink, int width) =>
        [
            .. ink.Lines()
                .SelectMany(l =>
                    l.IsEmpty
                        ? [new SegmentLine()]
                        : Segment.SplitLines(((IRenderable)ParagraphOf(l)).Render(RenderOptions.Create(Out), Math.Max(1, width)))
                ),
        ];

    private static SegmentLine OneLine(Ink ink)
    {
        var line = new SegmentLine();
        line.AddRange(ink.Parts.Where(p => p.Text.Length > 0).Select(p => new Segment(p.Text, p.Style ?? Style.Plain)));
        return line;
    }

    private static int Length(Ink ink) => ink.Parts.Sum(p => Cells(p.Text));

    private static int Cells(string text) => new Segment(text).CellCount();

    public static void Line(Ink? ink = null) => Hanging("", 0, ink ?? "");

    public static void Rich(Ink ink) => Hanging("", 0, ink);

    /// <summary>Where a state has a shape, its colour and its word.</summary>
    public static Ink Mark(Severity s) =>
        s switch
        {
            Severity.Fine => Green("○") + " fine",
            Severity.Soon => Yellow("◐") + " soon",
            Severity.Now => Orange("◆") + " now",
            _ => Red("✕") + " failed",
        };

    /// <summary>The shape alone, where another word stands beside it.</summary>
    public static Ink Shape(Severity s) =>
        s switch
        {
            Severity.Fine => Green("○"),
            Severity.Soon => Yellow("◐"),
            Severity.Now => Orange("◆"),
            _ => Red("✕"),
        };

    public static Ink Mark(Verdict v) =>
        v switch
        {
            Verdict.Granted => Green("○") + " granted",
            Verdict.NeedsApproval => Yellow("◐") + " needs approval",
            _ => Red("✕") + " refused",
        };

    /// <summary>An absolute date with the distance beside it; in a pipe one that can be sorted (RFC 3339).</summary>
    public static string When(DateTimeOffset? at)
    {
        if (at is not { } t)
            return "–";
        if (IsPiped)
            return t.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", System.Globalization.CultureInfo.InvariantCulture);
        var left = t - DateTimeOffset.UtcNow;
        return Math.Abs(left.TotalDays) < 1.5
            ? $"{t.UtcDateTime:d MMM HH:mm} · {Distance(left)}"
            : $"{t.UtcDateTime:d MMM yyyy} · {Distance(left)}";
    }

    public static string Distance(TimeSpan left)
    {
        var (a, before, after) = (left.Duration(), left < TimeSpan.Zero ? "" : "in ", left < TimeSpan.Zero ? " ago" : "");
        if (a.TotalSeconds < 5)
            return left < TimeSpan.Zero ? "just now" : "now";
        var text = a switch
        {
            { TotalDays: >= 730 } => $"{Math.Round(a.TotalDays / 365.25)} years",
            { TotalDays: >= 1.5 } => $"{Math.Round(a.TotalDays)} days",
            { TotalHours: >= 1.5 } => $"{Math.Round(a.TotalHours)} hours",
            { TotalMinutes: >= 1.5 } => $"{Math.Round(a.TotalMinutes)} minutes",
            _ => $"{Math.Round(a.TotalSeconds)} seconds",
        };
        return before + text + after;
    }

    /// <summary>A life as a bar: filled as far as it is used, a notch where the renewal is planned. In a pipe how much of it is used.</summary>
    public static string LifeBar(DateTimeOffset from, DateTimeOffset to, DateTimeOffset? planned, int cells = 12)
    {
        var life = Math.Max(1, (to - from).TotalSeconds);
        var used = Math.Clamp((DateTimeOffset.UtcNow - from).TotalSeconds / life, 0, 1);
        if (IsPiped)
            return $"{used * 100:0}%";
        var notch = planned is { } p ? (int)Math.Clamp((p - from).TotalSeconds / life * cells, 0, cells - 1) : -1;
        var text = new StringBuilder();
        for (var i = 0; i < cells; i++)
        {
            var cell = i < used * cells ? '━' : '·';
            text.Append(i == notch ? '┃' : cell);
        }
        return text.ToString();
    }

    /// <summary>
    /// A table. In a pipe: a row a line, cells apart by tabs, without heads, for <c>grep</c>, <c>cut</c> and <c>sort</c>. On a terminal names are never cut: where the lines do not fit, the last column wraps, and where that is not enough, each row becomes a few lines with the heads as
    /// labels.
    /// </summary>
    /// <param name="empty">What is said when there is no row; see <see cref="Nothing"/>.</param>
    public static void Table(string[] heads, IEnumerable<Ink[]> rows, string empty)
    {
        var all = rows.Select(r => r.Select(c => c.Lines()).ToArray()).ToList();
        if (all.Count == 0)
        {
            if (IsPiped)
                Console.Error.WriteLine(Visible(empty));
            else
                Line(empty);
            return;
        }
        if (IsPiped)
        {
            foreach (var r in all)
                Console.Out.WriteLine(string.Join('\t', r.Select(c => string.Join(' ', c).Replace('\t', ' ').Trim())));
            return;
        }
        var widths = heads.Select((h, i) => Math.Max(h.Length, all.Max(r => r[i].Max(Length)))).ToArray();
        var before = widths[..^1].Sum() + 2 * (widths.Length - 1);
        var room = Width - 1 - before;
        if (room < Math.Min(widths[^1], 24))
        {
            foreach (var r in all)
                Record(heads, r);
            return;
        }
        WriteRow([.. heads.Select(h => (IReadOnlyList<Ink>)[Bold(h)])], widths, room);
        foreach (var r in all)
            WriteRow(r, widths, room);
    }

    /// <summary>What an empty list says: that nothing matches what was looked for, else what there could be.</summary>
    public static string Nothing(string? search, string otherwise) =>
        string.IsNullOrWhiteSpace(search) ? otherwise : $"Nothing matches \"{search}\".";

    private static void WriteRow(IReadOnlyList<Ink>[] cells, int[] widths, int room)
    {
        var columns = cells
            .Select((c, i) => i < cells.Length - 1 ? c.Select(OneLine).ToList() : c.SelectMany(l => Wrapped(l, room)).ToList())
            .ToList();
        var lines = new List<SegmentLine>();
        for (var n = 0; n < columns.Max(c => c.Count); n++)
        {
            var line = new SegmentLine();
            for (var i = 0; i < columns.Count; i++)
            {
                SegmentLine cell = n < columns[i].Count ? columns[i][n] : [];
                line.AddRange(cell);
                if (i < columns.Count - 1)
                    line.Add(Segment.Padding(widths[i] - cell.CellCount() + 2));
            }
            lines.Add(line);
        }
        Write(lines);
    }

    private static void Record(string[] heads, IReadOnlyList<Ink>[] row)
    {
        Hanging("", 0, Joined(row.Take(2).Select(c => c[0])));
        var rest = row.Skip(2).Select((c, i) => (Head: heads[i + 2], Text: Joined(c))).Where(x => !x.Text.IsEmpty);
        Hanging("    ", 4, Joined(rest.Select(x => x.Head.Length == 0 ? x.Text : Grey(x.Head.ToLowerInvariant() + " ") + x.Text)));
    }

    private static Ink Joined(IEnumerable<Ink> parts) => parts.Aggregate((Ink?)null, (all, p) => all is null ? p : all + "  " + p) ?? "";

    /// <summary>A command to be copied: where it does not fit, its lines are continued as shells take it.</summary>
    public static void Command(int indent, string command)
    {
        var lines = Wrapped(command, Math.Max(Narrowest, Width - indent - 6));
        for (var i = 0; i < lines.Count; i++)
        {
            var text = string.Concat(lines[i].Select(s => s.Text)).TrimEnd();
            Write([OneLine(new string(' ', indent + (i > 0 ? 4 : 0)) + Cyan(text) + (i < lines.Count - 1 ? " \\" : ""))]);
        }
    }

    /// <summary>Names and values, one pair a line; a pair without a value is left out.</summary>
    public static void Pairs(params (string Name, Ink? Value)[] pairs)
    {
        var shown = pairs.Where(p => p.Value is not null).ToList();
        var width = shown.Select(p => p.Name.Length).DefaultIfEmpty().Max();
        // Where too little room is left beside the names, the values stand below them.
        var below = Width - width - 3 < Narrowest + 4;
        foreach (var (name, value) in shown)
            if (below)
                Hanging("", 4, Grey(name) + "\n" + value!);
            else
                Hanging(Grey(name.PadRight(width) + "  "), width + 2, value!);
    }

    /// <summary>Text that wraps under itself.</summary>
    /// <param name="head">What stands before the first line.</param>
    /// <param name="indent">Where the further lines begin.</param>
    public static void Hanging(Ink head, int indent, Ink body)
    {
        var wrapped = Wrapped(body, Math.Max(Narrowest, Width - indent - 1));
        var lines = new List<SegmentLine>();
        for (var i = 0; i < wrapped.Count; i++)
        {
            var line = OneLine(i == 0 ? head : new string(' ', indent));
            line.AddRange(wrapped[i]);
            lines.Add(line);
        }
        Write(lines);
    }

    /// <summary>A diff is never wrapped: it is for reading line by line, and for tools.</summary>
    public static void Diff(string diff) =>
        Write(
            diff.TrimEnd('\n')
                .Split('\n')
                .Select(l =>
                    OneLine(
                        l switch
                        {
                            ['+', ..] => Green(l),
                            ['-', ..] => Red(l),
                            ['@', ..] => Grey(l),
                            _ => l,
                        }
                    )
                )
        );

    public static void Problem(BeaconProblem p)
    {
        Console.Error.WriteLine("beacon: " + Visible(p.Message));
        Console.Error.WriteLine("        " + Visible(p.Cure));
    }
}
