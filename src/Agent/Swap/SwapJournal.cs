using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>A file that a swap changes, with its restore point beside the record.</summary>
/// <param name="Backup">Name of the copy in the swap's folder.</param>
/// <param name="AfterHash">SHA-256 of what the swap writes: anything else there was written by somebody else since.</param>
internal sealed record SwapFile(string Path, string Backup, string AfterHash);

/// <summary>What must be known to undo a swap after a kill. It is on the disk before the first change and goes when the swap is confirmed.</summary>
/// <param name="Link">The live link that is turned; null when none is.</param>
/// <param name="OldTarget">Where it pointed; null when it was not there.</param>
internal sealed record SwapRecord(
    long Order,
    string Connector,
    string? Certificate,
    string? Serial,
    string? Link,
    string? OldTarget,
    string? NewTarget,
    IReadOnlyList<SwapFile> Files
);

/// <summary>Records of swaps that are not confirmed: folder <c>swaps/order-N</c> with <c>record.json</c> and the copies.</summary>
internal sealed class SwapJournal(string state)
{
    private string Root => Path.Combine(state, "swaps");

    private string FolderOf(long order) => Path.Combine(Root, $"order-{order}");

    public SwapRecord Open(
        long order,
        string connector,
        string? certificate,
        string? serial,
        string? link,
        string? newTarget,
        IReadOnlyList<FileEdit> edits
    )
    {
        var folder = FolderOf(order);
        if (Directory.Exists(folder))
            Directory.Delete(folder, recursive: true);
        var files = new List<SwapFile>();
        foreach (var e in edits)
        {
            var backup = $"file-{files.Count}";
            AtomicFiles.Write(Path.Combine(folder, backup), Encoding.UTF8.GetBytes(e.Before), isPrivate: true);
            files.Add(new(e.Path, backup, HashOf(e.After)));
        }
        var record = new SwapRecord(
            order,
            connector,
            certificate,
            serial,
            link,
            link is null ? null : AtomicFiles.LinkTarget(link),
            newTarget,
            files
        );
        AtomicFiles.Write(
            Path.Combine(folder, "record.json"),
            JsonSerializer.SerializeToUtf8Bytes(record, AgentJson.Default.SwapRecord),
            isPrivate: true
        );
        return record;
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
    public IReadOnlyList<string> Restore(SwapRecord record)
    {
        var left = new List<string>();
        foreach (var f in record.Files)
        {
            var before = File.ReadAllText(Path.Combine(FolderOf(record.Order), f.Backup));
            var now = File.Exists(f.Path) ? File.ReadAllText(f.Path) : null;
            if (now == before)
                continue;
            if (now is not null && HashOf(now) == f.AfterHash)
                AtomicFiles.Replace(f.Path, Encoding.UTF8.GetBytes(before));
            else
                left.Add(f.Path);
        }
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

    private static string HashOf(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
}

/// <summary>What was in each service's configuration before it was bound: <c>bound/NAME.json</c>.</summary>
internal sealed class BoundBook(string state)
{
    private string PathOf(string service) => Path.Combine(state, "bound", CertificateStore.FolderName(service) + ".json");

    // Until 0.1 different names could share a file: what stands in it says whose it is.
    private string EarlierPathOf(string service) =>
        Path.Combine(
            state,
            "bound",
            string.Concat(service.Select(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' ? c : '_')) + ".json"
        );

    public BoundRecord? Find(string service) => Read(PathOf(service), service) ?? Read(EarlierPathOf(service), service);

    private static BoundRecord? Read(string path, string service) =>
        File.Exists(path)
        && JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.BoundRecord) is { } record
        && record.Service == service
            ? record
            : null;

    public void Keep(BoundRecord record) =>
        AtomicFiles.Write(
            PathOf(record.Service),
            JsonSerializer.SerializeToUtf8Bytes(record, AgentJson.Default.BoundRecord),
            isPrivate: true
        );

    public void Forget(string service)
    {
        File.Delete(PathOf(service));
        if (Read(EarlierPathOf(service), service) is not null)
            File.Delete(EarlierPathOf(service));
    }
}
