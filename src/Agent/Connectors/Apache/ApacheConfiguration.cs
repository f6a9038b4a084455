using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Apache;

/// <summary>A directive that counts.</summary>
/// <param name="Reading">Which reading of its file this is: a file that several virtual hosts include is read several times.</param>
internal sealed record ApacheDirective(WordLine Line, int Reading)
{
    /// <summary>The first of its values.</summary>
    public string Value => Line.At(1) ?? "";

    public Word ValueWord => Line.Words[1];
}

/// <summary>A VirtualHost block.</summary>
/// <param name="opening">The line that opens it.</param>
internal sealed class ApacheHost(WordLine opening)
{
    public WordLine Opening => opening;

    /// <summary>Index in its file where the line that closes it begins.</summary>
    public int BodyEnd { get; set; }

    /// <summary>Index in its file behind the line that closes it.</summary>
    public int BlockEnd { get; set; }

    /// <summary>What stands in it, by name.</summary>
    public Dictionary<string, List<ApacheDirective>> Directives { get; } = [];
}

/// <summary>
/// Apache's configuration with what it includes: directives, sections in angle brackets, conditions on modules and definitions, and variables. Directives in sections for a part
/// of the addresses (Directory, Location …) are passed over.
/// </summary>
internal sealed class ApacheConfiguration
{
    private const int MostDepth = 20,
        MostFiles = 2000;

    private static readonly WordRules Rules = new("Apache", CommentsAnywhere: false, Escapes: false) { QuotesBeginWords = true };

    /// <summary>Modules that every Apache of Debian is built with.</summary>
    private static readonly string[] BuiltIn =
    [
        "core.c",
        "mod_so.c",
        "http_core.c",
        "mod_watchdog.c",
        "mod_log_config.c",
        "mod_logio.c",
        "mod_version.c",
        "mod_unixd.c",
    ];

    private readonly IFiles _files;
    private readonly List<ApacheDirective> _directives = [];
    private readonly Dictionary<string, List<ApacheDirective>> _server = [];
    private readonly List<ApacheHost> _hosts = [];
    private readonly HashSet<string> _modules = [];
    private readonly Dictionary<string, string> _variables;
    private readonly StringBuilder _flat = new();
    private readonly List<(string, int)> _origins = [];
    private readonly Stack<Section> _open = new();
    private int _readings;

    private sealed record Section(string Name, WordLine Line, bool IsActive, ApacheHost? Host);

    private ApacheConfiguration(string path, IFiles files)
    {
        (Main, _files) = (Path.GetFullPath(path), files);
        _variables = Variables();
        Read(Main, 0);
        if (_open.TryPeek(out var left))
            throw Broken(left.Line.Path, left.Line.Number, $"the section {left.Name} is not closed");
    }

    public string Main { get; }
    public IReadOnlyList<ApacheHost> Hosts => _hosts;
    public bool HasTlsModule => HasModule("mod_ssl.c");

    /// <param name="file">By its source's name: <c>mod_rewrite.c</c>.</param>
    public bool HasModule(string file) => _modules.Contains(file);

    /// <summary>All of it as one text, and the file and line that each of its lines came from.</summary>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flat => (_flat.ToString(), _origins);

    public static ApacheConfiguration Load(string path, IFiles files) => new(path, files);

    /// <summary>Directives of a name that stand in a virtual host itself, or in the server.</summary>
    public IReadOnlyList<ApacheDirective> All(string name, ApacheHost? host) => (host?.Directives ?? _server).GetValueOrDefault(name, []);

    public ApacheDirective? Find(string name, ApacheHost? host) => All(name, host).LastOrDefault();

    /// <summary>Whether another virtual host reads the same line.</summary>
    public bool IsShared(ApacheDirective d) =>
        _directives.Any(o => o.Line.Path == d.Line.Path && o.Line.Number == d.Line.Number && o.Reading != d.Reading);

    public string ServerRoot => Find("serverroot", null) is { } d ? Filled(d.Value) : Path.GetDirectoryName(Main)!;

    public string Full(string path) => Path.GetFullPath(Filled(path), ServerRoot);

    /// <summary>What a value is with its variables; those that are not known stay.</summary>
    public string Filled(string value)
    {
        if (!value.Contains("${", StringComparison.Ordinal))
            return value;
        var text = new StringBuilder(value);
        foreach (var (name, content) in _variables)
            text.Replace("${" + name + "}", content);
        return text.ToString();
    }

    /// <summary>What the script that starts it exports, as Debian's envvars does.</summary>
    private Dictionary<string, string> Variables()
    {
        const string Export = "export ";
        var variables = new Dictionary<string, string>();
        foreach (var line in (_files.Find(Path.Combine(Path.GetDirectoryName(Main)!, "envvars")) ?? "").Split('\n'))
            if (line.Trim() is var t && t.StartsWith(Export, StringComparison.Ordinal) && t.Split('=', 2) is [var left, var right])
                variables[left[Export.Length..].Trim()] = right.Trim('"', '\'').Replace("$SUFFIX", "", StringComparison.Ordinal);
        return variables;
    }

