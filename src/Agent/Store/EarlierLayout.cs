namespace OrderlyBeacon.Agent.Store;

/// <summary>
/// The store's form until version 0.1: <c>live/NAME</c> linked to the entry, with <c>chain.pem</c> and <c>key.pem</c> in it. Servers that were configured with those
/// paths keep being served; each is configured with today's at its next swap. Every step can be cut off and is finished at the next start.
/// </summary>
internal static class EarlierLayout
{
    public const string Links = "live",
        Certificates = "chain.pem",
        Key = "key.pem";

    public static void TakeOver(string root, string keyed)
    {
        if (Directory.Exists(keyed))
            foreach (var entry in Directory.GetDirectories(keyed).Where(IsEarlier))
                TakeOverEntry(entry);
        var links = Path.Combine(root, Links);
        if (!Directory.Exists(links))
            return;
        foreach (var link in Directory.EnumerateFileSystemEntries(links))
        {
            var today = Path.Combine("..", "in-use", Path.GetFileName(link));
            if (AtomicFiles.LinkTarget(link) is not { } target || target == today)
                continue;
            var inUse = Path.Combine(root, "in-use", Path.GetFileName(link));
            if (AtomicFiles.LinkTarget(inUse) is null)
                AtomicFiles.Link(inUse, target);
            // From here one link turns for both.
            AtomicFiles.Link(link, today);
        }
    }

    private static bool IsEarlier(string entry) =>
        !Directory.Exists(Path.Combine(entry, StoreFiles.Pair))
        && File.Exists(Path.Combine(entry, Certificates))
        && File.Exists(Path.Combine(entry, Key));

    private static void TakeOverEntry(string entry)
    {
        var making = Path.Combine(entry, "pair.making");
        if (Directory.Exists(making))
            Directory.Delete(making, recursive: true);
        Copy(Key, StoreFiles.Key, isPrivate: true);
        Copy(Certificates, StoreFiles.Certificates, isPrivate: false);
        AtomicFiles.MoveFolder(making, Path.Combine(entry, StoreFiles.Pair));
        LinkFiles(entry);

        void Copy(string earlier, string today, bool isPrivate) =>
            AtomicFiles.Write(Path.Combine(making, Path.GetFileName(today)), File.ReadAllBytes(Path.Combine(entry, earlier)), isPrivate);
    }

    /// <summary>The earlier names of an entry's files, as links.</summary>
    public static void LinkFiles(string entry)
    {
        AtomicFiles.Link(Path.Combine(entry, Certificates), StoreFiles.Certificates);
        AtomicFiles.Link(Path.Combine(entry, Key), StoreFiles.Key);
    }
}
