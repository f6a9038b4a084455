using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Apache;

/// <summary>Works out a binding for a site: its TLS hosts name the store's files; a site without one gets a copy of its plain host that listens with TLS.</summary>
internal sealed class ApachePlan(ApacheConfiguration before, IFiles files, string config)
{
    private const string Key = "sslcertificatekeyfile",
        Chain = "sslcertificatechainfile";
    private const int UsualTlsPort = 443;

    private readonly List<TextEdit> _edits = [];
    private readonly List<string> _steps = [];
    private readonly List<(string, int)> _newPorts = [];

    public ChangeSet Bind(BindChange change)
    {
        var site = Site(before, change.Service);
        foreach (var host in site.TlsHosts)
            Point(host, change);
        if (site.TlsHosts.Count == 0)
            AddTlsHost(site, change);
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(_edits, files.Read));
        var after = Site(ApacheConfiguration.Load(config, would), change.Service);
        var plain = after.Hosts.Where(h => !after.HasTls(h) && !after.SendsToTls(h)).SelectMany(after.Addresses).ToList();
        return new(
            change.Service,
            after.Names,
            would.Edits,
            [.. after.Endpoints.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, after.Name))],
            _newPorts,
            _steps.Count > 0 ? _steps : ["The configuration names the certificate already; nothing in it changes."],
            [.. plain.Select(a => $"Clients may go on without TLS at {a.Reachable}:{a.Port}.")]
        );
    }

    /// <summary>Plain hosts send their clients on, by the first means that comes before everything else they do.</summary>
    public ChangeSet RequireTls(string service)
    {
        var site = Site(before, service);
        var ports = site.TlsHosts.SelectMany(site.Addresses).Select(a => a.Port).ToList();
        var port = ports.Contains(UsualTlsPort) ? UsualTlsPort : ports[0];
        var suffix = port == UsualTlsPort ? "" : $":{port}";
        foreach (var host in site.Hosts.Where(site.IsReadable))
        {
            var lines = before.HasModule("mod_rewrite.c")
                ? new[] { "RewriteEngine On", $"RewriteRule ^ https://%{{SERVER_NAME}}{suffix}%{{REQUEST_URI}} [R=301,NE,L]" }
                : Redirect(host, $"Redirect permanent / https://{site.Name}{suffix}/");
            _edits.Add(First(host, lines));
            _steps.Add($"The virtual host in {host.Opening.Place} sends clients without TLS on to https, port {port}.");
        }
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply(_edits, files.Read),
            _steps,
            "Programs that use the site without TLS and do not follow a redirect lose it."
        );
    }

    /// <summary>Each host with TLS names the versions that it takes.</summary>
    public ChangeSet Lowest(string service, LowestTls lowest)
    {
        const string Setting = "SSLProtocol";
        var versions = $"-all +{VersionWords.From(lowest, " +")}";
        foreach (var host in Site(before, service).TlsHosts)
        {
            var there = before.Find(Setting.ToLowerInvariant(), host);
            if (there is null)
                _edits.Add(First(host, [$"{Setting} {versions}"]));
            else
            {
                if (before.IsShared(there))
                    throw Unclear(
                        $"{Setting} ({there.Line.Place}) is included by several virtual hosts: all of them would change.",
                        "Take the line out of the included file and write it into each virtual host that needs it; then order it again."
                    );
                _edits.Add(new(there.Line.Path, there.ValueWord.Start, there.Line.Words[^1].End, versions));
            }
            _steps.Add($"The virtual host in {host.Opening.Place} gets {Setting} {versions}.");
        }
        return ChangeSet.RequiringTls(service, TextEdits.Apply(_edits, files.Read), _steps);
    }

    /// <summary>Lines before all others of a host.</summary>
    private TextEdit First(ApacheHost host, IReadOnlyList<string> lines)
    {
        var text = files.Read(host.Opening.Path);
        var (newLine, end) = (ByteText.NewLineOf(text), text.IndexOf('\n', host.Opening.End) + 1);
        var indent = text[host.Opening.Start..host.Opening.Words[0].Start] + "\t";
        return new(host.Opening.Path, end, end, string.Concat(lines.Select(l => indent + l + newLine)));
    }

    private string[] Redirect(ApacheHost host, string line)
    {
        if (!before.HasModule("mod_alias.c") || before.All("proxypass", host).Count > 0)
            throw Unclear(
                $"The virtual host in {host.Opening.Place} can send clients on by mod_rewrite alone, which is not loaded.",
                "Load it (a2enmod rewrite), restart Apache, then order it again."
            );
        return [line];
    }

    private static ApacheSite Site(ApacheConfiguration c, string name) =>
        ApacheSite.Of(c).FirstOrDefault(s => s.Name == name)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No virtual host has the ServerName {name}.",
            "See beacon service list; it may have been removed from Apache's configuration."
        );

    private void Point(ApacheHost host, BindChange change)
    {
        Set(ApacheSite.Certificate, "SSLCertificateFile", change.Files.Certificates);
        Set(Key, "SSLCertificateKeyFile", change.Files.Key);
        // Our file has the chain in it; another one beside it would be sent in its place.
        foreach (var chain in before.All(Chain, host).Where(c => !IsOurs(c, change)))
        {
            ThrowIfShared(chain, host);
            _edits.Add(
                new(chain.Line.Path, chain.ValueWord.Start, chain.ValueWord.End, ConfigurationWords.Quoted(change.Files.Certificates))
            );
            _steps.Add($"SSLCertificateChainFile ({chain.Line.Place}) points to the store too.");
        }

        void Set(string name, string shown, string path)
        {
            var own = before.All(name, host);
            if (own.Count != 1)
                throw Unclear(
                    own.Count == 0
                        ? $"The virtual host in {host.Opening.Place} has no {shown} of its own: it takes the server's, which others may share."
                        : $"The virtual host in {host.Opening.Place} has {own.Count} {shown}: which of them is meant is not clear.",
                    $"Write exactly one {shown} into it, then bind again."
                );
            ThrowIfShared(own[0], host);
            if (own[0].Value == ByteText.From(path))
                return;
            _edits.Add(new(own[0].Line.Path, own[0].ValueWord.Start, own[0].ValueWord.End, ConfigurationWords.Quoted(path)));
            _steps.Add($"{shown} ({own[0].Line.Place}) points to the store.");
        }
    }

    private static bool IsOurs(ApacheDirective d, BindChange change) => d.Value == ByteText.From(change.Files.Certificates);

    private void ThrowIfShared(ApacheDirective d, ApacheHost host)
    {
        if (before.IsShared(d))
            throw Unclear(
                $"{d.Line.Words[0].Value} in {d.Line.Place} is included by several virtual hosts: all of them would get the certificate.",
                $"Take the line out of the included file and write it into the virtual host in {host.Opening.Place} and the others; then bind again."
            );
    }

    private void AddTlsHost(ApacheSite site, BindChange change)
    {
        if (!before.HasTlsModule)
            throw Unclear("Apache has not loaded its module for TLS.", "Load it (a2enmod ssl), restart Apache, then bind again.");
        var plain =
            site.Hosts.FirstOrDefault(h => !site.SendsToTls(h) && site.Addresses(h).Count > 0)
            ?? throw Unclear(
                $"The site {site.Name} only sends its clients to https, and no virtual host answers there.",
                "Add a virtual host that serves the site, then bind again."
            );
        var text = files.Read(plain.Opening.Path);
        var newLine = ByteText.NewLineOf(text);
        var (address, port) = (site.Addresses(plain)[0], change.Port ?? UsualTlsPort);
        var body = text[plain.Opening.End..plain.BodyEnd];
        var opening = text[plain.Opening.Start..plain.Opening.Words[0].Start];
        var lead = text[plain.BlockEnd - 1] == '\n' ? "" : newLine;
        string Line(string words) => $"{opening}\t{words}{newLine}";
        var listen = ApacheSite.Listens(before).Any(l => l.Port == port) ? "" : $"Listen {ListenAt(address, port)}{newLine}";
        var block =
            $"{lead}{listen}{opening}<VirtualHost {address.Written}:{port}>{body}"
            + Line("SSLEngine on")
            + Line($"SSLCertificateFile {ConfigurationWords.Quoted(change.Files.Certificates)}")
            + Line($"SSLCertificateKeyFile {ConfigurationWords.Quoted(change.Files.Key)}")
            + $"{opening}</VirtualHost>{newLine}";
        _edits.Add(new(plain.Opening.Path, plain.BlockEnd, plain.BlockEnd, block));
        _steps.Add($"A virtual host with TLS at port {port} is added behind that in {plain.Opening.Place}, with the same content.");
        _newPorts.Add((address.Reachable, port));
    }

    // As the plain listener does: at every address, or at this one.
    private string ListenAt(ApacheAddress address, int port)
    {
        var listener = ApacheSite.Listens(before).FirstOrDefault(l => l.Port == address.Port);
        return string.IsNullOrEmpty(listener.Written) ? port.ToString() : $"{listener.Written}:{port}";
    }

    private static BeaconProblem Unclear(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);
}
