using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Tomcat;

/// <summary>A way in of a Tomcat's service.</summary>
internal sealed record TomcatWay(XmlElement Element, string Address, int Port, bool IsTls)
{
    /// <summary>The certificates of clients that name no site, or one that has none of its own.</summary>
    public XmlElement? Default =>
        Element
            .All("SSLHostConfig")
            .FirstOrDefault(h =>
                (h.Value("hostName") ?? TomcatConfiguration.DefaultHost)
                == (Element.Value("defaultSSLHostConfigName") ?? TomcatConfiguration.DefaultHost)
            );
}

/// <summary>A service of server.xml: what its engine answers, and its ways in.</summary>
internal sealed record TomcatService(string Name, XmlElement Element, IReadOnlyList<TomcatWay> Ways)
{
    public XmlElement? Engine => Element.All("Engine").FirstOrDefault();

    /// <summary>A rule that sends clients without TLS elsewhere.</summary>
    public XmlElement? Rewriting => Engine?.All("Valve").FirstOrDefault(v => v.Value("className") == TomcatConfiguration.RewriteValve);
}

/// <summary>server.xml as far as certificates go.</summary>
internal sealed class TomcatConfiguration
{
    public const string DefaultHost = "_default_",
        RewriteValve = "org.apache.catalina.valves.rewrite.RewriteValve",
        RulesFile = "rewrite.config";
    private const int MostWays = 200;

    private TomcatConfiguration(string main, string text, IReadOnlyList<TomcatService> services) =>
        (Main, Text, Services) = (main, text, services);

    public string Main { get; }
    public string Text { get; }
    public IReadOnlyList<TomcatService> Services { get; }

    /// <summary>The folder that relative paths in it start from.</summary>
    public string Base => Path.GetDirectoryName(Path.GetDirectoryName(Main)!)!;

    /// <exception cref="BeaconProblem">It cannot be read.</exception>
    public static TomcatConfiguration Load(string config, IFiles files)
    {
        var main = Path.GetFullPath(config);
        var text = files.Read(main);
        var root = XmlText.Read(main, text);
        if (root.Name != "Server")
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{main}, line {root.Line}: its outermost element is {root.Name}, not Server.",
                "Name Tomcat's server.xml to the agent."
            );
        return new(
            main,
            text,
            [.. root.All("Service").Select(s => new TomcatService(s.Value("name") ?? "Catalina", s, [.. Ways(main, s)]))]
        );
    }

    private static IEnumerable<TomcatWay> Ways(string main, XmlElement service) =>
        service
            .All("Connector")
            .Where(c => c.Value("protocol")?.Contains("ajp", StringComparison.OrdinalIgnoreCase) != true)
            .Take(MostWays)
            .Select(c =>
            {
                var said = c.Value("port") ?? "";
                if (!int.TryParse(said, out var port) || port is < 1 or > 65535)
                    throw new BeaconProblem(
                        ProblemCode.ConfigurationUnsupported,
                        $"{main}, line {c.Line}: the port of a Connector is \"{said}\", which is decided when Tomcat starts.",
                        "Write the port itself there."
                    );
                var isTls = string.Equals(c.Value("SSLEnabled"), "true", StringComparison.OrdinalIgnoreCase);
                return new TomcatWay(c, c.Value("address") ?? "127.0.0.1", port, isTls);
            });

    public string PlaceOf(XmlElement e) => $"{Main}:{e.Line}";

    public string Full(string path) => Path.GetFullPath(path, Base);

    /// <summary>Where Tomcat looks for the rules of an engine.</summary>
    public string RulesOf(TomcatService service) => Path.Combine(Base, "conf", service.Engine?.Value("name") ?? "Catalina", RulesFile);
}
