using System.Runtime.InteropServices;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Store;

/// <summary>Files that are either the old or the new whole, whatever happens in between, and are on the disk when a method returns.</summary>
internal static partial class AtomicFiles
{
    public const UnixFileMode PrivateFile = UnixFileMode.UserRead | UnixFileMode.UserWrite;
    public const UnixFileMode PublicFile = PrivateFile | UnixFileMode.GroupRead | UnixFileMode.OtherRead;
    public const UnixFileMode PrivateFolder = PrivateFile | UnixFileMode.UserExecute;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CannotWrite"/>, with the old content still in place.</exception>
    public static void Write(string path, ReadOnlySpan<byte> bytes, bool isPrivate) =>
        Write(path, bytes, isPrivate ? PrivateFile : PublicFile, null);

    /// <summary>Replaces a file's content and keeps its mode and owner.</summary>
    public static void Replace(string path, ReadOnlySpan<byte> bytes)
    {
        var real = ResolveLink(path);
        Write(real, bytes, File.GetUnixFileMode(real), real);
    }

    private static void Write(string path, ReadOnlySpan<byte> bytes, UnixFileMode mode, string? ownerOf)
    {
        var folder = Path.GetDirectoryName(path)!;
        var temporary = Path.Combine(folder, $".beacon-{Path.GetFileName(path)}.new");
        try
        {
            Directory.CreateDirectory(folder, PrivateFolder);
            File.Delete(temporary);
            using (
                var f = new FileStream(
                    temporary,
                    new FileStreamOptions
                    {
                        Mode = FileMode.CreateNew,
                        Access = FileAccess.Write,
                        UnixCreateMode = PrivateFile,
                        BufferSize = 0,
                    }
                )
            )
            {
                f.Write(bytes);
                f.Flush(flushToDisk: true);
            }
            if (ownerOf is not null)
                CopyOwner(ownerOf, temporary);
            File.SetUnixFileMode(temporary, mode);
            File.Move(temporary, path, overwrite: true);
            SyncFolder(folder);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            try
            {
                File.Delete(temporary);
            }
            catch (IOException) { }
            throw CannotWrite(path, e);
        }
    }

    /// <summary>Points a symbolic link somewhere else in one step.</summary>
    public static void Link(string path, string target)
    {
        var folder = Path.GetDirectoryName(path)!;
        var temporary = Path.Combine(folder, $".beacon-{Path.GetFileName(path)}.new");
        try
        {
            Directory.CreateDirectory(folder, PrivateFolder);
            File.Delete(temporary);
            File.CreateSymbolicLink(temporary, target);
            // File.Move follows the target's kind; rename replaces the link itself.
            if (Rename(temporary, path) != 0)
                throw new IOException($"rename failed with error {Marshal.GetLastPInvokeError()}");
            SyncFolder(folder);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw CannotWrite(path, e);
        }
    }

    public static string? LinkTarget(string path) => new FileInfo(path).LinkTarget;

    /// <summary>Moves a complete folder into place; there must be none there.</summary>
    public static void MoveFolder(string from, string to)
    {
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(to)!, PrivateFolder);
            Directory.Move(from, to);
            SyncFolder(Path.GetDirectoryName(to)!);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw CannotWrite(to, e);
        }
    }

    private static string ResolveLink(string path) => File.ResolveLinkTarget(path, returnFinalTarget: true)?.FullName ?? path;

    private static BeaconProblem CannotWrite(string path, Exception e)
    {
        const int noSpace = 28;
        var full =
            (e.HResult & 0xFFFF) == noSpace
            || e.Message.Contains("No space left", StringComparison.Ordinal)
            || e.Message.Contains("not enough space", StringComparison.OrdinalIgnoreCase);
        return full
            ? new(
                ProblemCode.CannotWrite,
                $"The disk under {path} is full; nothing was changed.",
                "Free some space on the host; the work goes on by itself.",
                e
            )
            : new(
                ProblemCode.CannotWrite,
                $"{path} cannot be written: {e.Message}",
                "Check the folder's permissions; the agent's account must be able to write there.",
                e
            );
    }

    private static void SyncFolder(string folder)
    {
        var fd = Open(folder, 0);
        if (fd < 0)
            return;
        _ = Fsync(fd);
        _ = Close(fd);
    }

    private static void CopyOwner(string from, string to)
    {
        // Only root can give files away; as another account the owner is the same anyhow.
        if (Geteuid() != 0)
            return;
        using var p = System.Diagnostics.Process.Start("chown", ["--reference=" + from, to]);
        p.WaitForExit();
    }

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int Open(string path, int flags);

    [LibraryImport("libc", EntryPoint = "fsync")]
    private static partial int Fsync(int fd);

    [LibraryImport("libc", EntryPoint = "close")]
    private static partial int Close(int fd);

    [LibraryImport("libc", EntryPoint = "rename", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int Rename(string from, string to);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    private static partial uint Geteuid();
}
