using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.Apache;

/// <summary>An address of a virtual host.</summary>
/// <param name="Written">As it stands in the VirtualHost line, without its port.</param>
/// <param name="Reachable">Where to connect to.</param>
internal readonly record struct ApacheAddress(string Written, string Reachable, int Port);

/// <summary>All virtual hosts with one ServerName: one site for people.</summary>
internal sealed record ApacheSite(string Name, ApacheConfiguration Configuration, IReadOnlyList<ApacheHost> Hosts)
{
    private const string ServerName = "servername",
        ServerAlias = "serveralias",
        Engine = "sslengine";
    public const string Certificate = "sslcertificatefile";

    public static IReadOnlyList<ApacheSite> Of(ApacheConfiguration c) =>
        [.. c.Hosts.GroupBy(h => NameOf(c, h)).Select(g => new ApacheSite(g.Key, c, [.. g]))];

    private static string NameOf(ApacheConfiguration c, ApacheHost host)
    {
        if ((c.Find(ServerName, host) ?? c.Find(ServerName, null)) is { } d)
            return c.Filled(d.Value).Split("://")[^1].Split(':')[0].ToLowerInvariant();
        if (AddressesOf(c, host) is [var first, ..])
            return $"{first.Reachable}:{first.Port}";
        return "unnamed";
    }

    public IReadOnlyList<string> Names =>
        [
            Name,
            .. Hosts
                .SelectMany(h => Configuration.All(ServerAlias, h))
                .SelectMany(d => d.Line.Words.Skip(1))
                .Select(w => w.Value.ToLowerInvariant())
                .Distinct()
                .Where(n => n != Name),
        ];

    public IReadOnlyList<ApacheHost> TlsHosts => [.. Hosts.Where(HasTls)];

    public bool HasTls(ApacheHost host) =>
        (Configuration.Find(Engine, host) ?? Configuration.Find(Engine, null))?.Value.Equals("on", StringComparison.OrdinalIgnoreCase)
        ?? false;

    public IReadOnlyList<ApacheAddress> Addresses(ApacheHost host) => AddressesOf(Configuration, host);

    private static IReadOnlyList<ApacheAddress> AddressesOf(ApacheConfiguration c, ApacheHost host) =>
        [
            .. host
                .Opening.Words.Skip(1)
                .Select(w => c.Filled(w.Value.TrimEnd('>')))
                .Where(w => w.Length > 0)
                .SelectMany(w => AddressOf(c, w)),
        ];

    private static IEnumerable<ApacheAddress> AddressOf(ApacheConfiguration c, string text)
    {
        var colon = text.LastIndexOf(':') > text.LastIndexOf(']') ? text.LastIndexOf(':') : -1;
        var (written, port) = colon < 0 ? (text, "*") : (text[..colon], text[(colon + 1)..]);
        var listens = Listens(c);
        var ports = int.TryParse(port, out var one) ? [one] : listens.Select(l => l.Port).Distinct();
        foreach (var p in ports)
        {
            // Every address means those that the server listens at.
            var any = listens.FirstOrDefault(l => l.Port == p).Reachable ?? "127.0.0.1";
            yield return new(written, written is "*" or "_default_" or "0.0.0.0" or "" ? any : written.Trim('[', ']'), p);
        }
    }

    /// <summary>Where the server listens.</summary>
    public static IReadOnlyList<ApacheAddress> Listens(ApacheConfiguration c) =>
        [
            .. c.All("listen", null)
                .Select(d => c.Filled(d.Value))
                .Select(t => (Text: t, Colon: t.LastIndexOf(':')))
                .Where(l => int.TryParse(l.Text[(l.Colon + 1)..], out _))
                .Select(l => new ApacheAddress(
                    l.Colon < 0 ? "" : l.Text[..l.Colon],
                    Listening.Reachable(l.Colon < 0 ? "" : l.Text[..l.Colon]),
                    int.Parse(l.Text[(l.Colon + 1)..])
                )),
        ];

    public IReadOnlyList<EndpointInfo> Endpoints =>
        [
            .. Hosts
                .SelectMany(h =>
                    Addresses(h).Select(a => new EndpointInfo(a.Reachable, a.Port, HasTls(h)).ReadsIf(IsReadable(h), Exposed.Pages))
                )
                .DistinctBy(e => (e.Address, e.Port))
                .OrderByDescending(e => e.Tls),
        ];

    public string? CertificateFile =>
        TlsHosts
            .Select(h => Configuration.Find(Certificate, h) ?? Configuration.Find(Certificate, null))
            .OfType<ApacheDirective>()
            .Select(d => ByteText.Show(Configuration.Full(d.Value)))
            .FirstOrDefault();

    /// <summary>Whether clients without TLS get anything of it but the way to https.</summary>
    public bool IsReadable(ApacheHost host) => !HasTls(host) && !Configuration.All("redirect", host).Any(IsForAll) && !RewritesAll(host);

    private static bool IsForAll(ApacheDirective d) =>
        d.Line.Words is [.., { Value: "/" }, { Value: var to }] && to.StartsWith("https://", StringComparison.OrdinalIgnoreCase);

    /// <summary>The first rule counts; a condition on anything but TLS leaves a part of the clients where they are.</summary>
    private bool RewritesAll(ApacheHost host) =>
        Configuration.Find("rewriteengine", host)?.Value.Equals("on", StringComparison.OrdinalIgnoreCase) == true
        && Configuration.All("rewritecond", host).All(d => d.Value.Contains("HTTPS", StringComparison.OrdinalIgnoreCase))
        && Configuration.All("rewriterule", host) is [var first, ..]
        && EveryPath.Contains(first.Value)
        && (first.Line.At(2) ?? "").StartsWith("https://", StringComparison.OrdinalIgnoreCase);

    private static readonly string[] EveryPath = ["^", ".*", "^.*$", "(.*)", "^(.*)$", "^(.*)", "^/(.*)", "^/(.*)$", "^/?(.*)", "^/?(.*)$"];

    /// <summary>Whether a plain host does nothing but send clients to TLS.</summary>
    public bool SendsToTls(ApacheHost host) =>
        new[] { "redirect", "redirectmatch", "redirectpermanent", "rewriterule" }.Any(name =>
            Configuration
                .All(name, host)
                .Any(d => d.Line.Words.Any(w => w.Value.StartsWith("https://", StringComparison.OrdinalIgnoreCase)))
        );
}
