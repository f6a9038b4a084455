using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>Remembers what a binding changed, and works out how it is taken out of files that others may have edited since: the same for every kind of server.</summary>
internal static class Bindings
{
    /// <summary>The memory after one more binding of a service: what was there before the first of them.</summary>
    /// <param name="earlier">Memory of an earlier binding.</param>
    /// <param name="edits">What this one changes.</param>
    public static BoundRecord After(
        string service,
        string certificate,
        BoundRecord? earlier,
        ChangeSet? earlierRemoval,
        IReadOnlyList<FileEdit> edits,
        IFiles now,
        BoundRecord? demand = null
    )
    {
        // Records of earlier agents: what their removal would leave is what was there before.
        var kept = earlierRemoval is null
            ? earlier?.Files ?? []
            : [.. earlierRemoval.Edits.Select(e => new FileEdit(e.Path, e.After, now.Find(e.Path)))];
        var byPath = kept.ToDictionary(e => e.Path);
        foreach (var edit in edits.Select(e => Below(e, demand)))
            byPath[edit.Path] = byPath.TryGetValue(edit.Path, out var first) ? edit with { Before = Undone(first, edit.Before) } : edit;
        return new(service, certificate, [.. byPath.Values]);
    }

    /// <summary>An edit as it would be, were TLS not required: that is taken back before a binding is.</summary>
    private static FileEdit Below(FileEdit edit, BoundRecord? demand) =>
        demand?.Files?.FirstOrDefault(f => f.Path == edit.Path) is { } layer
            ? edit with
            {
                Before = Undone(layer, edit.Before),
                After = Undone(layer, edit.After),
            }
            : edit;

    // Where somebody has changed the very lines that we changed, what stood there last is what was there before.
    private static string? Undone(FileEdit first, string? now)
    {
        try
        {
            return Revert(first, now);
        }
        catch (BeaconProblem)
        {
            return now;
        }
    }

    /// <summary>Takes a binding out; everything that others changed since stays.</summary>
    /// <param name="used">Files of the store that nothing may name afterwards; null when that does not matter.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationUnsupported"/>: somebody changed the same lines.</exception>
    public static ChangeSet Remove(BoundRecord bound, UsedFiles? used, IFiles files)
    {
        var edits = new List<FileEdit>();
        foreach (var kept in bound.Files ?? [])
        {
            var now = files.Find(kept.Path);
            var after = Revert(kept, now);
            if (used is not null && after?.Split('\n').FirstOrDefault(l => Names(l, used)) is { } line)
                throw new BeaconProblem(
                    ProblemCode.ConfigurationUnsupported,
                    $"{kept.Path} names our files in lines that somebody changed since: {ByteText.Show(line.Trim())}. Nothing was changed.",
                    "Take that line out of the file, then unbind again."
                );
            if (after != now)
                edits.Add(new(kept.Path, now, after));
        }
        var steps =
            edits.Count == 0
                ? new[] { $"Nothing of ours is in the configuration of {bound.Service}." }
                : [.. edits.Select(e => $"{e.Path} is put back as it was before{(used is null ? "" : $" {bound.Service} was bound")}.")];
        return new(
            bound.Service,
            [],
            edits,
            [],
            [],
            steps,
            ["Clients that use the certificate now lose it, with what was in place before."]
        );
    }

    private static bool Names(string line, UsedFiles used) =>
        line.TrimStart() is not ['#', ..]
        && (
            line.Contains(ByteText.From(used.Certificates), StringComparison.Ordinal)
            || line.Contains(ByteText.From(used.Key), StringComparison.Ordinal)
        );

    private static string? Revert(FileEdit kept, string? now)
    {
        if (now == kept.After)
            return kept.Before;
        if (now is null || now == kept.Before)
            return now;
        if (kept.Before is null || kept.After is null)
            throw Changed(kept.Path, null);
        try
        {
            return TextDiff.Merge(kept.After, kept.Before, now);
        }
        catch (BeaconProblem p)
        {
            throw Changed(kept.Path, p);
        }
    }

    private static BeaconProblem Changed(string path, BeaconProblem? cause) =>
        new(
            ProblemCode.ConfigurationUnsupported,
            $"Somebody has changed the lines in {path} that we put there. Nothing was changed.",
            "Take our lines out by hand, then unbind again; or bind again.",
            cause
        );
}
