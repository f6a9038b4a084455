using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Store;

/// <summary>Files that are either the old or the new whole, whatever happens in between, and are on the disk when a method returns. All of it on open folders: see <see cref="SafeFolder"/>.</summary>
internal static class AtomicFiles
{
    private const uint PrivateFile = 0x180,
        GroupFile = 0x1A0,
        PublicFile = 0x1A4;
    private const int MostLinks = 20;

    public const UnixFileMode PrivateFolder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <summary>Called with the path before anything is written; what it throws is what a kill at that moment would leave.</summary>
    public static readonly AsyncLocal<Action<string>?> Before = new();

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CannotWrite"/>, with the old content still in place.</exception>
    public static void Write(string path, ReadOnlySpan<byte> bytes, bool isPrivate)
    {
        Before.Value?.Invoke(path);
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
        folder.Write(Path.GetFileName(path), bytes, SafeFolder.Own(isPrivate ? PrivateFile : PublicFile));
    }

    /// <summary>Writes a file of the agent's own that one group may read as well.</summary>
    public static void WriteForGroup(string path, ReadOnlySpan<byte> bytes, uint group)
    {
        Before.Value?.Invoke(path);
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
        folder.Write(Path.GetFileName(path), bytes, SafeFolder.Own(GroupFile) with { Group = group });
    }

    /// <summary>Makes a file that everybody may read where none is.</summary>
    /// <param name="server">As for <see cref="Replace"/>.</param>
    public static void Create(string path, ReadOnlySpan<byte> bytes, uint? server = null)
    {
        Before.Value?.Invoke(path);
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!, server);
        folder.Write(Path.GetFileName(path), bytes, SafeFolder.Own(PublicFile));
    }

    /// <summary>Replaces a file's content and keeps its mode and owner. Of a link, the file that it leads to.</summary>
    /// <param name="server">An account that may own the folder: the server's, whose configuration it is.</param>
    public static void Replace(string path, ReadOnlySpan<byte> bytes, uint? server = null)
    {
        Before.Value?.Invoke(path);
        var folder = SafeFolder.Open(Path.GetDirectoryName(path)!, server);
        try
        {
            var name = Path.GetFileName(path);
            for (var links = 0; folder.TargetOf(name) is { } target; links++)
            {
                if (links == MostLinks)
                    throw new BeaconProblem(
                        ProblemCode.CannotWrite,
                        $"{path} leads through too many links.",
                        "Configure the file's real path."
                    );
                if (folder.IsForeign)
                    throw new BeaconProblem(
                        ProblemCode.CannotWrite,
                        $"{path} is a link in a folder of another account, which could lead anywhere. Nothing was changed.",
                        "Configure the file's real path."
                    );
                var next = Path.GetFullPath(Path.Combine(folder.Path, target));
                folder.Dispose();
                folder = SafeFolder.Open(Path.GetDirectoryName(next)!);
                name = Path.GetFileName(next);
            }
            var owner =
                folder.Find(name)
                ?? throw new BeaconProblem(
                    ProblemCode.CannotWrite,
                    $"{path} is not there any more.",
                    "Look who removed it; then try again."
                );
            folder.Write(name, bytes, owner);
        }
        finally
        {
            folder.Dispose();
        }
    }

    /// <summary>Points a symbolic link somewhere else in one step.</summary>
    public static void Link(string path, string target)
    {
        Before.Value?.Invoke(path);
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
        folder.Link(Path.GetFileName(path), target);
    }

    public static string? LinkTarget(string path) => new FileInfo(path).LinkTarget;

    /// <summary>Moves a complete folder into place; there must be none there.</summary>
    public static void MoveFolder(string from, string to)
    {
        Before.Value?.Invoke(to);
        using var source = SafeFolder.Open(Path.GetDirectoryName(from)!);
        using var target = SafeFolder.Open(Path.GetDirectoryName(to)!);
        source.Move(Path.GetFileName(from), target, Path.GetFileName(to));
    }
}
