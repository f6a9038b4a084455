using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Store;

/// <summary>Files that are either the old or the new whole, whatever happens in between, and are on the disk when a method returns. All of it on open folders: see <see cref="SafeFolder"/>.</summary>
internal static class AtomicFiles
{
    private const uint PrivateFile = 0x180,
        PublicFile = 0x1A4;
    private const int MostLinks = 20;

    public const UnixFileMode PrivateFolder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CannotWrite"/>, with the old content still in place.</exception>
    public static void Write(string path, ReadOnlySpan<byte> bytes, bool isPrivate)
    {
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
        folder.Write(Path.GetFileName(path), bytes, SafeFolder.Own(isPrivate ? PrivateFile : PublicFile));
    }

    /// <summary>Replaces a file's content and keeps its mode and owner. Of a link, the file that it leads to.</summary>
    public static void Replace(string path, ReadOnlySpan<byte> bytes)
    {
        var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
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
        using var folder = SafeFolder.Open(Path.GetDirectoryName(path)!);
        folder.Link(Path.GetFileName(path), target);
    }

    public static string? LinkTarget(string path) => new FileInfo(path).LinkTarget;

    /// <summary>Moves a complete folder into place; there must be none there.</summary>
    public static void MoveFolder(string from, string to)
    {
        using var source = SafeFolder.Open(Path.GetDirectoryName(from)!);
        using var target = SafeFolder.Open(Path.GetDirectoryName(to)!);
        source.Move(Path.GetFileName(from), target, Path.GetFileName(to));
    }
}
