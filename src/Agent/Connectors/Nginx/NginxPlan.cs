using OrderlyBeacon.Agent.Probes;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>Works out the edits that put a certificate into a site, or take it out again. Changes nothing itself.</summary>
internal static class NginxPlan
{
    /// <summary>A site without TLS gets a listener on the wanted port; else on the port that other sites use for TLS, else on 443.</summary>
    public static ChangeSet Bind(NginxConfiguration configuration, BindChange change)
    {
        var (service, files, port, _) = change;
        var sites = NginxSites.Find(configuration);
        var site = Find(sites, service);
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        var warnings = new List<string>();
        var targets = new List<Probe>();
        var newPorts = new List<(string, int)>();
        if (site.TlsBlocks.Count > 0)
        {
            foreach (var block in site.TlsBlocks)
            {
                if (block.Certificates.Count > 1)
                    throw new BeaconProblem(
                        ProblemCode.ConfigurationUnsupported,
                        $"{site.Name} names {block.Certificates.Count} certificates in {Where(block.Certificates[0])}; it is not clear which to replace.",
                        "Leave one ssl_certificate and one ssl_certificate_key in its server block."
                    );
                foreach (var named in block.Certificates.Concat(block.Keys))
                {
                    ThrowIfShared(named, site, sites);
                    ThrowIfVariable(named, site);
                }
                if (block.Certificates.Concat(block.Keys).FirstOrDefault(d => d.Directive.Args.Count != 1) is { } odd)
                    throw new BeaconProblem(
                        ProblemCode.ConfigurationUnsupported,
                        $"{odd.Directive.Name} in {Where(odd)} does not name one file.",
                        "Correct it first; nginx -t names the same place."
                    );
                Set(block, "ssl_certificate", block.Certificates.FirstOrDefault(), files.Certificates);
                Set(block, "ssl_certificate_key", block.Keys.FirstOrDefault(), files.Key);
                targets.AddRange(block.Listeners.Where(l => l.Tls).Select(l => new Probe(l.Reachable, l.Port, site.Name)));
            }
            if (site.TlsBlocks.Any(b => b.Certificates.Count == 0))
                warnings.Add("The site took its certificate from the http block; it gets lines of its own, other sites stay as they are.");
            if (edits.Count == 0)
                steps.Add($"The configuration of {site.Name} names the certificate already; nothing in it changes.");
        }
        else
        {
            var block =
                site.Blocks.FirstOrDefault(b => !b.RedirectsToTls && b.Listeners.Count > 0)
                ?? throw new BeaconProblem(
                    ProblemCode.ConfigurationUnsupported,
                    $"{site.Name} only sends its clients on to https, and there is no site for that.",
                    "Write the site that shall answer on https, with its content, first."
                );
            var tlsPort =
                port
                ?? sites
                    .SelectMany(s => s.Endpoints)
                    .Where(e => e.Tls)
                    .GroupBy(e => e.Port)
                    .OrderByDescending(g => g.Count())
                    .Select(g => (int?)g.Key)
                    .FirstOrDefault()
                ?? 443;
            var listens = block
                .Listeners.Select(l => l.Address)
                .Distinct()
                .Select(a => a.Length == 0 ? $"{tlsPort} ssl" : $"{a}:{tlsPort} ssl")
                .ToList();
            var anchor = block
                .Listeners.Where(l => l.Directive.Name == "listen" && l.File == block.Place.File)
                .Select(l => l.Directive)
                .LastOrDefault();
            Insert(
                block,
                anchor,
                [
                    .. listens.Select(l => $"listen {l};"),
                    $"ssl_certificate {Quote(files.Certificates)};",
                    $"ssl_certificate_key {Quote(files.Key)};",
                ]
            );
            var already = sites.SelectMany(s => s.Endpoints).Select(e => (e.Address, e.Port)).ToHashSet();
            foreach (var l in block.Listeners.DistinctBy(l => l.Address))
            {
                targets.Add(new(l.Reachable, tlsPort, site.Name));
                if (!already.Contains((l.Reachable, tlsPort)))
                    newPorts.Add((l.Reachable, tlsPort));
            }
            steps.Add($"{site.Name} gets a TLS listener on {string.Join(", ", targets.Select(t => $"{t.Address}:{t.Port}"))}.");
            warnings.Add($"Port {block.Listeners[0].Port} stays open in the clear; send clients on to https when they are ready.");
        }
        return new(site.Name, site.Names, Apply(configuration, edits), [.. targets.Distinct()], newPorts, steps, warnings);

        void Set(ServerBlock block, string name, Placed? existing, string path)
        {
            if (existing?.Directive.Args is [var now] && now == ByteText.From(path))
                return;
            if (existing is null)
            {
                var anchor = block
                    .Listeners.Where(l => l.File == block.Place.File && l.Directive.Name == "listen")
                    .Select(l => l.Directive)
                    .LastOrDefault();
                Insert(block, anchor, [$"{name} {Quote(path)};"]);
            }
            else
            {
                var span = existing.Directive.ArgSpans[0];
                edits.Add(new(existing.File.Path, span.Start, existing.Directive.ArgSpans[^1].End, Quote(path)));
            }
            steps.Add($"{name} of {site.Name} ({Where(existing ?? block.Place)}) points to the store.");
        }

        void Insert(ServerBlock block, Directive? anchor, string[] lines)
        {
            var text = block.Place.File.Text;
            var newLine = ByteText.NewLineOf(text);
            if (anchor is not null)
            {
                var lineStart = text.LastIndexOf('\n', Math.Max(0, anchor.Start - 1)) + 1;
                var indent = string.IsNullOrWhiteSpace(text[lineStart..anchor.Start]) ? text[lineStart..anchor.Start] : null;
                // A comment behind the directive stays with it.
                var lineEnd = text.IndexOf(newLine, anchor.End, StringComparison.Ordinal) is var end && end < 0 ? text.Length : end;
                var at = indent is not null && text[anchor.End..lineEnd].TrimStart() is "" or ['#', ..] ? lineEnd : anchor.End;
                edits.Add(
                    new(block.Place.File.Path, at, at, string.Concat(lines.Select(l => (indent is null ? " " : newLine + indent) + l)))
                );
            }
            else
                edits.Add(
                    new(
                        block.Place.File.Path,
                        block.Place.Directive.BodyEnd,
                        block.Place.Directive.BodyEnd,
                        string.Concat(lines.Select(l => " " + l)) + " "
                    )
                );
        }
    }

