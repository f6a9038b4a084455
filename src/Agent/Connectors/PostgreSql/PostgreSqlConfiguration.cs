using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.PostgreSql;

/// <summary>One setting with its place. Names are in lower case, values without their quotes.</summary>
/// <param name="ValueStart">Index of the value's first character, its quote included.</param>
internal sealed record PostgreSqlSetting(string Name, string Value, string Path, int Line, int ValueStart, int ValueEnd);

/// <summary>
/// postgresql.conf with what it includes, and the file that ALTER SYSTEM writes, which outweighs it: <c>name = value</c>, <c>name value</c>, quotes, comments, includes.
/// </summary>
internal sealed class PostgreSqlConfiguration
{
    private const int MostDepth = 10,
        MostFiles = 1000;
    private readonly IFiles _files;
    private readonly List<PostgreSqlSetting> _settings = [];
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private int _readings;

    private PostgreSqlConfiguration(string main, IFiles files)
    {
        Main = Path.GetFullPath(main);
        _files = files;
        Read(Main, 0);
        var own = _settings.Count;
        DataFolder = Value("data_directory") ?? Path.GetDirectoryName(Main)!;
        AutomaticPath = Path.Combine(DataFolder, "postgresql.auto.conf");
        Flat = (_flat.ToString(), [.. _origins]);
        if (files.Find(AutomaticPath) is not null)
            Read(AutomaticPath, 0);
        Automatic = [.. _settings.Skip(own)];
    }

    public string Main { get; }
    public string DataFolder { get; }

    /// <summary>Written by ALTER SYSTEM, and by nobody else.</summary>
    public string AutomaticPath { get; }
    public IReadOnlyList<PostgreSqlSetting> Automatic { get; }

    /// <summary>postgresql.conf and its includes as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat { get; }

    public static PostgreSqlConfiguration Load(string main, IFiles files) => new(main, files);

    /// <summary>The setting that counts: the last of its name.</summary>
    public PostgreSqlSetting? Find(string name) => _settings.LastOrDefault(s => s.Name == name);

    public string? Value(string name) => Find(name)?.Value;

    public bool IsOn(string name) => Value(name)?.ToLowerInvariant() is "on" or "true" or "yes" or "1";

    private void Read(string path, int depth)
    {
        if (depth > MostDepth || _readings++ >= MostFiles)
            throw Broken(path, 1, $"it is included too deeply, or over {MostFiles} files are included");
        var text = _files.Read(path);
        var (at, number) = (0, 0);
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next;
            if (ReadLine(path, text, at, end, number) is { } setting)
            {
                if (!setting.Name.StartsWith("include", StringComparison.Ordinal))
                    _settings.Add(setting);
                else
                {
                    Include(setting, depth);
                    at = end + 1;
                    continue;
                }
            }
            _flat.Append(text, at, end - at).Append('\n');
            _origins.Add((path, number));
            at = end + 1;
        }
    }

    private void Include(PostgreSqlSetting include, int depth)
    {
        var target = Path.GetFullPath(Path.Combine(Path.GetDirectoryName(include.Path)!, include.Value));
        switch (include.Name)
        {
            case "include_dir":
                foreach (var f in _files.FilesIn(target).Where(IsIncluded).Order(StringComparer.Ordinal))
                    Read(f, depth + 1);
                break;
            case "include_if_exists" when _files.Find(target) is null:
                break;
            case "include" or "include_if_exists":
                Read(target, depth + 1);
                break;
            default:
                throw Broken(include.Path, include.Line, $"\"{include.Name}\" is not known");
        }
    }

    private static bool IsIncluded(string path) =>
        Path.GetFileName(path) is var name && name.EndsWith(".conf", StringComparison.Ordinal) && !name.StartsWith('.');

    private static PostgreSqlSetting? ReadLine(string path, string text, int start, int end, int number)
    {
        var at = start;
        Skip();
        if (at >= end || text[at] == '#')
            return null;
        var from = at;
        while (at < end && (char.IsAsciiLetterOrDigit(text[at]) || text[at] is '_' or '.'))
            at++;
        var name = text[from..at].ToLowerInvariant();
        Skip();
        if (at < end && text[at] == '=')
        {
            at++;
            Skip();
        }
        if (name.Length == 0 || at >= end)
            throw Broken(path, number, "a line is no setting");
        var valueStart = at;
        var value = new StringBuilder();
        if (text[at] == '\'')
        {
            // Quotes are doubled or escaped inside.
            for (at++; ; at++)
            {
                if (at >= end)
                    throw Broken(path, number, "a quote is not closed");
                if (text[at] == '\'' && at + 1 < end && text[at + 1] == '\'' || (text[at] == '\\' && at + 1 < end))
                    at++;
                else if (text[at] == '\'')
                    break;
                value.Append(text[at]);
            }
            at++;
        }
        else
            for (; at < end && !char.IsWhiteSpace(text[at]) && text[at] != '#'; at++)
                value.Append(text[at]);
        return new(name, value.ToString(), path, number, valueStart, at);

        void Skip()
        {
            while (at < end && char.IsWhiteSpace(text[at]))
                at++;
        }
    }

    private static BeaconProblem Broken(string path, int line, string why) =>
        new(ProblemCode.ConfigurationBroken, $"{path}, line {line}: {why}.", "Correct the file; postgres -C ssl shows the same place.");
}
