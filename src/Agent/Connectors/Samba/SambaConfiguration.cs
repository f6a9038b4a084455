using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Samba;

/// <summary>A line <c>name = value</c> of the section [global].</summary>
/// <param name="Name">Without blanks, in lower case: so they are compared.</param>
/// <param name="End">Behind the value in the file's text.</param>
internal sealed record SambaSetting(string Name, string Value, int Number, int ValueStart, int End);

/// <summary>smb.conf(5): sections of settings, the last of a name counts; a line that ends in a backslash goes on.</summary>
internal sealed class SambaConfiguration
{
    private const string Global = "global";
    private readonly List<SambaSetting> _settings = [];

    private SambaConfiguration(string path, string text)
    {
        (Main, Text) = (Path.GetFullPath(path), text);
        var (at, number, section, goesOn) = (0, 0, Global, false);
        foreach (var whole in text.Split('\n'))
        {
            number++;
            var line = whole.TrimEnd('\r');
            var isMore = goesOn;
            goesOn = line.EndsWith('\\');
            var said = line.Trim();
            if (!isMore && said.StartsWith('['))
            {
                if (!said.Contains(']'))
                    throw Broken(number, $"the section {said} is not closed by ]");
                section = said[1..said.IndexOf(']')].Trim().ToLowerInvariant();
                if (section == Global)
                    GlobalEnd = at + line.Length;
            }
            else if (!isMore && said.Length > 0 && said[0] is not '#' and not ';' && section == Global)
                Take(line, number, at, goesOn);
            at += whole.Length + 1;
        }
    }

    private void Take(string line, int number, int at, bool goesOn)
    {
        var equals = line.IndexOf('=');
        if (equals <= 0)
            return;
        var name = NameOf(line[..equals]);
        if (goesOn)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{Main}:{number}: {line[..equals].Trim()} goes on over several lines.",
                "Write it in one line."
            );
        var value = line[(equals + 1)..].Trim();
        var end = at + line.TrimEnd().Length;
        _settings.Add(new(name, value, number, end - value.Length, end));
    }

    public string Main { get; }
    public string Text { get; }

    /// <summary>Behind the last line <c>[global]</c>; null when there is none.</summary>
    public int? GlobalEnd { get; }

    public static SambaConfiguration Load(string path, IFiles files) => new(path, files.Read(Path.GetFullPath(path)));

    private static string NameOf(string text) => string.Concat(text.Where(c => !char.IsWhiteSpace(c))).ToLowerInvariant();

    public SambaSetting? Find(string name) => _settings.LastOrDefault(s => s.Name == NameOf(name));

    public string? Value(string name) => Find(name)?.Value is { Length: > 0 } v ? v : null;

    public bool IsOn(string name, bool otherwise) =>
        Value(name) is { } v ? v.ToUpperInvariant() is "YES" or "TRUE" or "1" or "ON" : otherwise;

    public string PlaceOf(SambaSetting setting) => $"{Main}:{setting.Number}";

    /// <summary>A path that is not a full one lies in the private folder.</summary>
    public string Private(string path) => Path.Combine(Value("private dir") ?? "/var/lib/samba/private", path);

    private BeaconProblem Broken(int number, string what) =>
        new(
            ProblemCode.ConfigurationBroken,
            $"{Main}, line {number}: {what}.",
            "Correct it first; testparm shows the same. Nothing was changed."
        );
}
