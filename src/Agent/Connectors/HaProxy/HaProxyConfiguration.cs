using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.HaProxy;

/// <summary>A <c>bind</c> line: addresses, and what comes behind them.</summary>
internal sealed record HaProxyBind(WordLine Line)
{
    public IReadOnlyList<(string Address, int Port)> Addresses { get; } =
    [.. (Line.At(1) ?? "").Split(',').Select(AddressOf).Where(a => a is not null).Select(a => a!.Value)];

    public bool IsTls => Line.Words.Skip(2).Any(w => w.Value == "ssl");

    /// <summary>The words behind each <c>crt</c>: files, or folders of them.</summary>
    public IReadOnlyList<Word> Certificates =>
        [.. Line.Words.Zip(Line.Words.Skip(1)).Skip(2).Where(p => p.First.Value == "crt").Select(p => p.Second)];

    public bool HasList => Line.Words.Any(w => w.Value is "crt-list" or "generate-certificates");

    // Sockets of other families have their prefix, as unix@ and abns@.
    private static (string, int)? AddressOf(string text)
    {
        var plain =
            text.StartsWith("ipv4@", StringComparison.Ordinal) || text.StartsWith("ipv6@", StringComparison.Ordinal) ? text[5..] : text;
        var colon = plain.LastIndexOf(':');
        if (plain.Contains('@') || plain.StartsWith('/') || colon < 0 || !int.TryParse(plain[(colon + 1)..], out var port))
            return null;
        return (Listening.Reachable(plain[..colon]), port);
    }
}

/// <summary>A <c>frontend</c> or <c>listen</c> section: what clients connect to.</summary>
/// <param name="IsHttp">It understands what it passes on; else bytes are passed on as they are.</param>
/// <param name="SendsToTls">A rule sends every client without TLS on to https.</param>
internal sealed record HaProxyFrontend(string Name, WordLine Line, IReadOnlyList<HaProxyBind> Binds, bool IsHttp, bool SendsToTls);

/// <summary>haproxy.cfg: sections that begin with a keyword, and lines of words in them.</summary>
internal sealed class HaProxyConfiguration
{
    private static readonly WordRules Rules = new("HAProxy", CommentsAnywhere: true, Escapes: true);

    private static readonly string[] Sections =
    [
        "global",
        "defaults",
        "frontend",
        "listen",
        "backend",
        "userlist",
        "peers",
        "mailers",
        "resolvers",
        "cache",
        "program",
        "http-errors",
        "ring",
        "log-forward",
        "fcgi-app",
        "crt-store",
        "traces",
    ];

    private readonly List<WordLine> _global = [];
    private readonly List<HaProxyFrontend> _frontends = [];

    private HaProxyConfiguration(string path, IFiles files)
    {
        Main = Path.GetFullPath(path);
        Text = files.Read(Main);
        WordLine? section = null;
        var binds = new List<HaProxyBind>();
        // What a section does not say is what the defaults before it said.
        var (isHttpByDefault, isHttp, sendsToTls) = (false, false, false);
        foreach (var line in ConfigurationWords.Read(Main, Text, Rules))
        {
            var name = line.Words[0].Value;
            if (Sections.Contains(name))
            {
                End();
                section = line;
                (isHttp, sendsToTls) = (name != "defaults" && isHttpByDefault, false);
            }
            else if (section is null)
                throw new BeaconProblem(
                    ProblemCode.ConfigurationBroken,
                    $"{Main}, line {line.Number}: \"{name}\" stands in no section.",
                    $"Correct the file; haproxy -c -f {Main} shows the same place."
                );
            else if (name == "bind")
                binds.Add(new(line));
            else if (section.Words[0].Value == "global")
                _global.Add(line);
            else if (name == "mode")
                isHttp = line.At(1) == "http";
            else
                sendsToTls |= IsRedirect(line);
        }
        End();

        void End()
        {
            if (section?.Words[0].Value is "frontend" or "listen" && section!.At(1) is { } called)
                _frontends.Add(new(called, section, [.. binds], isHttp, sendsToTls));
            if (section?.Words[0].Value == "defaults")
                isHttpByDefault = isHttp;
            binds.Clear();
        }
    }

    /// <summary>One with another condition than that there is no TLS leaves a part of the clients where they are.</summary>
    private static bool IsRedirect(WordLine line)
    {
        var words = line.Words.Select(w => w.Value).SkipWhile(w => w == "http-request").ToList();
        var condition = string.Join(' ', words.SkipWhile(w => w is not ("if" or "unless"))).Replace(" ", "", StringComparison.Ordinal);
        return words.FirstOrDefault() == "redirect"
            && (
                words.Zip(words.Skip(1)).Contains(("scheme", "https")) || words.Any(w => w.StartsWith("https://", StringComparison.Ordinal))
            )
            && condition is "" or "unless{ssl_fc}" or "if!{ssl_fc}";
    }

    public string Main { get; }
    public string Text { get; }
    public IReadOnlyList<HaProxyFrontend> Frontends => _frontends;

    public static HaProxyConfiguration Load(string path, IFiles files) => new(path, files);

    /// <summary>A setting of the global section; null when it is not there.</summary>
    public string? Global(string name) => _global.LastOrDefault(l => l.Words[0].Value == name)?.At(1);

    /// <summary>A certificate's full path.</summary>
    public string Full(string certificate) => Path.Combine(Global("crt-base") ?? Path.GetDirectoryName(Main)!, certificate);
}
