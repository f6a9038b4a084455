using OrderlyBeacon.Agent.Store;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>A configuration as it would be, for a server's own test; gone afterwards.</summary>
internal sealed class StagedCopy : IDisposable
{
    private readonly string? _folder;

    private StagedCopy(string path, string? folder) => (Path, _folder) = (path, folder);

    public string Path { get; }

    /// <summary>Beside the configuration, for what its relative paths mean.</summary>
    /// <param name="text">A <see cref="ByteText"/>.</param>
    public static StagedCopy Beside(string config, string text)
    {
        var full = System.IO.Path.GetFullPath(config);
        var name = $".beacon-check-{Environment.ProcessId}{System.IO.Path.GetExtension(full)}";
        var path = System.IO.Path.Combine(System.IO.Path.GetDirectoryName(full)!, name);
        AtomicFiles.Write(path, ByteText.Bytes(text), isPrivate: true);
        return new(path, null);
    }

    /// <summary>In a folder of its own, readable for the server's account and nobody else.</summary>
    /// <param name="account">Null for the agent's own.</param>
    public static StagedCopy For(ServerAccount? account, string name, string text)
    {
        var folder = Directory.CreateTempSubdirectory("beacon-check-").FullName;
        var copy = new StagedCopy(System.IO.Path.Combine(folder, name), folder);
        if (account is { } reader)
        {
            SafeFolder.LetThrough(folder);
            AtomicFiles.WriteForGroup(copy.Path, ByteText.Bytes(text), reader.Group);
        }
        else
            AtomicFiles.Write(copy.Path, ByteText.Bytes(text), isPrivate: true);
        return copy;
    }

    public void Dispose()
    {
        if (_folder is null)
            File.Delete(Path);
        else
            Directory.Delete(_folder, recursive: true);
    }
}
