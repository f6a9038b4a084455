using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Vsftpd;

/// <summary>A line <c>name=value</c>, without blanks around the sign.</summary>
/// <param name="ValueStart">Index of the value in the file's text.</param>
internal sealed record VsftpdSetting(string Name, string Value, int Number, int ValueStart)
{
    public int ValueEnd => ValueStart + Value.Length;
}

/// <summary>vsftpd.conf (its manual, "FORMAT"): one file, nothing is included; the last of a name counts.</summary>
internal sealed class VsftpdConfiguration
{
    private readonly List<VsftpdSetting> _settings = [];

    private VsftpdConfiguration(string path, string text)
    {
        (Main, Text) = (Path.GetFullPath(path), text);
        var (at, number) = (0, 0);
        foreach (var line in text.Split('\n'))
        {
            number++;
            var equals = line.IndexOf('=', StringComparison.Ordinal);
            if (equals > 0 && line[0] != '#')
                _settings.Add(new(line[..equals], line[(equals + 1)..].TrimEnd('\r'), number, at + equals + 1));
            at += line.Length + 1;
        }
    }

    public string Main { get; }
    public string Text { get; }

    public static VsftpdConfiguration Load(string path, IFiles files) => new(path, files.Read(path));

    public VsftpdSetting? Find(string name) => _settings.LastOrDefault(s => s.Name == name);

    public string? Value(string name) => Find(name)?.Value is { Length: > 0 } v ? v : null;

    /// <param name="otherwise">What the server takes when it is left out.</param>
    public bool IsOn(string name, bool otherwise = false) =>
        Value(name) is { } v ? v.ToUpperInvariant() is "YES" or "TRUE" or "1" : otherwise;

    /// <summary>The line that a complaint is about: by the name in it.</summary>
    public int? LineOf(string complaint) => _settings.LastOrDefault(s => complaint.Contains(s.Name, StringComparison.Ordinal))?.Number;

    public string PlaceOf(VsftpdSetting setting) => $"{Main}:{setting.Number}";
}
