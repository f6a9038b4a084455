using System.IO.Enumeration;
using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>A directive together with the file it stands in.</summary>
internal sealed record Placed(NginxFile File, Directive Directive);

/// <summary>The main file with everything it includes.</summary>
internal sealed class NginxConfiguration
{
    private const int MaxFiles = 2000;
    private const long MostExpanded = 64 << 20;
    private readonly Dictionary<string, NginxFile> _files = [];
    private readonly Dictionary<string, long> _sizes = [];
    private readonly HashSet<string> _open = [];

    /// <summary>A configuration is what it was when it was loaded, and is gone through many times.</summary>
    private readonly Dictionary<string, IReadOnlyList<string>> _resolved = [];
    private readonly string _folder;
    private readonly IFiles _view;

    private NginxConfiguration(string mainPath, IFiles view)
    {
        Main = Path.GetFullPath(mainPath);
        _folder = Path.GetDirectoryName(Main)!;
        _view = view;
    }

    public string Main { get; }
    public IReadOnlyCollection<NginxFile> Files => _files.Values;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    public static NginxConfiguration Load(string mainPath, IFiles view)
    {
        var c = new NginxConfiguration(mainPath, view);
        c.Add(c.Main, 0);
        return c;
    }

    private void Add(string path, int depth)
    {
        if (_open.Contains(path))
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} includes itself, directly or through others.",
                "Take out the include that leads back to it."
            );
        if (_files.ContainsKey(path))
            return;
        if (depth > 20 || _files.Count >= MaxFiles)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} is included too deeply, or there are over {MaxFiles} files.",
                "Look for files that include each other."
            );
        var file = NginxSyntax.Read(path, _view.Read(path));
        _files[path] = file;
        _open.Add(path);
        long size = file.Text.Length;
        foreach (var include in All(file.Directives).Where(d => d is { Name: "include", Children: null, Args.Count: 1 }))
        foreach (var p in Resolve(include.Args[0]))
        {
            Add(p, depth + 1);
            size += _sizes[p];
        }
        _open.Remove(path);
        _sizes[path] = size;
        // A file counts as often as it is included.
        if (size > MostExpanded)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"{path} with everything that it includes is larger than {MostExpanded >> 20} MiB.",
                "Look for a file that is included very often."
            );
    }

    /// <summary>Directives of a name in any block of any file.</summary>
    public IEnumerable<Directive> Everywhere(string name) => _files.Values.SelectMany(f => All(f.Directives)).Where(d => d.Name == name);

    private static IEnumerable<Directive> All(IEnumerable<Directive> list) =>
        list.SelectMany(d => d.Children is null ? [d] : All(d.Children).Prepend(d));

    /// <summary>Files of an include, in the order nginx reads them. A pattern may match nothing; a plain name must be there.</summary>
    public IReadOnlyList<string> Resolve(string pattern)
    {
        if (!_resolved.TryGetValue(pattern, out var known))
            _resolved[pattern] = known = Found(pattern);
        return known;
    }

    private IReadOnlyList<string> Found(string pattern)
    {
        var full = Path.GetFullPath(Path.Combine(_folder, pattern));
        if (!full.AsSpan().ContainsAny("*?["))
            return [full];
        IEnumerable<string> found = ["/"];
        var parts = full.Split('/', StringSplitOptions.RemoveEmptyEntries);
        for (var i = 0; i < parts.Length; i++)
        {
            var (part, last) = (parts[i], i == parts.Length - 1);
            found = part.AsSpan().ContainsAny("*?[")
                ? found
                    .SelectMany(d => (last ? _view.FilesIn(d) : _view.FoldersIn(d)).Where(f => Fits(part, Path.GetFileName(f))))
                    .Take(MaxFiles)
                : found.Select(d => Path.Combine(d, part));
        }
        return [.. found.Where(f => _view.Find(f) is not null).Order(StringComparer.Ordinal)];
    }

    // glob(7): a leading dot is not matched by a star.
    private static bool Fits(string pattern, string name) =>
        (name[0] != '.' || pattern[0] == '.') && FileSystemName.MatchesSimpleExpression(pattern, name, ignoreCase: false);

    /// <summary>Directives of a block with those of included files in their place.</summary>
    public IEnumerable<Placed> Expand(NginxFile file, IReadOnlyList<Directive> directives)
    {
        foreach (var d in directives)
            if (d is { Name: "include", Children: null, Args.Count: 1 })
            {
                foreach (var path in Resolve(d.Args[0]))
                    if (_files.TryGetValue(path, out var included))
                        foreach (var p in Expand(included, included.Directives))
                            yield return p;
            }
            else
                yield return new(file, d);
    }

    public IEnumerable<Placed> Top => Expand(_files[Main], _files[Main].Directives);

    public IEnumerable<Placed> Inside(Placed block) => Expand(block.File, block.Directive.Children ?? []);

    /// <summary>All server blocks of all http blocks, each with its http block.</summary>
    public IEnumerable<(Placed Server, Placed Http)> Servers() =>
        Top.Where(p => p.Directive.Name == "http").SelectMany(h => Inside(h).Where(p => p.Directive.Name == "server").Select(s => (s, h)));

    /// <summary>
    /// The whole configuration as one text: for a test run from the main file's own folder, so that every relative path means the same.
    /// </summary>
    /// <returns>The text, and for each of its lines the file and line it came from.</returns>
    public (string Text, IReadOnlyList<(string File, int Line)> Origins) Flatten()
    {
        var text = new StringBuilder();
        var origins = new List<(string, int)>();
        Emit(_files[Main], text, origins);
        return (text.ToString(), origins);
    }

    private void Emit(NginxFile file, StringBuilder output, List<(string, int)> origins)
    {
        var (at, line) = (0, 1);
        foreach (var include in All(file.Directives).Where(d => d is { Name: "include", Children: null, Args.Count: 1 }))
        {
            Copy(include.Start);
            foreach (var path in Resolve(include.Args[0]))
            {
                if (!_files.TryGetValue(path, out var included))
                    continue;
                NewLine();
                Emit(included, output, origins);
                NewLine();
            }
            for (; at < include.End; at++)
                if (file.Text[at] == '\n')
                    line++;
        }
        Copy(file.Text.Length);

        void Copy(int to)
        {
            for (; at < to; at++)
            {
                if (output.Length == 0 || output[^1] == '\n')
                    origins.Add((file.Path, line));
                output.Append(file.Text[at]);
                if (file.Text[at] == '\n')
                    line++;
            }
        }

        void NewLine()
        {
            if (output.Length == 0 || output[^1] == '\n')
                return;
            output.Append('\n');
        }
    }
}
