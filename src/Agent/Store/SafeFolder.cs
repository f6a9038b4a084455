using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Store;

/// <summary>Owner and mode of a file, as the kernel has them.</summary>
internal readonly record struct FileOwner(uint User, uint Group, uint Mode);

/// <summary>
/// An open folder that nobody but root and the agent's own account can change: reached from the root of the file system step by step, each step opened without following
/// links and looked at through its descriptor. Files in it are made complete, with owner and mode, before their name appears. The agent runs as root; whoever could put a
/// link into its way could have it give files away.
/// </summary>
internal sealed partial class SafeFolder : IDisposable
{
    private const int DirectoryOnly = 0x10000,
        NoFollow = 0x20000,
        CloseOnExec = 0x80000,
        WriteOnly = 1,
        Create = 0x40,
        Exclusive = 0x80;
    private const int NotFound = 2,
        IsLink = 40,
        NotDirectory = 20,
        NoSpace = 28;
    private const int MostLinks = 20;
    private const uint Sticky = 0x200,
        OthersWrite = 0x12;

    private readonly int _fd;

    private SafeFolder(int fd, string path) => (_fd, Path) = (fd, path);

    /// <summary>Whether the folder is another account's, so that what stands in it may have been put there to mislead.</summary>
    public bool IsForeign { get; private init; }

    /// <summary>As it was reached, links resolved.</summary>
    public string Path { get; }

    /// <summary>Opens a folder; folders that are missing are made for the agent alone.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CannotWrite"/>, with the folder that others can write and the cure.</exception>
    /// <param name="server">An account that may own the folder itself and those above it: its own configuration lies there.</param>
    public static SafeFolder Open(string path, uint? server = null)
    {
        var links = 0;
        var parts = new LinkedList<string>(Split(System.IO.Path.GetFullPath(path)));
        var folder = new SafeFolder(Check(OpenAt(-100, "/", DirectoryOnly | CloseOnExec, 0), "/"), "/");
        try
        {
            while (parts.First is { Value: var part })
            {
                parts.RemoveFirst();
                if (folder.TargetOf(part) is { } target)
                {
                    if (folder.IsForeign)
                        throw Refused(
                            System.IO.Path.Combine(folder.Path, part),
                            "it is a link in a folder of another account, which could lead anywhere",
                            "Configure its real path."
                        );
                    if (++links > MostLinks)
                        throw Refused(path, "it leads through too many links", "Configure its real path.");
                    foreach (var p in Split(System.IO.Path.GetFullPath(System.IO.Path.Combine(folder.Path, target))).Reverse())
                        parts.AddFirst(p);
                    folder.Dispose();
                    folder = new SafeFolder(Check(OpenAt(-100, "/", DirectoryOnly | CloseOnExec, 0), "/"), "/");
                    continue;
                }
                var next = folder.Enter(part, server);
                folder.Dispose();
                folder = next;
            }
            return folder;
        }
        catch
        {
            folder.Dispose();
            throw;
        }
    }

    private static string[] Split(string path) => path.Split('/', StringSplitOptions.RemoveEmptyEntries);

    private SafeFolder Enter(string name, uint? server)
    {
        var path = System.IO.Path.Combine(Path, name);
        var fd = OpenAt(_fd, name, DirectoryOnly | NoFollow | CloseOnExec, 0);
        if (fd < 0 && Marshal.GetLastPInvokeError() == NotFound)
        {
            if (MakeAt(_fd, name, 0x1C0) != 0)
                throw Failed(path);
            fd = OpenAt(_fd, name, DirectoryOnly | NoFollow | CloseOnExec, 0);
        }
        if (fd < 0)
            throw Failed(path);
        var user = StatOf(fd, "")?.User;
        var entered = new SafeFolder(fd, path) { IsForeign = IsForeign || (user is { } u && u != 0 && u != EffectiveUser()) };
        try
        {
            entered.ThrowIfOthersCanWrite(server);
            return entered;
        }
        catch
        {
            entered.Dispose();
            throw;
        }
    }

    private void ThrowIfOthersCanWrite(uint? server)
    {
        var owner = StatOf(_fd, "") ?? throw Failed(Path);
        if (owner.User != 0 && owner.User != EffectiveUser() && owner.User != server)
            throw Refused(
                Path,
                "another account owns it, and could put something else in the place of what is written",
                $"Give it to root: chown root {Path}."
            );
        // In a sticky folder nobody can move what is somebody else's.
        if ((owner.Mode & OthersWrite) != 0 && (owner.Mode & Sticky) == 0)
            throw Refused(
                Path,
                "other accounts can write there, and could put something else in the place of what is written",
                $"Take that away: chmod go-w {Path}."
            );
    }

