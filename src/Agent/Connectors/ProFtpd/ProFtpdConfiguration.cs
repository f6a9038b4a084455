using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.ProFtpd;

/// <summary>
/// proftpd.conf with what it includes. Directives of the server itself count, and those in conditions on modules that are loaded; those in sections for a virtual host, a folder
/// or a user's kind are passed over.
/// </summary>
internal sealed class ProFtpdConfiguration
{
    private const int MostDepth = 10,
        MostFiles = 500;

    private static readonly WordRules Rules = new("ProFTPD", CommentsAnywhere: false, Escapes: false) { QuotesBeginWords = true };

    private readonly IFiles _files;
    private readonly List<WordLine> _lines = [];
    private readonly HashSet<string> _modules = [];
    private readonly Stack<(WordLine Line, string Name, bool IsActive)> _open = new();
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private int _readings;

    private ProFtpdConfiguration(string path, IFiles files)
    {
        (Main, _files) = (Path.GetFullPath(path), files);
        Read(Main, 0);
        if (_open.TryPeek(out var left))
            throw Broken(left.Line, $"the section {left.Name} is not closed");
    }

    public string Main { get; }
    public bool HasTlsModule => _modules.Contains("mod_tls.c");

    /// <summary>The first virtual host that has TLS settings of its own; null when there is none.</summary>
    public WordLine? TlsOfVirtualHost { get; private set; }

    /// <summary>All of it as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat => (_flat.ToString(), _origins);

    public static ProFtpdConfiguration Load(string path, IFiles files) => new(path, files);

    public WordLine? Find(string name) => _lines.LastOrDefault(l => l.Name == name && l.Words.Count > 1);

    public string? Value(string name) => Find(name)?.At(1);

    public bool IsOn(string name) => Value(name)?.ToLowerInvariant() is "on" or "true" or "yes" or "1";

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
            if (line?.Name == "include" && line.At(1) is { } pattern && IsActive)
            {
                foreach (var included in Included(pattern))
                    Read(included, depth + 1);
                continue;
            }
            _flat.Append(raw.TrimEnd('\r')).Append('\n');
            _origins.Add((path, number));
            if (line is not null)
                Take(line);
        }
    }

    private IReadOnlyList<string> Included(string pattern)
    {
        if (pattern.Contains('*') || pattern.Contains('?'))
            return _files.Matching(pattern);
        var inside = _files.Matching(Path.Combine(pattern, "*"));
        return inside.Count > 0 ? inside : [pattern];
    }

    private bool IsActive => _open.All(s => s.IsActive);

    private void Take(WordLine line)
    {
        if (line.Name.StartsWith("</", StringComparison.Ordinal))
            Close(line);
        else if (line.Name.StartsWith('<'))
            Open(line);
        else if (IsActive)
        {
            _lines.Add(line);
            if (line.Name == "loadmodule" && line.At(1) is { } module)
                _modules.Add(module);
        }
        else if (line.Name.StartsWith("tls", StringComparison.Ordinal) && _open.Any(s => s.Name == "virtualhost"))
            TlsOfVirtualHost ??= line;
    }

    private void Open(WordLine line)
    {
        var name = line.Name.TrimStart('<').TrimEnd('>');
        var condition = (line.At(1) ?? "").TrimEnd('>');
        var isActive = name switch
        {
            // Modules that it was built with cannot be told apart from those that are missing: only that for TLS concerns us.
            "ifmodule" => condition.TrimStart('!') != "mod_tls.c" || condition.StartsWith('!') != HasTlsModule,
            "global" => true,
            _ => false,
        };
        _open.Push((line, name, isActive));
    }

    private void Close(WordLine line)
    {
        if (!_open.TryPop(out var section) || section.Name != line.Name.Trim('<', '/', '>'))
            throw Broken(line, $"{line.Words[0].Value} closes what is not open");
    }

    private static BeaconProblem Broken(WordLine line, string why) =>
        new(
            ProblemCode.ConfigurationBroken,
            $"{line.Path}, line {line.Number}: {why}.",
            "Correct the file; proftpd -t names the same place."
        );
}
