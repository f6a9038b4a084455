using System.Text;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>What a server wrote into its log since a mark: independent of its clock and its form of dates.</summary>
internal sealed class LogTail
{
    private const int Most = 32 * 1024;
    private string? _path;
    private long _from;

    public void Mark(string? path) => (_path, _from) = (path, path is not null && File.Exists(path) ? new FileInfo(path).Length : 0);

    /// <summary>Lines since the mark, the latest first.</summary>
    public IReadOnlyList<string> Lines()
    {
        try
        {
            // A pipe that somebody put in its place is no log: it would be waited for.
            if (_path is null || SafeFolder.OpenRegular(_path) is not { } handle)
                return [];
            using var f = new FileStream(handle, FileAccess.Read);
            // A log that was turned over is read from its beginning.
            var from = f.Length < _from ? 0 : _from;
            f.Seek(Math.Max(from, f.Length - Most), SeekOrigin.Begin);
            using var reader = new StreamReader(f, Encoding.Latin1);
            return [.. reader.ReadToEnd().Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).Reverse()];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return [];
        }
    }
}
