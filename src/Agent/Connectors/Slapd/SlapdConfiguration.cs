using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Slapd;

/// <summary>A value of an attribute of <c>cn=config</c>, and where it stands in the text.</summary>
internal sealed record SlapdValue(string Name, string Value, int Start, int End, int Line);

/// <summary>
/// The entry <c>cn=config</c> of a slapd, which keeps its configuration in itself and writes it through to a file. As text: one line a value, by name, without what the server
/// notes of changes; so that it is the same text again when a setting is put back.
/// </summary>
internal sealed class SlapdConfiguration
{
    /// <summary>What is no setting: the entry's name and kind, and what changes with every change.</summary>
    private static readonly string[] NoSettings =
    [
        "dn",
        "cn",
        "objectclass",
        "structuralobjectclass",
        "entryuuid",
        "creatorsname",
        "createtimestamp",
        "entrycsn",
        "modifiersname",
        "modifytimestamp",
        "contextcsn",
    ];

    private SlapdConfiguration(string folder, IFiles files)
    {
        Main = MainOf(folder);
        Text = files.Read(Main);
        var values = new List<SlapdValue>();
        var (at, number) = (0, 0);
        foreach (var line in Text.Split('\n'))
        {
            number++;
            var colon = line.IndexOf(": ", StringComparison.Ordinal);
            if (colon > 0)
                values.Add(new(line[..colon], line[(colon + 2)..], at + colon + 2, at + line.Length, number));
            at += line.Length + 1;
        }
        Values = values;
    }

    public string Main { get; }
    public string Text { get; }
    public IReadOnlyList<SlapdValue> Values { get; }

    public static string MainOf(string folder) => Path.Combine(Path.GetFullPath(folder), "cn=config.ldif");

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    /// <param name="files">A view as <see cref="SlapdFiles"/> gives it.</param>
    public static SlapdConfiguration Load(string folder, IFiles files) => new(folder, files);

    public SlapdValue? Find(string name) => Values.LastOrDefault(v => v.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    public string? Value(string name) => Find(name)?.Value;

    /// <summary>An edit that gives an attribute one value; where it has none, a line in its place by name.</summary>
    public TextEdit Set(string name, string value)
    {
        if (Find(name) is { } there)
            return new(Main, there.Start, there.End, value);
        var next = Values.FirstOrDefault(v => string.CompareOrdinal(v.Name, name) > 0);
        var at = next is null ? Text.Length : Text.LastIndexOf('\n', Math.Max(0, next.Start - 1)) + 1;
        return new(Main, at, at, $"{name}: {value}\n");
    }

    /// <summary>Attributes whose values are others, with the values that they shall have: none takes one away.</summary>
    public static IReadOnlyList<(string Name, IReadOnlyList<string> Values)> Changes(string before, string after)
    {
        var (old, wanted) = (ByName(before), ByName(after));
        return
        [
            .. old
                .Keys.Union(wanted.Keys)
                .Order(StringComparer.Ordinal)
                .Select(n => (Name: n, Old: old.GetValueOrDefault(n, []), New: wanted.GetValueOrDefault(n, [])))
                .Where(c => !c.Old.SequenceEqual(c.New))
                .Select(c => (c.Name, (IReadOnlyList<string>)c.New)),
        ];
    }

    private static Dictionary<string, List<string>> ByName(string text)
    {
        var found = new Dictionary<string, List<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (var line in text.Split('\n'))
            if (line.Split(": ", 2) is [var name, var value])
                (found.TryGetValue(name, out var list) ? list : found[name] = []).Add(value);
        return found;
    }

    /// <summary>The settings in a file of LDIF (RFC 2849), as text of this kind.</summary>
    public static string Settings(string path, string ldif) =>
        string.Concat(
            Lines(path, ldif)
                .Where(l => !NoSettings.Contains(l.Name.ToLowerInvariant()))
                .OrderBy(l => l.Name, StringComparer.Ordinal)
                .Select(l => $"{l.Name}: {l.Value}\n")
        );

    /// <summary>A file of LDIF with other settings, for the server's own test.</summary>
    public static string WithSettings(string path, string ldif, string settings)
    {
        var kept = Lines(path, ldif).Where(l => NoSettings.Contains(l.Name.ToLowerInvariant())).Select(l => (l.Name, l.Value));
        var set = settings.Split('\n').Select(l => l.Split(": ", 2)).Where(p => p.Length == 2).Select(p => (p[0], p[1]));
        return string.Concat(kept.Concat(set).Select(l => Written(l.Item1, l.Item2)));
    }

    // What begins oddly or is not plain ASCII goes as Base64 (RFC 2849, SAFE-STRING).
    private static string Written(string name, string value)
    {
        var isPlain =
            value.Length > 0 && value[0] is not (' ' or ':' or '<') && value[^1] != ' ' && value.All(c => c is >= ' ' and < (char)127);
        return isPlain ? $"{name}: {value}\n" : $"{name}:: {Convert.ToBase64String(ByteText.Bytes(value))}\n";
    }

    // A line that begins with a blank goes on with the one before (RFC 2849, section 2); two colons: Base64.
    private static IEnumerable<(string Name, string Value)> Lines(string path, string ldif)
    {
        var (number, begins) = (0, 0);
        var whole = new StringBuilder();
        foreach (var line in ldif.Split('\n'))
        {
            number++;
            if (line.StartsWith(' ') && begins > 0)
            {
                whole.Append(line.TrimEnd('\r'), 1, line.TrimEnd('\r').Length - 1);
                continue;
            }
            if (whole.Length > 0)
                yield return Line(path, whole.ToString(), begins);
            whole.Clear();
            begins = number;
            if (line.Trim().Length > 0 && line[0] != '#')
                whole.Append(line.TrimEnd('\r'));
            else
                begins = 0;
        }
        if (whole.Length > 0)
            yield return Line(path, whole.ToString(), begins);
    }

    private static (string, string) Line(string path, string line, int number)
    {
        var colon = line.IndexOf(':');
        if (colon <= 0 || line[..colon].Any(char.IsWhiteSpace))
            throw Broken(path, number, "it is no attribute with a value");
        var isBase64 = line.AsSpan(colon).StartsWith("::");
        var value = line[(colon + (isBase64 ? 2 : 1))..].Trim();
        try
        {
            value = isBase64 ? ByteText.Of(Convert.FromBase64String(value)) : value;
        }
        catch (FormatException)
        {
            throw Broken(path, number, "its value is no Base64");
        }
        return value.AsSpan().ContainsAny("\n\r\0")
            ? throw Broken(path, number, "its value has more than one line")
            : (line[..colon], value);
    }

    private static BeaconProblem Broken(string path, int number, string why) =>
        new(
            ProblemCode.ConfigurationBroken,
            $"{path}, line {number}: {why}.",
            "The file is slapd's own: restore it from a backup, then start it by hand."
        );
}

/// <summary>A view of files in which the entry <c>cn=config</c> is read as its settings.</summary>
internal sealed class SlapdFiles(IFiles below, string folder) : IFiles
{
    private readonly string _main = SlapdConfiguration.MainOf(folder);

    public string? Find(string path) =>
        below.Find(path) is { } text && path == _main ? SlapdConfiguration.Settings(path, text) : below.Find(path);

    public IReadOnlyList<string> FilesIn(string folder) => below.FilesIn(folder);

    public IReadOnlyList<string> FoldersIn(string folder) => below.FoldersIn(folder);
}
