using System.IO.Enumeration;
using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Dovecot;

/// <summary>One setting with its place, in the block that it stands in.</summary>
/// <param name="Block">Blocks around it, outermost first, as <c>service imap-login</c>.</param>
/// <param name="Reading">Which reading of the file this is: a file that several blocks include is read several times.</param>
internal sealed record DovecotSetting(
    IReadOnlyList<string> Block,
    string Name,
    string Value,
    string Path,
    int Line,
    int ValueStart,
    int ValueEnd,
    int Reading
);

/// <summary>Where a block ends, for what is put into it.</summary>
internal sealed record DovecotBlock(IReadOnlyList<string> Block, string Path, int Line, int BodyEnd);

/// <summary>Dovecot's configuration with all that it includes: <c>name = value</c>, blocks in braces, <c>!include</c> and <c>!include_try</c>.</summary>
internal sealed class DovecotConfiguration
{
    private const int MostFiles = 1000,
        MostDepth = 20;
    private readonly IFiles _files;
    private readonly List<DovecotSetting> _settings = [];
    private readonly List<DovecotBlock> _blocks = [];
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private int _readings;

    private DovecotConfiguration(string main, IFiles files)
    {
        Main = Path.GetFullPath(main);
        _files = files;
        Read(Main, [], 0);
    }

    public string Main { get; }
    public IReadOnlyList<DovecotSetting> Settings => _settings;
    public IReadOnlyList<DovecotBlock> Blocks => _blocks;

    /// <summary>All of it as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat => (_flat.ToString(), _origins);

    public static DovecotConfiguration Load(string main, IFiles files) => new(main, files);

    /// <summary>The setting that counts in a block: the last of its name.</summary>
    public DovecotSetting? Find(string name, params IReadOnlyList<string> block) =>
        _settings.LastOrDefault(s => s.Name == name && s.Block.SequenceEqual(block));

    public string? Value(string name, params IReadOnlyList<string> block) => Find(name, block)?.Value;

    private void Read(string path, IReadOnlyList<string> outer, int depth)
    {
        if (depth > MostDepth || _readings >= MostFiles)
            throw Broken(path, 1, $"it is included too deeply, or over {MostFiles} files are included");
        var (text, reading) = (_files.Read(path), _readings++);
        var block = new List<string>(outer);
        var (at, number) = (0, 0);
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next;
            var line = text[at..end];
            if (ReadInclude(path, line, block, depth, number) is false)
            {
                _flat.Append(line.TrimEnd('\r')).Append('\n');
                _origins.Add((path, number));
                ReadLine(path, text, at, end, block, outer.Count, number, reading);
            }
            at = end + 1;
        }
        if (block.Count > outer.Count)
            throw Broken(path, number, $"the block \"{block[^1]}\" is not closed before the end of the file");
    }

    private bool ReadInclude(string path, string line, List<string> block, int depth, int number)
    {
        var trimmed = line.Trim();
        if (!trimmed.StartsWith("!include", StringComparison.Ordinal))
            return false;
        var isOptional = trimmed.StartsWith("!include_try", StringComparison.Ordinal);
        var pattern = trimmed[(isOptional ? "!include_try" : "!include").Length..].Trim();
        var found = Resolve(Path.Combine(Path.GetDirectoryName(path)!, pattern));
        if (found.Count == 0 && !isOptional && !pattern.Contains('*'))
            throw Broken(path, number, $"the included file {pattern} is not there");
        foreach (var file in found)
            Read(file, block, depth + 1);
        return true;
    }

    private IReadOnlyList<string> Resolve(string pattern)
    {
        var full = Path.GetFullPath(pattern);
        var (folder, name) = (Path.GetDirectoryName(full)!, Path.GetFileName(full));
        if (!name.Contains('*') && !name.Contains('?'))
            return _files.Find(full) is null ? [] : [full];
        return
        [
            .. _files
                .FilesIn(folder)
                .Where(f =>
                    !Path.GetFileName(f).StartsWith('.') && FileSystemName.MatchesSimpleExpression(name, Path.GetFileName(f), false)
                )
                .Order(StringComparer.Ordinal),
        ];
    }

    private void ReadLine(string path, string text, int start, int end, List<string> block, int outer, int number, int reading)
    {
        var content = WithoutComment(text[start..end]);
        var trimmed = content.Trim();
        if (trimmed.Length == 0)
            return;
        if (trimmed == "}")
        {
            if (block.Count == outer)
                throw Broken(path, number, "there is a closing brace without its block");
            _blocks.Add(new([.. block], path, number, start + content.IndexOf('}')));
            block.RemoveAt(block.Count - 1);
            return;
        }
        if (trimmed.EndsWith('{'))
        {
            block.Add(string.Join(' ', trimmed[..^1].Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)));
            return;
        }
        var equals = content.IndexOf('=');
        if (equals < 0)
        {
            if (trimmed.Contains('{') || trimmed.Contains('}'))
                throw Broken(path, number, "a block is written in one line, which is not understood");
            throw Broken(path, number, "a line is neither a setting nor a block");
        }
        var name = content[..equals].Trim();
        var (from, to) = (start + equals + 1, start + content.TrimEnd().Length);
        while (from < to && char.IsWhiteSpace(text[from]))
            from++;
        _settings.Add(new([.. block], name, text[from..to], path, number, from, to, reading));
    }

    // A number sign begins a comment at a line's begin or behind a blank.
    private static string WithoutComment(string line)
    {
        for (var i = 0; i < line.Length; i++)
            if (line[i] == '#' && (i == 0 || char.IsWhiteSpace(line[i - 1])))
                return line[..i];
        return line.TrimEnd('\r');
    }

    private static BeaconProblem Broken(string path, int line, string why) =>
        new(ProblemCode.ConfigurationBroken, $"{path}, line {line}: {why}.", "Correct the file; doveconf -n shows the same place.");
}