    private bool IsActive => _open.All(s => s.IsActive);

    private void Read(string path, int depth)
    {
        if (depth > MostDepth || _readings++ >= MostFiles)
            throw Broken(path, 1, $"it is included too deeply, or over {MostFiles} files are included");
        var (text, reading) = (_files.Read(path), _readings);
        var byNumber = ConfigurationWords.Read(path, text, Rules).ToDictionary(l => l.Number);
        var (at, number, isContinued) = (0, 0, false);
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next + 1;
            var raw = text[at..end].TrimEnd('\n', '\r');
            var line = isContinued ? null : byNumber.GetValueOrDefault(number);
            isContinued = raw.EndsWith('\\');
            if (line is null || !ReadInclude(line, depth))
            {
                _flat.Append(raw).Append('\n');
                _origins.Add((path, number));
                if (line is not null)
                    ReadLine(line, reading, at, end);
            }
            at = end;
        }
    }

    private bool ReadInclude(WordLine line, int depth)
    {
        if (line.Name is not ("include" or "includeoptional") || line.At(1) is not { } pattern || !IsActive)
            return false;
        var found = Resolve(Full(pattern));
        if (found.Count == 0 && line.Name == "include" && !pattern.Contains('*'))
            throw Broken(line.Path, line.Number, $"the included {pattern} is not there");
        foreach (var file in found)
            Read(file, depth + 1);
        return true;
    }

    private IReadOnlyList<string> Resolve(string pattern)
    {
        if (_files.Find(pattern) is not null)
            return [pattern];
        // A folder means all its files.
        return _files.Matching(pattern.Contains('*') || pattern.Contains('?') ? pattern : Path.Combine(pattern, "*"));
    }

    private void ReadLine(WordLine line, int reading, int start, int end)
    {
        if (line.Name.StartsWith("</", StringComparison.Ordinal))
            Close(line, start, end);
        else if (line.Name.StartsWith('<'))
            Open(line);
        else if (IsActive)
            Take(line, reading);
    }

    private void Open(WordLine line)
    {
        var name = line.Name.TrimStart('<').TrimEnd('>');
        var condition = (line.At(1) ?? "").TrimEnd('>');
        ApacheHost? host = null;
        if (name == "virtualhost" && IsActive)
            _hosts.Add(host = new(line));
        _open.Push(
            new(
                name,
                line,
                name switch
                {
                    "ifmodule" => IsTrue(condition, IsLoaded),
                    "ifdefine" => IsTrue(condition, _variables.ContainsKey),
                    "virtualhost" or "ifversion" or "iffile" or "ifdirective" or "ifsection" => true,
                    // For a part of what a host serves.
                    _ => false,
                },
                host
            )
        );
    }

    private static bool IsTrue(string condition, Func<string, bool> holds) =>
        condition.StartsWith('!') ? !holds(condition[1..]) : holds(condition);

    private bool IsLoaded(string module) =>
        BuiltIn.Contains(module)
        || _modules.Contains(module.EndsWith("_module", StringComparison.Ordinal) ? $"mod_{module[..^"_module".Length]}.c" : module);

    private void Close(WordLine line, int start, int end)
    {
        var name = line.Name.Trim('<', '/', '>');
        if (!_open.TryPop(out var section) || section.Name != name)
            throw Broken(line.Path, line.Number, $"{line.Words[0].Value} closes what is not open");
        if (section.Host is { } host)
            (host.BodyEnd, host.BlockEnd) =
                section.Line.Path == line.Path ? (start, end) : throw Broken(line.Path, line.Number, "a virtual host ends in another file");
    }

    private void Take(WordLine line, int reading)
    {
        if (line.Name == "loadmodule" && line.At(1) is { } module)
            _modules.Add($"mod_{module.Replace("_module", "", StringComparison.Ordinal)}.c");
        if (line.Name == "define" && line.At(1) is { } defined)
            _variables[defined] = Filled(line.At(2) ?? "");
        if (line.Words.Count < 2)
            return;
        var host = _open.Select(o => o.Host).FirstOrDefault(h => h is not null);
        var directive = new ApacheDirective(line, reading);
        _directives.Add(directive);
        var place = host?.Directives ?? _server;
        (place.TryGetValue(line.Name, out var list) ? list : place[line.Name] = []).Add(directive);
    }

    private static BeaconProblem Broken(string path, int line, string why) =>
        new(ProblemCode.ConfigurationBroken, $"{path}, line {line}: {why}.", "Correct the file; apache2ctl -t names the same place.");
}
