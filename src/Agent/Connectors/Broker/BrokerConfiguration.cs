using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Broker;

/// <summary>A line <c>name = value</c>, with the place of its value.</summary>
internal sealed record BrokerSetting(string Name, string Value, int Number, int ValueStart, int End);

/// <summary>The broker's settings: one file, a line each; <c>#</c> begins a comment.</summary>
internal sealed class BrokerConfiguration
{
    private readonly List<BrokerSetting> _settings = [];

    private BrokerConfiguration(string path, string text)
    {
        (Main, Text) = (Path.GetFullPath(path), text);
        var (at, number) = (0, 0);
        foreach (var whole in text.Split('\n'))
        {
            number++;
            var line = whole.TrimEnd('\r');
            var equals = line.IndexOf('=');
            if (equals > 0 && line.TrimStart() is not ['#', ..])
            {
                var (value, end) = (line[(equals + 1)..].Trim(), line.TrimEnd().Length);
                _settings.Add(new(line[..equals].Trim(), value, number, at + end - value.Length, at + end));
            }
            at += whole.Length + 1;
        }
        if (_settings.GroupBy(s => s.Name).FirstOrDefault(g => g.Count() > 1) is { } twice)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{Main}, line {twice.Last().Number}: {twice.Key} stands there twice.",
                "Take one of them out."
            );
    }

    public string Main { get; }
    public string Text { get; }

    public static BrokerConfiguration Load(string path, IFiles files) => new(path, files.Read(Path.GetFullPath(path)));

    public BrokerSetting? Find(string name) => _settings.Find(s => s.Name == name);

    public string? Value(string name) => Find(name)?.Value is { Length: > 0 } v ? v : null;

    public string PlaceOf(BrokerSetting setting) => $"{Main}:{setting.Number}";
}
