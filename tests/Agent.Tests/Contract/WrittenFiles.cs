using OrderlyBeacon.Agent.Connectors;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Files of one server below /etc/server, by name.</summary>
internal sealed class WrittenFiles(params (string Name, string Text)[] files) : IFiles
{
    public string? Find(string path) => files.FirstOrDefault(f => "/etc/server/" + f.Name == path).Text;

    public IReadOnlyList<string> FilesIn(string folder) =>
        [.. files.Select(f => "/etc/server/" + f.Name).Where(p => Path.GetDirectoryName(p) == folder)];

    public IReadOnlyList<string> FoldersIn(string folder) => [];
}
