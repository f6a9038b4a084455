using System.Text.RegularExpressions;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// Passwords and the like in lines of configurations: what people are shown of a file leaves its host, and is read by others than may read the file. In doubt a word is hidden
/// that need not be; settings that name a file, a command or a choice stay.
/// </summary>
internal static partial class SecretText
{
    public const string Hidden = "(hidden)";

    /// <summary>Of a line, characters: nobody reads more, and what is looked for in it takes its time.</summary>
    private const int MostShown = 4000;

    private const string KeyBegins = "-----BEGIN ",
        KeyEnds = "-----END ",
        PrivateKey = "PRIVATE KEY-----";

    private static readonly string[] Names =
    [
        "password",
        "passwd",
        "passphrase",
        "requirepass",
        "masterauth",
        "secret",
        "rootpw",
        "bindpw",
        "credential",
        "community",
        "token",
        "salt",
    ];

    /// <summary>Of settings that are called so and hold none themselves.</summary>
    private static readonly string[] Others =
    [
        "file",
        "path",
        "map",
        "command",
        "program",
        "chat",
        "policy",
        "enable",
        "scheme",
        "server",
        "sync",
        "encrypt",
        "length",
        "timeout",
        "prompt",
        "hash",
        "provider",
    ];

    private static readonly string[] Choices = ["yes", "no", "on", "off", "true", "false", "none", "null", "{", "[", "("];

    /// <summary>Hides them in each line; the number of lines stays.</summary>
    public static string[] Hide(IReadOnlyList<string> lines)
    {
        var shown = new string[lines.Count];
        var isInKey = false;
        for (var i = 0; i < lines.Count; i++)
        {
            var ends = lines[i].Contains(KeyEnds, StringComparison.Ordinal);
            shown[i] = isInKey && !ends ? Hidden : Hide(lines[i]);
            isInKey = isInKey ? !ends : IsKeyBegun(lines[i]);
        }
        return shown;
    }

    private static bool IsKeyBegun(string line) =>
        line.Contains(KeyBegins, StringComparison.Ordinal) && line.Contains(PrivateKey, StringComparison.Ordinal);

    private static string Hide(string whole)
    {
        var line = whole.Length > MostShown ? whole[..MostShown] + " …" : whole;
        var text = InUrl().Replace(line, $"$1{Hidden}@");
        text = Hash().Replace(text, Hidden);
        text = Header().Replace(text, $"$1{Hidden}");
        text = NameAndPassword().Replace(text, $"$1{Hidden}");
        return HideSettings(Connection().Replace(text, $"$1{Hidden}"));
    }

    private static string HideSettings(string text)
    {
        foreach (Match m in Setting().Matches(text))
            if (IsSecret(m.Groups["name"].Value) && Ended(text, m) is { } ended)
                return ended;
        return text;
    }

    private static bool IsSecret(string name)
    {
        var lower = name.ToLowerInvariant();
        var isCalledSo = Array.Exists(Names, n => lower.Contains(n, StringComparison.Ordinal)) || IsPass(lower);
        return isCalledSo
            && !lower.EndsWith("tokens", StringComparison.Ordinal)
            && !Array.Exists(Others, o => lower.Contains(o, StringComparison.Ordinal));
    }

    /// <summary><c>keystorePass</c>, <c>dnpass</c>; not where something is passed on, or by.</summary>
    private static bool IsPass(string name) =>
        name.EndsWith("pass", StringComparison.Ordinal)
        && !name.Contains("proxy", StringComparison.Ordinal)
        && !name.Contains("bypass", StringComparison.Ordinal)
        && !(name.EndsWith("_pass", StringComparison.Ordinal) && PassedOn.Contains(name[..^"_pass".Length]));

    private static readonly HashSet<string> PassedOn = ["fastcgi", "grpc", "uwsgi", "scgi", "memcached"];

    /// <returns>The line with the value hidden; null where it has none that is secret.</returns>
    private static string? Ended(string line, Match m)
    {
        var (start, sign) = (m.Index + m.Length, m.Groups["sign"].Value);
        var value = line[start..];
        var isSentence = IsComment(line) && sign.Trim().Length == 0 && value.Trim().Contains(' ');
        if (isSentence || IsChoice(value) || (sign.Trim().Length == 0 && IsNamedOn(value)))
            return null;
        var quote = value.Length > 0 && value[0] is '"' or '\'' ? value[0] : '\0';
        var end = quote == '\0' ? -1 : value.IndexOf(quote, 1);
        if (end > 0)
            return line[..start] + quote + Hidden + quote + HideSettings(value[(end + 1)..]);
        return line[..start] + Hidden + Tail().Match(value).Value;
    }

    private static bool IsChoice(string value) =>
        value.Trim().TrimEnd(';', ',') is var word && (word.Length == 0 || Choices.Contains(word.Trim('"', '\'').ToLowerInvariant()));

    /// <summary>A name of several words, as <c>password server = …</c>: what follows is a part of it.</summary>
    private static bool IsNamedOn(string value) =>
        NamedOn().Match(value) is { Success: true } m && !IsSecret(m.Groups["more"].Value) && IsOther(m.Groups["more"].Value);

    private static bool IsOther(string words) => Array.Exists(Others, o => words.Contains(o, StringComparison.OrdinalIgnoreCase));

    private static bool IsComment(string line) => line.TrimStart() is ['#' or ';' or '*' or '/', ..];

    [GeneratedRegex("""(?<name>[A-Za-z][\w.\-]*)(?<sign>["']?\s*(?:=>|::?|=|,|\s)\s*)""")]
    private static partial Regex Setting();

    [GeneratedRegex("""^(?<more>[\w \-]+?)\s*=""")]
    private static partial Regex NamedOn();

    [GeneratedRegex("""\s*(?:[;,]|/?>)*\s*$""")]
    private static partial Regex Tail();

    [GeneratedRegex("""(://[^/\s:@"']*:)[^@\s/"']+@""")]
    private static partial Regex InUrl();

    [GeneratedRegex("""\{[A-Z0-9\-]{3,12}\}[A-Za-z0-9+/=$.]{12,}|\$(?:1|2[abxy]|5|6|7|y|gy|apr1|argon2id?)\$[^\s"';]{8,}""")]
    private static partial Regex Hash();

    [GeneratedRegex("""((?:Basic|Bearer)\s+)[A-Za-z0-9+/=._~\-]{6,}""", RegexOptions.IgnoreCase)]
    private static partial Regex Header();

    [GeneratedRegex("""(\bauth\s+[^\s:]+:)\S+""")]
    private static partial Regex NameAndPassword();

    [GeneratedRegex("""(\bSQL(?:Named)?ConnectInfo\s+\S+\s+\S+\s+).+""", RegexOptions.IgnoreCase)]
    private static partial Regex Connection();
}
