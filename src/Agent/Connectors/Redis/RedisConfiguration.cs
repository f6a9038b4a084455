using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Redis;

/// <summary>redis.conf with what it includes: a name and its values on each line; the last of a name counts.</summary>
internal sealed class RedisConfiguration
{
    private const int MostDepth = 10,
        MostFiles = 200;
    private static readonly WordRules Rules = new("Redis", CommentsAnywhere: false, Escapes: false);
    private readonly IFiles _files;
    private readonly List<WordLine> _lines = [];
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private int _readings;

    private RedisConfiguration(string path, IFiles files)
    {
        (Main, _files) = (Path.GetFullPath(path), files);
        Read(Main, 0);
    }

    public string Main { get; }

    /// <summary>All of it as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat => (_flat.ToString(), _origins);

    public static RedisConfiguration Load(string path, IFiles files) => new(path, files);

    public WordLine? Find(string name) => _lines.LastOrDefault(l => l.Name == name);

    public string? Value(string name) => Find(name)?.At(1);

    public int Number(string name, int otherwise) => int.TryParse(Value(name), out var n) ? n : otherwise;

    /// <summary>Where it listens: a hyphen in front means that an address need not be there.</summary>
    public IReadOnlyList<string> Addresses =>
        [.. (Find("bind")?.Words.Skip(1).Select(w => w.Value.TrimStart('-')) ?? ["*"]).Select(Listening.Reachable).Distinct()];

    private void Read(string path, int depth)
    {
        if (depth > MostDepth || _readings++ >= MostFiles)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} is included too deeply, or over {MostFiles} files are included.",
                "See whether a file includes itself."
            );
        var text = _files.Read(path);
        var byNumber = ConfigurationWords.Read(path, text, Rules).ToDictionary(l => l.Number);
        var number = 0;
        foreach (var raw in text.Split('\n'))
        {
            var line = byNumber.GetValueOrDefault(++number);
            if (line?.Name == "include" && line.At(1) is { } pattern)
            {
                foreach (var included in Included(pattern))
                    Read(included, depth + 1);
                continue;
            }
            _flat.Append(raw.TrimEnd('\r')).Append('\n');
            _origins.Add((path, number));
            if (line is not null)
                _lines.Add(line);
        }
    }

    private IReadOnlyList<string> Included(string pattern)
    {
        // As the server does: from where it was started, which services are from the root.
        var full = Path.GetFullPath(pattern, "/");
        return full.Contains('*') || full.Contains('?') ? _files.Matching(full) : [full];
    }
}
