using System.Security.Cryptography;
using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>A file that a swap changes, with its restore point beside the record.</summary>
/// <param name="Backup">Name of the copy in the swap's folder; null when the file was not there before.</param>
/// <param name="AfterHash">SHA-256 of what the swap writes: anything else there was written by somebody else since.</param>
internal sealed record SwapFile(string Path, string? Backup, string AfterHash)
{
    /// <summary>The server's account, when its folder belongs to it.</summary>
    public uint? Server { get; init; }

    /// <summary>The server that keeps it in itself; null for a file.</summary>
    public string? Keeper { get; init; }
}

/// <summary>What must be known to undo a swap after a kill. It is on the disk before the first change and goes when the swap is confirmed.</summary>
/// <param name="Connector">The server, in records of an agent before 0.2.</param>
/// <param name="Link">The link in use that is turned; null when none is.</param>
/// <param name="OldTarget">Where it pointed; null when it was not there.</param>
internal sealed record SwapRecord(
    long Order,
    string? Connector,
    string? Certificate,
    string? Serial,
    string? Link,
    string? OldTarget,
    string? NewTarget,
    IReadOnlyList<SwapFile> Files
)
{
    /// <summary>Names of the servers that take it up, in that order.</summary>
    public IReadOnlyList<string>? Instances { get; init; }

    public IReadOnlyList<string> Servers => Instances ?? (Connector is null ? [] : [Connector]);
}

/// <summary>An edit with whose it is.</summary>
/// <param name="Server">The account in whose folder it is made.</param>
/// <param name="Keeper">The server that keeps it in itself; null for a file.</param>
internal readonly record struct OwnedEdit(FileEdit Edit, uint? Server, IConnector? Keeper = null)
{
    public static OwnedEdit Of(FileEdit edit, IConnector instance) =>
        new(edit, instance.Needs.Reader?.User, instance.Settings?.Keeps(edit.Path) == true ? instance : null);

    public void Apply()
    {
        if (Keeper?.Settings is { } settings)
            settings.Write(Edit.Path, Edit.After ?? "");
        else if (Edit is { Before: null, After: { } made })
            AtomicFiles.Create(Edit.Path, ByteText.Bytes(made), Server);
        else if (Edit.After is { } after)
            AtomicFiles.Replace(Edit.Path, ByteText.Bytes(after), Server);
        else
            File.Delete(Edit.Path);
    }
}

/// <summary>Records of swaps that are not confirmed: folder <c>swaps/order-N</c> with <c>record.json</c> and the copies.</summary>
internal sealed class SwapJournal(string state)
{
    private string Root => Path.Combine(state, "swaps");

    private string FolderOf(long order) => Path.Combine(Root, $"order-{order}");

    /// <param name="record">Without its files and the link's old target, which are filled in.</param>
    public SwapRecord Open(SwapRecord record, IReadOnlyList<OwnedEdit> edits)
    {
        var folder = FolderOf(record.Order);
        if (Directory.Exists(folder))
            Directory.Delete(folder, recursive: true);
        var files = new List<SwapFile>();
        foreach (var (edit, server, keeper) in edits)
        {
            var backup = edit.Before is null ? null : $"file-{files.Count}";
            if (backup is not null)
                AtomicFiles.Write(Path.Combine(folder, backup), ByteText.Bytes(edit.Before!), isPrivate: true);
            files.Add(new(edit.Path, backup, HashOf(edit.After ?? "")) { Server = server, Keeper = keeper?.Id.Name });
        }
        var complete = record with { Files = files, OldTarget = record.Link is null ? null : AtomicFiles.LinkTarget(record.Link) };
        AtomicFiles.Write(
            Path.Combine(folder, "record.json"),
            JsonSerializer.SerializeToUtf8Bytes(complete, AgentJson.Default.SwapRecord),
            isPrivate: true
        );
        return complete;
    }

    public void Close(long order) => Directory.Delete(FolderOf(order), recursive: true);

    /// <summary>Swaps that a kill left open. A folder without its record was cut off before any change.</summary>
    public IReadOnlyList<SwapRecord> Unfinished()
    {
        var found = new List<SwapRecord>();
        if (!Directory.Exists(Root))
            return found;
        foreach (var folder in Directory.GetDirectories(Root).Order(StringComparer.Ordinal))
        {
            var path = Path.Combine(folder, "record.json");
            if (File.Exists(path) && JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.SwapRecord) is { } r)
                found.Add(r);
            else
                Directory.Delete(folder, recursive: true);
        }
        return found;
    }

    /// <summary>Puts files and link back. A file that somebody else changed since is left alone and named.</summary>
    public IReadOnlyList<string> Restore(SwapRecord record, Func<string, IConnector?> instanceOf)
    {
        var left = new List<string>();
        foreach (var f in record.Files)
            if (f.Keeper is null ? !RestoreFile(record, f) : !RestoreKept(record, f, instanceOf(f.Keeper)))
                left.Add(f.Path);
        if (record.Link is { } link && AtomicFiles.LinkTarget(link) == record.NewTarget && record.OldTarget != record.NewTarget)
        {
            if (record.OldTarget is { } old)
                AtomicFiles.Link(link, old);
            // Files that name the link must not point to nothing while they are left as they are.
            else if (left.Count == 0)
                File.Delete(link);
        }
        return left;
    }

    private string? Before(SwapRecord record, SwapFile f) =>
        f.Backup is null ? null : ByteText.Of(File.ReadAllBytes(Path.Combine(FolderOf(record.Order), f.Backup)));

    /// <exception cref="BeaconProblem">Its server is not looked after any more, or does not let itself be changed.</exception>
    private bool RestoreKept(SwapRecord record, SwapFile f, IConnector? keeper)
    {
        if (keeper?.Settings is not { } settings)
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{f.Keeper}, whose settings were changed, is not in agent.json any more.",
                "Name it there again, so that they can be put back."
            );
        var (before, now) = (Before(record, f) ?? "", keeper.Files.Read(f.Path));
        if (now != before && HashOf(now) != f.AfterHash)
            return false;
        settings.Write(f.Path, before);
        return true;
    }

    private bool RestoreFile(SwapRecord record, SwapFile f)
    {
        var before = Before(record, f);
        var now = File.Exists(f.Path) ? ByteText.Of(File.ReadAllBytes(f.Path)) : null;
        if (now == before)
            return true;
        // What we take away leaves nothing; nothing where something of ours should be is somebody else's doing.
        if (HashOf(now ?? "") != f.AfterHash)
            return false;
        if (before is null)
            File.Delete(f.Path);
        else if (now is null)
            AtomicFiles.Create(f.Path, ByteText.Bytes(before), f.Server);
        else
            AtomicFiles.Replace(f.Path, ByteText.Bytes(before), f.Server);
        return true;
    }

    private static string HashOf(string text) => Convert.ToHexStringLower(SHA256.HashData(ByteText.Bytes(text)));
}
