using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Postfix;

/// <summary>One setting of main.cf with its place.</summary>
/// <param name="Value">Continuation lines joined by a blank.</param>
/// <param name="ValueStart">Index of the value's first character.</param>
/// <param name="ValueEnd">Index after its last.</param>
internal sealed record MainSetting(string Name, string Value, int ValueStart, int ValueEnd, int Line);

/// <summary>One service of master.cf.</summary>
/// <param name="Place">What it listens on: <c>smtp</c>, <c>587</c>, <c>127.0.0.1:2525</c>.</param>
/// <param name="Type"><c>inet</c>, <c>unix</c> …</param>
/// <param name="Overrides">Its <c>-o</c> options.</param>
/// <param name="End">Index behind the last of its lines.</param>
internal sealed record MasterService(
    string Place,
    string Type,
    string Command,
    IReadOnlyDictionary<string, string> Overrides,
    int Line,
    int End
);

/// <summary>Postfix's two files, taken apart (postconf(5), master(5)).</summary>
internal sealed class PostfixConfiguration
{
    private const int MostExpansions = 20;

    private PostfixConfiguration(string folder, IFiles files)
    {
        MainPath = Path.Combine(folder, "main.cf");
        MasterPath = Path.Combine(folder, "master.cf");
        MainText = files.Read(MainPath);
        MasterText = files.Read(MasterPath);
        Settings = ReadMain(MainText);
        Services = ReadMaster(MasterText);
    }

    public string MainPath { get; }
    public string MasterPath { get; }
    public string MainText { get; }
    public string MasterText { get; }
    public IReadOnlyList<MainSetting> Settings { get; }
    public IReadOnlyList<MasterService> Services { get; }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    public static PostfixConfiguration Load(string folder, IFiles files) => new(Path.GetFullPath(folder), files);

    /// <summary>The setting that counts: the last of its name.</summary>
    public MainSetting? Find(string name) => Settings.LastOrDefault(s => s.Name == name);

    /// <summary>A setting's value with what it refers to put in; null when it is not set.</summary>
    /// <param name="service">The service whose own options count first.</param>
    public string? Value(string name, MasterService? service = null) => Raw(name, service) is { } raw ? Expand(raw, service, 0) : null;

    private string? Raw(string name, MasterService? service) =>
        service is not null && service.Overrides.TryGetValue(name, out var own) ? own : Find(name)?.Value;

    private string Expand(string value, MasterService? service, int depth)
    {
        if (depth > MostExpansions || !value.Contains('$', StringComparison.Ordinal))
            return value;
        var result = new System.Text.StringBuilder();
        for (var i = 0; i < value.Length; i++)
        {
            if (value[i] != '$' || i + 1 == value.Length)
            {
                result.Append(value[i]);
                continue;
            }
            var bracket = value[i + 1] is '{' or '(';
            var start = bracket ? i + 2 : i + 1;
            var end = start;
            while (end < value.Length && (char.IsAsciiLetterOrDigit(value[end]) || value[end] == '_'))
                end++;
            if (end == start)
            {
                result.Append(value[i]);
                continue;
            }
            result.Append(Raw(value[start..end], service) is { } raw ? Expand(raw, service, depth + 1) : "");
            i = bracket && end < value.Length ? end : end - 1;
        }
        return result.ToString();
    }

    private List<MainSetting> ReadMain(string text)
    {
        var settings = new List<MainSetting>();
        foreach (var line in LogicalLines(text))
        {
            var equals = text.IndexOf('=', line.Start, line.End - line.Start);
            if (equals < 0)
                throw Broken(MainPath, line.Line, "a line is no setting: it has no equals sign");
            var name = text[line.Start..equals].Trim();
            var (start, end) = (equals + 1, line.End);
            while (start < end && (char.IsWhiteSpace(text[start]) || IsComment(text, start)))
                start = text[start] == '#' ? text.IndexOf('\n', start) : start + 1;
            while (end > start && char.IsWhiteSpace(text[end - 1]))
                end--;
            var value = string.Join(' ', text[start..end].Split('\n').Select(l => l.Trim()).Where(l => l is not ['#', ..]));
            settings.Add(new(name, value, start, end, line.Line));
        }
        return settings;
    }

    // A comment line may stand between a name and its value, and within a value.
    private static bool IsComment(string text, int at) =>
        text[at] == '#' && text[(text.LastIndexOf('\n', at) + 1)..at].Trim().Length == 0 && text.IndexOf('\n', at) > 0;

    private List<MasterService> ReadMaster(string text)
    {
        var services = new List<MasterService>();
        foreach (var line in LogicalLines(text))
        {
            var content = string.Join(' ', text[line.Start..line.End].Split('\n').Where(l => l.TrimStart() is not ['#', ..]));
            var words = Words(content, line.Line);
            if (words.Count < 8)
                throw Broken(MasterPath, line.Line, "a service has fewer than eight fields");
            services.Add(new(words[0], words[1], words[7], Overrides(words.Skip(8)), line.Line, line.End));
        }
        return services;
    }

    // -o name=value, and -o { name = value } (master(5)).
    private static Dictionary<string, string> Overrides(IEnumerable<string> arguments)
    {
        var found = new Dictionary<string, string>();
        var isOption = false;
        foreach (var a in arguments)
        {
            if (isOption && a.IndexOf('=') is > 0 and var equals)
                found[a[..equals].Trim()] = a[(equals + 1)..].Trim();
            isOption = a == "-o";
        }
        return found;
    }

    private List<string> Words(string content, int line)
    {
        var words = new List<string>();
        for (var i = 0; i < content.Length; )
        {
            if (char.IsWhiteSpace(content[i]))
            {
                i++;
                continue;
            }
            var brace = content[i] == '{';
            var end = brace ? content.IndexOf('}', i) : i;
            if (end < 0)
                throw Broken(MasterPath, line, "a brace is not closed");
            while (!brace && end < content.Length && !char.IsWhiteSpace(content[end]))
                end++;
            words.Add(brace ? content[(i + 1)..end].Trim() : content[i..end]);
            i = brace ? end + 1 : end;
        }
        return words;
    }

    /// <summary>A line that begins with a blank continues the one before; comments and empty lines stand between (postconf(5)).</summary>
    public static IEnumerable<(int Start, int End, int Line)> LogicalLines(string text)
    {
        (int Start, int End, int Line)? open = null;
        var (at, number) = (0, 0);
        while (at < text.Length)
        {
            number++;
            var next = text.IndexOf('\n', at);
            var end = next < 0 ? text.Length : next;
            var line = text[at..end];
            var isEmpty = string.IsNullOrWhiteSpace(line) || line.TrimStart() is ['#', ..];
            if (!isEmpty && char.IsWhiteSpace(line[0]) && open is { } before)
                open = (before.Start, end, before.Line);
            else if (!isEmpty)
            {
                if (open is { } complete)
                    yield return complete;
                open = (at, end, number);
            }
            at = end + 1;
        }
        if (open is { } last)
            yield return last;
    }

    private static BeaconProblem Broken(string path, int line, string why) =>
        new(ProblemCode.ConfigurationBroken, $"{path}, line {line}: {why}.", "Correct the file; postconf -n shows the same place.");
}
