using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>Collects what binding one site changes, and what is said of it.</summary>
internal sealed class NginxBinding(Site site, IReadOnlyList<Site> sites, UsedFiles files)
{
    public const int Https = 443;
    private readonly List<TextEdit> _edits = [];
    private readonly List<string> _steps = [],
        _warnings = [];
    private readonly List<Probe> _targets = [];
    private readonly List<(string, int)> _newPorts = [];

    public ChangeSet Made(Func<List<TextEdit>, List<FileEdit>> apply) =>
        new(site.Name, site.Names, apply(_edits), [.. _targets.Distinct()], _newPorts, _steps, _warnings);

    /// <summary>A site that has TLS names our files where it named others.</summary>
    public void NameFiles()
    {
        foreach (var block in site.TlsBlocks)
        {
            ThrowIfUnclear(block);
            Set(block, "ssl_certificate", block.Certificates.FirstOrDefault(), files.Certificates);
            Set(block, "ssl_certificate_key", block.Keys.FirstOrDefault(), files.Key);
            _targets.AddRange(block.Listeners.Where(l => l.Tls).Select(l => new Probe(l.Reachable, l.Port, site.Name)));
        }
        if (site.TlsBlocks.Any(b => b.Certificates.Count == 0))
            _warnings.Add("The site took its certificate from the http block; it gets lines of its own, other sites stay as they are.");
        if (_edits.Count == 0)
            _steps.Add($"The configuration of {site.Name} names the certificate already; nothing in it changes.");
    }

    /// <summary>A site in the clear gets a TLS listener beside each of its own.</summary>
    public void AddListener(int? port)
    {
        var block =
            site.Blocks.FirstOrDefault(b => !b.RedirectsToTls && b.Listeners.Count > 0)
            ?? throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{site.Name} only sends its clients on to https, and there is no site for that.",
                "Write the site that shall answer on https, with its content, first."
            );
        var tlsPort = port ?? UsualPort() ?? Https;
        var listens = block
            .Listeners.Select(l => l.Address)
            .Distinct()
            .Select(a => a.Length == 0 ? $"{tlsPort} ssl" : $"{a}:{tlsPort} ssl")
            .Select(l => $"listen {l};");
        Insert(
            block,
            [.. listens, $"ssl_certificate {NginxPlan.Quote(files.Certificates)};", $"ssl_certificate_key {NginxPlan.Quote(files.Key)};"]
        );
        var already = sites.SelectMany(s => s.Endpoints).Select(e => (e.Address, e.Port)).ToHashSet();
        foreach (var l in block.Listeners.DistinctBy(l => l.Address))
        {
            _targets.Add(new(l.Reachable, tlsPort, site.Name));
            if (!already.Contains((l.Reachable, tlsPort)))
                _newPorts.Add((l.Reachable, tlsPort));
        }
        _steps.Add($"{site.Name} gets a TLS listener on {string.Join(", ", _targets.Select(t => $"{t.Address}:{t.Port}"))}.");
        _warnings.Add($"Port {block.Listeners[0].Port} stays open in the clear; send clients on to https when they are ready.");
    }

    /// <summary>The port that most sites use for TLS.</summary>
    private int? UsualPort() =>
        sites
            .SelectMany(s => s.Endpoints)
            .Where(e => e.Tls)
            .GroupBy(e => e.Port)
            .OrderByDescending(g => g.Count())
            .Select(g => (int?)g.Key)
            .FirstOrDefault();

    private void Set(ServerBlock block, string name, Placed? existing, string path)
    {
        if (existing?.Directive.Args is [var now] && now == ByteText.From(path))
            return;
        if (existing is null)
            Insert(block, [$"{name} {NginxPlan.Quote(path)};"]);
        else
        {
            var spans = existing.Directive.ArgSpans;
            _edits.Add(new(existing.File.Path, spans[0].Start, spans[^1].End, NginxPlan.Quote(path)));
        }
        _steps.Add($"{name} of {site.Name} ({NginxPlan.Where(existing ?? block.Place)}) points to the store.");
    }

    private void Insert(ServerBlock block, string[] lines) => _edits.Add(Insertion(block, lines));

    /// <summary>Behind the block's last listener, as that is indented; in a block without one, before its end.</summary>
    public static TextEdit Insertion(ServerBlock block, string[] lines)
    {
        var (path, text) = (block.Place.File.Path, block.Place.File.Text);
        var anchor = block
            .Listeners.Where(l => l.File == block.Place.File && l.Directive.Name == "listen")
            .Select(l => l.Directive)
            .LastOrDefault();
        if (anchor is null)
        {
            var bodyEnd = block.Place.Directive.BodyEnd;
            return new(path, bodyEnd, bodyEnd, string.Concat(lines.Select(l => " " + l)) + " ");
        }
        var newLine = ByteText.NewLineOf(text);
        var lineStart = text.LastIndexOf('\n', Math.Max(0, anchor.Start - 1)) + 1;
        var indent = string.IsNullOrWhiteSpace(text[lineStart..anchor.Start]) ? text[lineStart..anchor.Start] : null;
        // A comment behind the directive stays with it.
        var lineEnd = text.IndexOf(newLine, anchor.End, StringComparison.Ordinal) is var end && end < 0 ? text.Length : end;
        var isAlone = indent is not null && text[anchor.End..lineEnd].TrimStart() is "" or ['#', ..];
        var at = isAlone ? lineEnd : anchor.End;
        return new(path, at, at, string.Concat(lines.Select(l => (indent is null ? " " : newLine + indent) + l)));
    }

    private void ThrowIfUnclear(ServerBlock block)
    {
        if (block.Certificates.Count > 1)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{site.Name} names {block.Certificates.Count} certificates in {NginxPlan.Where(block.Certificates[0])}; it is not clear which to replace.",
                "Leave one ssl_certificate and one ssl_certificate_key in its server block."
            );
        var named = block.Certificates.Concat(block.Keys).ToList();
        foreach (var n in named)
        {
            ThrowIfShared(n);
            ThrowIfVariable(n);
        }
        if (named.Find(d => d.Directive.Args.Count != 1) is { } odd)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{odd.Directive.Name} in {NginxPlan.Where(odd)} does not name one file.",
                "Correct it first; nginx -t names the same place."
            );
    }

    /// <summary>A line that several sites read through an include cannot be changed for one of them: the others would get a certificate that is not theirs.</summary>
    private void ThrowIfShared(Placed named)
    {
        var others = sites
            .Where(s => s.Name != site.Name && s.Blocks.SelectMany(b => b.Certificates.Concat(b.Keys)).Any(p => IsSame(p, named)))
            .Select(s => s.Name)
            .ToList();
        if (others.Count > 0)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{named.Directive.Name} in {NginxPlan.Where(named)} is shared: {string.Join(", ", others)} would get the certificate of {site.Name} too.",
                $"Take the two lines out of the included file and write them into each site's own server block; then bind {site.Name}."
            );
    }

    private static bool IsSame(Placed a, Placed b) => a.File.Path == b.File.Path && a.Directive.Start == b.Directive.Start;

    private void ThrowIfVariable(Placed named)
    {
        if (named.Directive.Args.Any(a => a.Contains('$', StringComparison.Ordinal)))
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{named.Directive.Name} of {site.Name} ({NginxPlan.Where(named)}) depends on a variable: it stands for the files of many names.",
                $"Write a server block of its own for {site.Name}, with the paths of its files."
            );
    }
}
