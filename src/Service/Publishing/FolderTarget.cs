using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Publishing;

/// <summary>A folder, as of a web server on this machine. Each file takes the older one's place at once: a full disk leaves the older one.</summary>
internal sealed class FolderTarget(string folder) : IPushTarget
{
    public string Name => "folder:" + folder;

    public async Task PushAsync(IReadOnlyList<PublishedFile> files, CancellationToken ct)
    {
        try
        {
            Directory.CreateDirectory(folder);
            foreach (var f in files)
            {
                var (path, beside) = (Path.Combine(folder, f.Name), Path.Combine(folder, $".{f.Name}.new"));
                if (!File.Exists(path) || !(await File.ReadAllBytesAsync(path, ct)).AsSpan().SequenceEqual(f.Bytes))
                {
                    await using (var to = new FileStream(beside, FileMode.Create, FileAccess.Write))
                    {
                        await to.WriteAsync(f.Bytes, ct);
                        to.Flush(flushToDisk: true);
                    }
                    File.Move(beside, path, overwrite: true);
                }
                PushPublished.Compare(f, await File.ReadAllBytesAsync(path, ct), Name);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"{Name} cannot be written: {e.Message}",
                "Free space there, or let the service's account write there; what was there stays, and it is tried again.",
                e
            );
        }
    }
}
