using System.IO.Enumeration;
using System.Text;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>
/// Configuration files as text in which each character is one byte, so that a file in any encoding comes back to the byte.
/// </summary>
internal static class ByteText
{
    public static string Of(byte[] bytes) => Encoding.Latin1.GetString(bytes);

    public static byte[] Bytes(string text) => Encoding.Latin1.GetBytes(text);

    /// <summary>Something of ours, as a path, for a configuration.</summary>
    public static string From(string unicode) => Of(Encoding.UTF8.GetBytes(unicode));

    /// <summary>For people.</summary>
    public static string Show(string text) => Encoding.UTF8.GetString(Bytes(text));

    /// <summary>What a line is ended by in a file, so that what we put into it looks like the rest.</summary>
    public static string NewLineOf(string text) => text.Contains("\r\n", StringComparison.Ordinal) ? "\r\n" : "\n";
}

/// <summary>A view of files: the machine's own, or what they would be after edits. Paths are full.</summary>
internal interface IFiles
{
    /// <summary>A file's <see cref="ByteText"/>; null when it is not there.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/>: it is there and cannot be read, or is too large.</exception>
    string? Find(string path);

    /// <summary>Full paths of a folder's files; empty when it is not there.</summary>
    IReadOnlyList<string> FilesIn(string folder);

    /// <summary>Full paths of a folder's folders; empty when it is not there.</summary>
    IReadOnlyList<string> FoldersIn(string folder);
}

internal static class FilesReading
{
    /// <summary>A folder's files that a pattern with wildcards in its last part means, in the order in which servers read them.</summary>
    /// <param name="pattern">A full path.</param>
    public static IReadOnlyList<string> Matching(this IFiles files, string pattern)
    {
        var (folder, name) = (Path.GetDirectoryName(pattern) ?? "/", Path.GetFileName(pattern));
        return
        [
            .. files
                .FilesIn(folder)
                .Where(f => FileSystemName.MatchesSimpleExpression(name, Path.GetFileName(f), ignoreCase: false))
                .Order(StringComparer.Ordinal),
        ];
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/>: it is not there, or is no text.</exception>
    public static string Read(this IFiles files, string path)
    {
        var text =
            files.Find(path)
            ?? throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} is not there.",
                "Check the path in the server's configuration, or in agent.json."
            );
        // What the server would read up to there, a path of ours could not hold.
        return text.Contains('\0')
            ? throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path}, line {text[..text.IndexOf('\0')].Count(c => c == '\n') + 1}: there is a zero byte in the file.",
                "Take it out; the file may have been written by half."
            )
            : text;
    }
}

/// <summary>The machine's own files.</summary>
/// <param name="reader">Account of the server: what it could not read itself is not read for it. Null: the agent's own rights count.</param>
internal sealed class HostFiles(ServerAccount? reader = null) : IFiles
{
    public const int MaxBytes = 4 << 20;

    public string? Find(string path)
    {
        try
        {
            if (SafeFolder.OpenRegular(path) is not { } handle)
                return null;
            using var file = new FileStream(handle, FileAccess.Read);
            if (file.Length > MaxBytes)
                throw new BeaconProblem(ProblemCode.TooLarge, $"{path} is larger than 4 MiB.", "Split the file.");
            if (reader is { } account && !account.CanRead(handle))
                throw new BeaconProblem(
                    ProblemCode.ConfigurationBroken,
                    $"{path} cannot be read by the account {account.Name} that the server runs as.",
                    $"Let it read the file, or name another: ls -l {path}."
                );
            var bytes = new byte[file.Length];
            file.ReadExactly(bytes);
            return ByteText.Of(bytes);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} cannot be read: {e.Message}",
                "Check that the file is there and readable for the agent.",
                e
            );
        }
    }

    public IReadOnlyList<string> FilesIn(string folder) => Directory.Exists(folder) ? Directory.GetFiles(folder) : [];

    public IReadOnlyList<string> FoldersIn(string folder) => Directory.Exists(folder) ? Directory.GetDirectories(folder) : [];
}

/// <summary>Files as they would be after edits: a second plan is made on what the first leaves.</summary>
internal sealed class Overlay(IFiles below) : IFiles
{
    private readonly Dictionary<string, FileEdit> _edits = [];

    /// <summary>One edit for each path, from what is there now to what shall be.</summary>
    public IReadOnlyList<FileEdit> Edits => [.. _edits.Values.Where(e => e.Before != e.After)];

    public void Add(IEnumerable<FileEdit> edits)
    {
        foreach (var e in edits)
            _edits[e.Path] = _edits.TryGetValue(e.Path, out var first) ? e with { Before = first.Before } : e;
    }

    public string? Find(string path) => _edits.TryGetValue(path, out var edit) ? edit.After : below.Find(path);

    public IReadOnlyList<string> FilesIn(string folder)
    {
        var there = below.FilesIn(folder).Where(f => !_edits.TryGetValue(f, out var e) || e.After is not null);
        var added = _edits.Values.Where(e => e.After is not null && Path.GetDirectoryName(e.Path) == folder).Select(e => e.Path);
        return [.. there.Concat(added).Distinct()];
    }

    public IReadOnlyList<string> FoldersIn(string folder) => below.FoldersIn(folder);
}
