using System.Globalization;

namespace OrderlyBeacon.Agent.Store;

/// <summary>
/// Labels of entries. Programs that pick their certificate by a label take the one that has it, so one entry has it at most: who carried it before is renamed, and gets
/// it back when that is undone. Each step can be cut off and is finished when it is done again.
/// </summary>
internal sealed class Labels(CertificateStore store)
{
    /// <returns>What was done, for people.</returns>
    public IReadOnlyList<string> Give(StoreEntry entry, string label)
    {
        if (entry.File.Label == label)
            return [$"\"{entry.File.Certificate}\" has the label \"{label}\" already."];
        var told = new List<string>();
        foreach (var holder in store.Entries().Where(e => e.File.Label == label && e.Folder != entry.Folder).ToList())
        {
            var renamed = Former(holder, label);
            store.Describe(holder, holder.File with { Label = renamed, FormerLabel = label });
            told.Add($"\"{holder.File.Certificate}\" carried the label \"{label}\"; it is called \"{renamed}\" now.");
        }
        store.Describe(entry, entry.File with { Label = label, FormerLabel = entry.File.Label ?? "" });
        told.Add($"\"{entry.File.Certificate}\" has the label \"{label}\".");
        return told;
    }

    public IReadOnlyList<string> Undo(StoreEntry entry)
    {
        if (entry.File is not { Label: { } label, FormerLabel: { } former })
            return ["There is nothing to undo: its label was not changed."];
        store.Describe(entry, entry.File with { Label = former.Length == 0 ? null : former, FormerLabel = null });
        var told = new List<string> { former.Length == 0 ? "It has no label again." : $"It is called \"{former}\" again." };
        if (store.Entries().Where(e => e.File.FormerLabel == label).MaxBy(e => e.File.NotAfter) is { } before)
        {
            store.Describe(before, before.File with { Label = label, FormerLabel = null });
            told.Add($"\"{before.File.Certificate}\" has the label \"{label}\" again.");
        }
        return told;
    }

    /// <summary>A new edition takes over what the one before it was called.</summary>
    public void PassOn(StoreEntry next)
    {
        if (
            next.File.Label is null
            && store
                .Entries()
                .Where(e => e.File.Certificate == next.File.Certificate && e.Folder != next.Folder && !store.IsArchived(e))
                .Where(e => e.File.Label is not null && e.File.Label != Former(e, e.File.FormerLabel ?? ""))
                .MaxBy(e => e.File.NotAfter)
                is { } before
        )
            Give(next, before.File.Label!);
    }

    private static string Former(StoreEntry e, string label) =>
        string.Create(CultureInfo.InvariantCulture, $"{label} (until {e.File.NotAfter:yyyy-MM-dd}, {e.File.Serial[..8]})");
}
