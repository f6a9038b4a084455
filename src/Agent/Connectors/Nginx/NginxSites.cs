using System.Net;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>One listen directive, read.</summary>
/// <param name="Address">As it is written; empty when only a port is given.</param>
internal sealed record Listener(Directive Directive, NginxFile File, string Address, int Port, bool Tls)
{
    /// <summary>An address to connect to.</summary>
    public string Reachable => Listening.Reachable(Address);

    public static Listener? Read(Placed p, bool legacyTls)
    {
        if (p.Directive.Args.Count == 0)
            return null;
        var text = p.Directive.Args[0];
        if (text.StartsWith("unix:", StringComparison.Ordinal))
            return null;
        var tls = legacyTls || p.Directive.Args.Skip(1).Contains("ssl");
        if (int.TryParse(text, out var only))
            return new(p.Directive, p.File, "", only, tls);
        var colon = text.LastIndexOf(':');
        var bracket = text.LastIndexOf(']');
        return colon > bracket && int.TryParse(text[(colon + 1)..], out var port)
            ? new(p.Directive, p.File, text[..colon], port, tls)
            : new(p.Directive, p.File, text, 80, tls);
    }
}

/// <summary>A server block, read.</summary>
internal sealed record ServerBlock(
    Placed Place,
    IReadOnlyList<string> Names,
    IReadOnlyList<Listener> Listeners,
    IReadOnlyList<Placed> Certificates,
    IReadOnlyList<Placed> Keys,
    string? InheritedCertificate,
    bool RedirectsToTls,
    bool SendsPlainToTls
);

/// <summary>All server blocks that share their first name: one site for people.</summary>
internal sealed record Site(string Name, IReadOnlyList<ServerBlock> Blocks)
{
    public IReadOnlyList<string> Names => [.. Blocks.SelectMany(b => b.Names).Distinct()];
    public IReadOnlyList<ServerBlock> TlsBlocks => [.. Blocks.Where(b => b.Listeners.Any(l => l.Tls))];
    public IReadOnlyList<EndpointInfo> Endpoints =>
        [
            .. Blocks
                .SelectMany(b => b.Listeners.Select(l => (Block: b, Listener: l)))
                .Select(p =>
                    new EndpointInfo(p.Listener.Reachable, p.Listener.Port, p.Listener.Tls).ReadsIf(
                        IsReadable(p.Block, p.Listener),
                        Exposed.Pages
                    )
                )
                .Distinct()
                .OrderByDescending(e => e.Tls),
        ];

    public static bool IsReadable(ServerBlock block, Listener listener) => !listener.Tls && !block.RedirectsToTls && !block.SendsPlainToTls;

    public string? CertificateFile =>
        TlsBlocks
            .Select(b => b.Certificates.FirstOrDefault()?.Directive.Args.FirstOrDefault() ?? b.InheritedCertificate)
            .FirstOrDefault(c => c is not null);
}

/// <summary>Finds sites in a configuration.</summary>
internal static class NginxSites
{
    public static IReadOnlyList<Site> Find(NginxConfiguration configuration)
    {
        var blocks = new List<ServerBlock>();
        foreach (var http in configuration.Servers().GroupBy(s => s.Http))
        {
            // Said once for all of its servers.
            var inherited = configuration
                .Inside(http.Key)
                .FirstOrDefault(p => p.Directive is { Name: "ssl_certificate" })
                ?.Directive.Args.FirstOrDefault();
            blocks.AddRange(http.Select(s => Read(configuration, s.Server, inherited)));
        }
        return [.. blocks.GroupBy(NameOf).Select(g => new Site(g.Key, [.. g]))];
    }

    private static string NameOf(ServerBlock b) =>
        b.Names.FirstOrDefault()
        ?? (b.Listeners.FirstOrDefault() is { } l ? $"{(l.Address.Length == 0 ? "any" : l.Address)}:{l.Port}" : "unnamed");

    private static ServerBlock Read(NginxConfiguration c, Placed server, string? inherited)
    {
        var inside = c.Inside(server).ToList();
        var legacyTls = inside.Any(p => p.Directive.Name == "ssl" && p.Directive.Args.FirstOrDefault() == "on");
        var listeners = inside
            .Where(p => p.Directive.Name == "listen")
            .Select(p => Listener.Read(p, legacyTls))
            .OfType<Listener>()
            .ToList();
        // Without a listen directive nginx listens on port 80 of every address.
        if (!inside.Any(p => p.Directive.Name == "listen"))
            listeners.Add(new(server.Directive, server.File, "", 80, legacyTls));
        // Patterns, variables and catch-alls are no names that a certificate could have.
        var names = inside
            .Where(p => p.Directive.Name == "server_name")
            .SelectMany(p => p.Directive.Args)
            .Select(n => n.StartsWith('.') ? n[1..] : n)
            .Where(n => n.Contains('.') && !n.StartsWith('~') && !n.Contains('$') && (AlternativeName.TryParse(n, out _, out _)))
            .Select(n => IPAddress.TryParse(n, out _) ? n : n.ToLowerInvariant())
            .Distinct()
            .ToList();
        return new(
            server,
            names,
            listeners,
            [.. inside.Where(p => p.Directive.Name == "ssl_certificate")],
            [.. inside.Where(p => p.Directive.Name == "ssl_certificate_key")],
            inherited,
            inside.Any(IsRedirect),
            inside.Any(p => p.Directive is { Name: "if", Args: ["($scheme", "=", "http)"] } && c.Inside(p).Any(IsRedirect))
        );
    }

    private static bool IsRedirect(Placed p) =>
        p.Directive is { Name: "return", Args: [['3', ..], var to, ..] } && to.StartsWith("https://", StringComparison.Ordinal);
}
