using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>Works out the edits that put a certificate into a site, or take it out again. Changes nothing itself.</summary>
internal static class NginxPlan
{
    /// <summary>A site without TLS gets a listener on the wanted port; else on the port that other sites use for TLS, else on 443.</summary>
    public static ChangeSet Bind(NginxConfiguration configuration, BindChange change)
    {
        var sites = NginxSites.Find(configuration);
        var site = Find(sites, change.Service);
        var binding = new NginxBinding(site, sites, change.Files);
        if (site.TlsBlocks.Count > 0)
            binding.NameFiles();
        else
            binding.AddListener(change.Port);
        return binding.Made(edits => Apply(configuration, edits));
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
            (edits.Count, bound.OldCertificate) switch
            {
                (0, _) => $"Nothing of ours is in the configuration of {site.Name}.",
                (_, { } before) => $"{site.Name} names {before} again.",
                _ => $"{site.Name} loses its TLS listener and answers in the clear alone, as before.",
            }
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

    /// <summary>Plain listeners send their clients on to the site's TLS listener.</summary>
    public static ChangeSet RequireTls(NginxConfiguration configuration, string service)
    {
        var sites = NginxSites.Find(configuration);
        var site = Find(sites, service);
        var ports = site.TlsBlocks.SelectMany(b => b.Listeners).Where(l => l.Tls).Select(l => l.Port).ToList();
        var port = ports.Contains(NginxBinding.Https) ? NginxBinding.Https : ports[0];
        var to = $"return 301 https://$host{(port == NginxBinding.Https ? "" : $":{port}")}$request_uri;";
        var edits = new List<TextEdit>();
        var steps = new List<string>();
        foreach (var block in site.Blocks.Where(b => b.Listeners.Any(l => Site.IsReadable(b, l))))
        {
            var line = block.Listeners.Any(l => l.Tls) ? $"if ($scheme = http) {{ {to} }}" : to;
            edits.Add(NginxBinding.Insertion(block, [line]));
            steps.Add($"{site.Name} ({Where(block.Place)}) sends clients without TLS on to https, port {port}.");
        }
        return ChangeSet.RequiringTls(
            site.Name,
            Apply(configuration, edits),
            steps,
            "Programs that use the site without TLS and do not follow a redirect lose it."
        );
    }

    /// <summary>Each block with TLS names the versions that it takes.</summary>
    public static ChangeSet Lowest(NginxConfiguration configuration, string service, LowestTls lowest)
    {
        const string Setting = "ssl_protocols";
        var site = Find(NginxSites.Find(configuration), service);
        var (versions, edits) = (VersionWords.From(lowest), new List<TextEdit>());
        foreach (var block in site.TlsBlocks)
        {
            var there = configuration.Inside(block.Place).FirstOrDefault(p => p.Directive.Name == Setting);
            if (there is null)
                edits.Add(NginxBinding.Insertion(block, [$"{Setting} {versions};"]));
            else if (there.File != block.Place.File)
                throw new BeaconProblem(
                    ProblemCode.ConfigurationUnsupported,
                    $"{Setting} of {site.Name} stands in a file that is included ({Where(there)}), and others may share it.",
                    "Take the line out there and write it into each server block that needs it; then order it again."
                );
            else
                edits.Add(new(there.File.Path, there.Directive.ArgSpans[0].Start, there.Directive.ArgSpans[^1].End, versions));
        }
        string[] steps = [.. site.TlsBlocks.Select(b => $"{site.Name} ({Where(b.Place)}) gets {Setting} {versions}.")];
        return ChangeSet.RequiringTls(site.Name, Apply(configuration, edits), steps);
    }

    private static Site Find(IReadOnlyList<Site> sites, string service) =>
        sites.FirstOrDefault(s => s.Name == service)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"There is no site {service} in nginx's configuration.",
            "See beacon service list; the site may have been removed."
        );

    internal static string Where(Placed p) => $"{p.File.Path}:{p.Directive.Line}";

    private static List<FileEdit> Apply(NginxConfiguration configuration, List<TextEdit> edits) =>
        TextEdits.Apply(edits, path => configuration.Files.Single(f => f.Path == path).Text);

    internal static string Quote(string path) => QuoteText(ByteText.From(path));

    private static string QuoteText(string path) =>
        path.AsSpan().ContainsAny(" ;{}\"'\\#$") ? "\"" + path.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"" : path;
}
