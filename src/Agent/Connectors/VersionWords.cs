using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>Versions of TLS as most configurations write them.</summary>
internal static class VersionWords
{
    /// <summary>The lowest: <c>TLSv1.2</c>.</summary>
    public static string Of(LowestTls lowest) => lowest == LowestTls.Tls13 ? "TLSv1.3" : "TLSv1.2";

    /// <summary>All that go on, with a blank between them.</summary>
    public static string From(LowestTls lowest, string between = " ") => lowest == LowestTls.Tls13 ? "TLSv1.3" : $"TLSv1.2{between}TLSv1.3";

    /// <summary>As GnuTLS wants them: a priority string that leaves all else as it was.</summary>
    /// <param name="set">The string of before; null takes the library's usual one.</param>
    public static string Priorities(string? set, LowestTls lowest)
    {
        const string Usual = "NORMAL";
        var versions = lowest == LowestTls.Tls13 ? "+VERS-TLS1.3" : "+VERS-TLS1.2:+VERS-TLS1.3";
        return $"{(set is { Length: > 0 } ? set : Usual)}:-VERS-ALL:{versions}";
    }

    /// <summary>All that do not.</summary>
    public static IReadOnlyList<string> Below(LowestTls lowest) =>
        lowest == LowestTls.Tls13 ? ["SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2"] : ["SSLv2", "SSLv3", "TLSv1", "TLSv1.1"];
}
