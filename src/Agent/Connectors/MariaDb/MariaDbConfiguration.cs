using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.MariaDb;

/// <summary>A setting of the server with its place. Names have underscores, values no quotes.</summary>
/// <param name="ValueStart">Index of the value's first character, its quote included; where the line ends when it has none.</param>
internal sealed record MariaDbSetting(string Name, string? Value, string Path, int Line, int ValueStart, int ValueEnd)
{
    public string Place => $"{Path}:{Line}";
}

/// <summary>my.cnf with what it includes: groups in brackets, <c>name = value</c> with hyphens or underscores, <c>!include</c> and <c>!includedir</c>. The last of a name counts.</summary>
internal sealed class MariaDbConfiguration
{
    private const int MostDepth = 10,
        MostFiles = 1000;

    /// <summary>Groups that the server reads; some have its version behind them.</summary>
    private static readonly string[] ServerGroups = ["mysqld", "mariadbd", "mariadb", "server", "mysqld_safe", "galera"];

    private readonly IFiles _files;
    private readonly List<MariaDbSetting> _settings = [];
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private int _readings;

    private MariaDbConfiguration(string path, IFiles files)
    {
        (Main, _files) = (Path.GetFullPath(path), files);
        Read(Main, 0);
    }

    public string Main { get; }

    /// <summary>The file and the place in it behind the last line of a server's group; null when there is no such group.</summary>
    public (string Path, int At)? GroupEnd { get; private set; }

    /// <summary>All of it as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat => (_flat.ToString(), _origins);

    public static MariaDbConfiguration Load(string path, IFiles files) => new(path, files);

    public MariaDbSetting? Find(string name) => _settings.LastOrDefault(s => s.Name == name);

    public string? Value(string name) => Find(name)?.Value;

    public bool IsOn(string name) => Find(name) is { } s && s.Value?.ToLowerInvariant() is null or "on" or "1" or "true" or "yes";

    public string DataFolder => Value("datadir") ?? "/var/lib/mysql";

    private void Read(string path, int depth)
    {
        if (depth > MostDepth || _readings++ >= MostFiles)
            throw Broken(path, 1, $"it is included too deeply, or over {MostFiles} files are included");
        var text = _files.Read(path);
        var (at, number) = (0, 0);
        var isServers = false;
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next;
            var line = text[at..end].Trim();
            if (line.StartsWith("!include", StringComparison.Ordinal))
                Include(path, line, depth);
            else
            {
                _flat.Append(text[at..end].TrimEnd('\r')).Append('\n');
                _origins.Add((path, number));
                if (line.StartsWith('['))
                    isServers = IsServers(path, line, number);
                else if (line.Length > 0 && line[0] is not ('#' or ';') && isServers)
                    _settings.Add(Setting(path, text, at, end, number));
                if (isServers && line.Length > 0)
                    GroupEnd = (path, Math.Min(end + 1, text.Length));
            }
            at = end + 1;
        }
    }

    private void Include(string path, string line, int depth)
    {
        var words = line.Split((char[]?)null, 2, StringSplitOptions.RemoveEmptyEntries);
        if (words.Length < 2)
            return;
        if (words[0] == "!includedir")
            foreach (
                var file in _files
                    .FilesIn(words[1].TrimEnd('/'))
                    .Where(f => f.EndsWith(".cnf", StringComparison.Ordinal))
                    .Order(StringComparer.Ordinal)
            )
                Read(file, depth + 1);
        else
            Read(Path.GetFullPath(words[1], Path.GetDirectoryName(path)!), depth + 1);
    }

    private static bool IsServers(string path, string line, int number)
    {
        var close = line.IndexOf(']');
        if (close < 0)
            throw Broken(path, number, "a group's name is not closed by a bracket");
        var name = line[1..close].Trim();
        return ServerGroups.Any(g => name == g || name.StartsWith(g + "-", StringComparison.Ordinal));
    }

    private static MariaDbSetting Setting(string path, string text, int at, int end, int number)
    {
        var line = text[at..end];
        var equals = line.IndexOf('=');
        var name = Normal(equals < 0 ? WithoutComment(line) : line[..equals]);
        if (equals < 0)
            return new(name, null, path, number, at + WithoutComment(line).TrimEnd().Length, at + WithoutComment(line).TrimEnd().Length);
        var start = at + equals + 1;
        while (start < end && char.IsWhiteSpace(text[start]))
            start++;
        var value = text[start..end].TrimEnd('\r');
        var quote = value.Length > 0 && value[0] is '"' or '\'' ? value.IndexOf(value[0], 1) : -1;
        value = quote > 0 ? value[..(quote + 1)] : WithoutComment(value).TrimEnd();
        var plain = quote > 0 ? value[1..^1] : value;
        return new(name, plain, path, number, start, start + value.Length);
    }

    /// <summary>A name as all spellings of it: with underscores, without what lets a server pass over it.</summary>
    public static string Normal(string name)
    {
        var n = name.Trim().Replace('-', '_').TrimStart('_').ToLowerInvariant();
        return n.StartsWith("loose_", StringComparison.Ordinal) ? n["loose_".Length..] : n;
    }

    private static string WithoutComment(string text)
    {
        var at = text.IndexOf('#');
        return at < 0 ? text : text[..at];
    }

    private static BeaconProblem Broken(string path, int line, string why) =>
        new(ProblemCode.ConfigurationBroken, $"{path}, line {line}: {why}.", "Correct the file; mariadbd --verbose --help names the same.");
}
