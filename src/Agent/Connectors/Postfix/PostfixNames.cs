using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Connectors.Postfix;

/// <summary>A name with a certificate of its own, and where that stands.</summary>
/// <param name="Name">As clients ask for it; a key that begins with a dot is a wildcard.</param>
/// <param name="Files">Key and certificates: one file, or several for several kinds of keys.</param>
internal sealed record NamedCertificate(string Name, NameTable Table, int Line, int ValueStart, int ValueEnd, IReadOnlyList<string> Files)
{
    public string Place => $"{Table.Source}:{Line}";

    /// <summary>A name that a client would ask for.</summary>
    public string Asked => Name.StartsWith("*.", StringComparison.Ordinal) ? "any" + Name[1..] : Name;
}

/// <summary>A table of names and their certificates (postconf(5), <c>tls_server_sni_maps</c>).</summary>
/// <param name="Type">As Postfix calls it: <c>hash</c>, <c>texthash</c> …</param>
/// <param name="Source">The text that it is made of.</param>
internal sealed record NameTable(string Type, string Source)
{
    // Of those that are made of a text in which files are named; the others know their content in other ways.
    private static readonly Dictionary<string, string?> Endings = new()
    {
        ["hash"] = ".db",
        ["btree"] = ".db",
        ["cdb"] = ".cdb",
        ["lmdb"] = ".lmdb",
        ["texthash"] = null,
    };

    /// <summary>The file that the server reads, with keys and certificates in it; null when it reads the text.</summary>
    public string? Built => Endings[Type] is { } ending ? Source + ending : null;

    public static IReadOnlyList<NameTable> Of(string? setting) =>
        [
            .. (setting ?? "")
                .Split([',', ' ', '\t'], StringSplitOptions.RemoveEmptyEntries)
                .Select(m => m.Split(':', 2))
                .Where(m => m.Length == 2 && Endings.ContainsKey(m[0]) && m[1].StartsWith('/'))
                .Select(m => new NameTable(m[0], m[1])),
        ];

    /// <summary>Its names, as postmap(1) reads them: a key, then files; what begins with a blank goes on with the line before.</summary>
    public IReadOnlyList<NamedCertificate> Read(string text)
    {
        var found = new List<NamedCertificate>();
        foreach (var (start, end, line) in PostfixConfiguration.LogicalLines(text))
        {
            var gap = text.IndexOfAny([' ', '\t', '\r', '\n'], start, end - start);
            // A name without a file is none to the server either.
            if (gap < 0)
                continue;
            var key = text[start..gap].ToLowerInvariant();
            var (from, to) = (gap, end);
            while (from < to && char.IsWhiteSpace(text[from]))
                from++;
            while (to > from && char.IsWhiteSpace(text[to - 1]))
                to--;
            var name = key.StartsWith('.') ? "*" + key : key;
            if (AlternativeName.TryParse(name, out _, out _))
                found.Add(
                    new(
                        name,
                        this,
                        line,
                        from,
                        to,
                        text[from..to].Split([',', ' ', '\t', '\r', '\n'], StringSplitOptions.RemoveEmptyEntries)
                    )
                );
        }
        return found;
    }
}

/// <summary>Builds what the server reads of a table.</summary>
internal static class TableBuilding
{
    private const string Staging = ".beacon-names-";

    /// <summary>Beside it, in a folder that nobody else enters: there are keys in it. It takes the place of the one before when it is whole.</summary>
    /// <param name="postmap">The program.</param>
    /// <returns>Why it cannot be built, the one before being as it was; null when it is.</returns>
    public static string? Build(NameTable table, string postmap)
    {
        if (table.Built is not { } built || !File.Exists(table.Source))
            return null;
        var beside = Path.GetDirectoryName(built)!;
        // What a death has left has keys in it.
        foreach (var left in new DirectoryInfo(beside).GetDirectories(Staging + "*").Where(d => d.LinkTarget is null))
            left.Delete(recursive: true);
        var folder = Path.Combine(beside, $"{Staging}{Guid.NewGuid():N}");
        Directory.CreateDirectory(folder, AtomicFiles.PrivateFolder);
        var text = File.ReadAllBytes(table.Source);
        return Try(table, text, postmap, folder, staged => File.Move(staged, built, overwrite: true));
    }

    /// <summary>Whether a text would build; it is gone afterwards.</summary>
    /// <returns>What it would not do for; null when it would.</returns>
    public static string? Complaint(NameTable table, byte[] text, string postmap) =>
        Try(table, text, postmap, Directory.CreateTempSubdirectory("beacon-check-").FullName, _ => { });

    /// <param name="folder">One of its own, which goes.</param>
    private static string? Try(NameTable table, byte[] text, string postmap, string folder, Action<string> use)
    {
        try
        {
            var staged = table with { Type = table.Built is null ? "hash" : table.Type, Source = Path.Combine(folder, "names") };
            AtomicFiles.Write(staged.Source, text, isPrivate: true);
            var (code, _, error) = ServerProcess.Run(postmap, "-F", $"{staged.Type}:{staged.Source}");
            // A name whose file it cannot read it leaves out with a warning: that name would lose its certificate.
            var said = error.Split('\n', StringSplitOptions.RemoveEmptyEntries).FirstOrDefault();
            if (code != 0 || said is not null || !File.Exists(staged.Built))
                return (said ?? $"it ended with {code}")
                    .Replace("postmap: ", "", StringComparison.Ordinal)
                    .Replace("warning: ", "", StringComparison.Ordinal)
                    .Replace(": skipping this entry", "", StringComparison.Ordinal)
                    .Replace(staged.Source, table.Source, StringComparison.Ordinal)
                    .TrimEnd('.');
            File.SetUnixFileMode(staged.Built, UnixFileMode.UserRead | UnixFileMode.UserWrite);
            use(staged.Built);
            return null;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }
}
