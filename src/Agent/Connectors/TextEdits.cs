namespace OrderlyBeacon.Agent.Connectors;

/// <summary>A stretch of a file's text that is replaced; everything around it stays as it is.</summary>
internal sealed record TextEdit(string Path, int Start, int End, string Replacement);

internal static class TextEdits
{
    /// <summary>Lines at a file's end, ended as the others are.</summary>
    public static TextEdit Append(IFiles files, string path, IEnumerable<string> lines)
    {
        var text = files.Read(path);
        var newLine = ByteText.NewLineOf(text);
        var lead = text.Length == 0 || text[^1] == '\n' ? "" : newLine;
        return new(path, text.Length, text.Length, lead + string.Concat(lines.Select(l => l + newLine)));
    }

    /// <summary>The edits of each file as one.</summary>
    /// <param name="textOf">A file's text before.</param>
    public static List<FileEdit> Apply(IEnumerable<TextEdit> edits, Func<string, string> textOf)
    {
        var result = new List<FileEdit>();
        foreach (var file in edits.Distinct().GroupBy(e => e.Path))
        {
            var before = textOf(file.Key);
            var after = before;
            // From the end, so that places before stay what they are; what is put at one place keeps its order.
            foreach (var e in file.Reverse().OrderByDescending(e => e.Start))
                after = after[..e.Start] + e.Replacement + after[e.End..];
            result.Add(new(file.Key, before, after));
        }
        return result;
    }
}