    /// <summary>Owner and mode of something in the folder; a link's own. Null when it is not there.</summary>
    public FileOwner? Find(string name) => StatOf(_fd, name);

    /// <summary>Where a link in the folder points; null when it is none.</summary>
    public string? TargetOf(string name)
    {
        var buffer = new byte[4096];
        var length = ReadLinkAt(_fd, name, buffer, buffer.Length);
        return length < 0 ? null : System.Text.Encoding.UTF8.GetString(buffer, 0, (int)length);
    }

    /// <summary>Writes a file whole, or leaves what was there.</summary>
    public void Write(string name, ReadOnlySpan<byte> bytes, FileOwner owner)
    {
        var temporary = $".beacon-{name}.new";
        _ = UnlinkAt(_fd, temporary, 0);
        var fd = OpenAt(_fd, temporary, WriteOnly | Create | Exclusive | NoFollow | CloseOnExec, 0x180);
        if (fd < 0)
            throw Failed(System.IO.Path.Combine(Path, name));
        var isDone = false;
        try
        {
            WriteAll(fd, bytes);
            if (EffectiveUser() == 0 && ChangeOwner(fd, owner.User, owner.Group) != 0)
                throw Failed(System.IO.Path.Combine(Path, name));
            isDone = ChangeMode(fd, owner.Mode & 0xFFF) == 0 && Sync(fd) == 0;
            if (!isDone)
                throw Failed(System.IO.Path.Combine(Path, name));
        }
        finally
        {
            _ = Close(fd);
            if (!isDone)
                _ = UnlinkAt(_fd, temporary, 0);
        }
        if (RenameAt(_fd, temporary, _fd, name) != 0)
            throw Failed(System.IO.Path.Combine(Path, name));
        _ = Sync(_fd);
    }

    private void WriteAll(int fd, ReadOnlySpan<byte> bytes)
    {
        while (!bytes.IsEmpty)
        {
            var n = WriteTo(fd, bytes, bytes.Length);
            if (n < 0)
                throw Failed(Path);
            bytes = bytes[(int)n..];
        }
    }

    /// <summary>Points a link somewhere else in one step.</summary>
    public void Link(string name, string target)
    {
        var temporary = $".beacon-{name}.new";
        _ = UnlinkAt(_fd, temporary, 0);
        if (LinkAt(target, _fd, temporary) != 0 || RenameAt(_fd, temporary, _fd, name) != 0)
            throw Failed(System.IO.Path.Combine(Path, name));
        _ = Sync(_fd);
    }

    /// <summary>Moves something of this folder into another; there must be nothing of that name.</summary>
    public void Move(string name, SafeFolder to, string newName)
    {
        if (to.Find(newName) is not null)
            throw Refused(System.IO.Path.Combine(to.Path, newName), "something is there already", "Look at it, and move it away.");
        if (RenameAt(_fd, name, to._fd, newName) != 0)
            throw Failed(System.IO.Path.Combine(to.Path, newName));
        _ = Sync(to._fd);
    }

    private static int Check(int fd, string path) => fd >= 0 ? fd : throw Failed(path);

    private static BeaconProblem Failed(string path)
    {
        var error = Marshal.GetLastPInvokeError();
        return error switch
        {
            NoSpace => new(
                ProblemCode.CannotWrite,
                $"The disk under {path} is full; nothing was changed.",
                "Free some space on the host; the work goes on by itself."
            ),
            IsLink or NotDirectory => Refused(path, "it was replaced by something else in between", "Find out who writes there."),
            _ => new(
                ProblemCode.CannotWrite,
                $"{path} cannot be written: {Marshal.GetPInvokeErrorMessage(error)}.",
                "Check the folder's permissions; the agent's account must be able to write there."
            ),
        };
    }

    private static BeaconProblem Refused(string path, string why, string cure) =>
        new(ProblemCode.CannotWrite, $"{path} is not written to: {why}. Nothing was changed.", cure);

    public void Dispose() => _ = Close(_fd);