    /// <summary>Takes out what we put in and puts back what was named before; everything else that changed meanwhile stays.</summary>
    public static ChangeSet Unbind(NginxConfiguration configuration, EarlierBound bound, string service, UsedFiles files)
    {
        var sites = NginxSites.Find(configuration);
        var site = Find(sites, service);
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        foreach (var block in site.Blocks)
        {
            foreach (var (list, old) in new[] { (block.Certificates, bound.OldCertificate), (block.Keys, bound.OldKey) })
            foreach (var p in list.Where(p => files.IsOurs(p.Directive.Args.FirstOrDefault())))
                if (old is null)
                    Remove(p);
                else
                    edits.Add(new(p.File.Path, p.Directive.ArgSpans[0].Start, p.Directive.ArgSpans[^1].End, QuoteText(old)));
            foreach (
                var l in block.Listeners.Where(l =>
                    l.Directive.Name == "listen" && bound.AddedListeners.Contains(string.Join(' ', l.Directive.Args))
                )
            )
                Remove(new(l.File, l.Directive));
        }
        steps.Add(
            edits.Count == 0 ? $"Nothing of ours is in the configuration of {site.Name}."
            : bound.OldCertificate is { } before ? $"{site.Name} names {before} again."
            : $"{site.Name} loses its TLS listener and answers in the clear alone, as before."
        );
        return new(
            site.Name,
            site.Names,
            Apply(configuration, edits),
            [],
            [],
            steps,
            bound.OldCertificate is null ? ["Clients that use https lose the site."] : []
        );

        void Remove(Placed p)
        {
            var text = p.File.Text;
            var newLine = ByteText.NewLineOf(text);
            var (start, end) = (p.Directive.Start, p.Directive.End);
            while (start > 0 && text[start - 1] is ' ' or '\t')
                start--;
            // The line goes with its directive when nothing else stands on it.
            if (text.AsSpan(0, start).EndsWith(newLine) && text.AsSpan(end).StartsWith(newLine))
                start -= newLine.Length;
            edits.Add(new(p.File.Path, start, end, ""));
        }
    }

    /// <summary>A line that several sites read through an include cannot be changed for one of them: the others would get a certificate that is not theirs.</summary>
    private static void ThrowIfShared(Placed named, Site site, IReadOnlyList<Site> sites)
    {
        var others = sites
            .Where(s => s.Name != site.Name && s.Blocks.SelectMany(b => b.Certificates.Concat(b.Keys)).Any(p => IsSame(p, named)))
            .Select(s => s.Name)
            .ToList();
        if (others.Count > 0)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{named.Directive.Name} in {Where(named)} is shared: {string.Join(", ", others)} would get the certificate of {site.Name} too.",
                $"Take the two lines out of the included file and write them into each site's own server block; then bind {site.Name}."
            );
    }

    private static bool IsSame(Placed a, Placed b) => a.File.Path == b.File.Path && a.Directive.Start == b.Directive.Start;

    private static void ThrowIfVariable(Placed named, Site site)
    {
        if (named.Directive.Args.Any(a => a.Contains('$', StringComparison.Ordinal)))
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{named.Directive.Name} of {site.Name} ({Where(named)}) depends on a variable: it stands for the files of many names.",
                $"Write a server block of its own for {site.Name}, with the paths of its files."
            );
    }

    private static Site Find(IReadOnlyList<Site> sites, string service) =>
        sites.FirstOrDefault(s => s.Name == service)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"There is no site {service} in nginx's configuration.",
            "See beacon service list; the site may have been removed."
        );

    private static string Where(Placed p) => $"{p.File.Path}:{p.Directive.Line}";

    private static List<FileEdit> Apply(NginxConfiguration configuration, List<TextEdit> edits) =>
        TextEdits.Apply(edits, path => configuration.Files.Single(f => f.Path == path).Text);

    private static string Quote(string path) => QuoteText(ByteText.From(path));

    private static string QuoteText(string path) =>
        path.AsSpan().ContainsAny(" ;{}\"'\\#$") ? "\"" + path.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"" : path;
}