    /// <summary>Owner and mode of what a path leads to; null when there is nothing.</summary>
    public static FileOwner? OwnerOf(string path) => StatOf(-100, path, followLinks: true);

    /// <summary>Opens a file for reading without waiting for anybody: a pipe that somebody put in its place would hold the agent up for ever. A lock of its server does not matter.</summary>
    /// <returns>Null when there is no regular file.</returns>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/>: it is there and may not be read.</exception>
    public static SafeFileHandle? OpenRegular(string path)
    {
        const int noWaiting = 0x800;
        const uint kind = 0xF000,
            regular = 0x8000;
        var fd = OpenAt(-100, path, CloseOnExec | noWaiting, 0);
        if (fd < 0)
        {
            var error = Marshal.GetLastPInvokeError();
            return error is NotFound or NotDirectory
                ? null
                : throw new BeaconProblem(
                    ProblemCode.ConfigurationBroken,
                    $"{path} cannot be read: {Marshal.GetPInvokeErrorMessage(error)}.",
                    "Check that the file is there and readable for the agent."
                );
        }
        var file = new SafeFileHandle(fd, ownsHandle: true);
        if ((OwnerOf(file).Mode & kind) == regular)
            return file;
        file.Dispose();
        return null;
    }

    /// <summary>Owner and mode of an open file.</summary>
    public static FileOwner OwnerOf(SafeFileHandle file) => StatOf((int)file.DangerousGetHandle(), "") ?? throw Failed("an open file");

    /// <summary>Lets other accounts pass through a folder of the agent's own, without seeing what is in it.</summary>
    public static void LetThrough(string path)
    {
        using var folder = Open(path);
        var owner = StatOf(folder._fd, "") ?? throw Failed(path);
        if ((owner.Mode & PassThrough) != PassThrough && ChangeMode(folder._fd, (owner.Mode & 0xFFF) | PassThrough) != 0)
            throw Failed(path);
    }

    private const uint PassThrough = 0x49;

    private static FileOwner? StatOf(int fd, string name, bool followLinks = false)
    {
        const int noFollow = 0x100,
            emptyPath = 0x1000;
        Span<byte> buffer = stackalloc byte[256];
        if (StatX(fd, name, (followLinks ? 0 : noFollow) | emptyPath, 0x7FF, buffer) != 0)
            return null;
        // struct statx: mask, block size, attributes, links, user at 20, group at 24, mode at 28.
        return new(
            MemoryMarshal.Read<uint>(buffer[20..]),
            MemoryMarshal.Read<uint>(buffer[24..]),
            MemoryMarshal.Read<ushort>(buffer[28..])
        );
    }

    [LibraryImport("libc", EntryPoint = "openat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int OpenAt(int fd, string path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "mkdirat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int MakeAt(int fd, string path, int mode);

    [LibraryImport("libc", EntryPoint = "unlinkat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int UnlinkAt(int fd, string path, int flags);

    [LibraryImport("libc", EntryPoint = "renameat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int RenameAt(int fromFd, string from, int toFd, string to);

    [LibraryImport("libc", EntryPoint = "symlinkat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int LinkAt(string target, int fd, string path);

    [LibraryImport("libc", EntryPoint = "readlinkat", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial nint ReadLinkAt(int fd, string path, [Out] byte[] buffer, nint length);

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    private static partial int StatX(int fd, string path, int flags, uint mask, Span<byte> buffer);

    [LibraryImport("libc", EntryPoint = "fchown", SetLastError = true)]
    private static partial int ChangeOwner(int fd, uint user, uint group);

    [LibraryImport("libc", EntryPoint = "fchmod", SetLastError = true)]
    private static partial int ChangeMode(int fd, uint mode);

    [LibraryImport("libc", EntryPoint = "write", SetLastError = true)]
    private static partial nint WriteTo(int fd, ReadOnlySpan<byte> bytes, nint length);

    [LibraryImport("libc", EntryPoint = "fsync", SetLastError = true)]
    private static partial int Sync(int fd);

    [LibraryImport("libc", EntryPoint = "close")]
    private static partial int Close(int fd);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    private static partial uint EffectiveUser();

    [LibraryImport("libc", EntryPoint = "getegid")]
    private static partial uint EffectiveGroup();

    /// <summary>A file of the agent's own.</summary>
    public static FileOwner Own(uint mode) => new(EffectiveUser(), EffectiveGroup(), mode);
}
