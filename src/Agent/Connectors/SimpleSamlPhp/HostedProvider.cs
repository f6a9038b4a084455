using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;

/// <summary>One provider in the file of those that the server itself is: what it signs with, and how that is changed.</summary>
internal sealed class HostedProvider(string file, string text, string entity, PhpValue array, int line)
{
    public const string Variable = "metadata";
    private const string Key = "privatekey",
        Certificate = "certificate",
        Beside = "new_";

    public string Entity => entity;
    public string File => file;
    public string Place => $"{file}:{line}";
    public string? SignsFile => Text(Certificate);
    public string? SignsKey => Text(Key);
    public string? AlsoFile => Text(Beside + Certificate);

    /// <summary>How long what it signs is good, in seconds.</summary>
    public int AssertionSeconds =>
        array.Find("assertion.lifetime") is { Value: { Text: null, Entries: null } v }
        && int.TryParse(text[v.Start..v.End], out var seconds)
        && seconds > 0
            ? seconds
            : UsualAssertionSeconds;

    private const int UsualAssertionSeconds = 300;

    private string? Text(string key) => array.Find(key)?.Value.Text;

    /// <summary>Why it is not changed; null when it can be.</summary>
    public BeaconProblem? Unclear
    {
        get
        {
            foreach (var key in new[] { Key, Certificate })
                if (Text(key) is null)
                    return Unsupported(
                        array.Find(key) is null ? $"it does not name its {key}" : $"its {key} is worked out by PHP",
                        $"Write '{key}' => 'FILE' there, with the file's name in quotes."
                    );
            foreach (var key in new[] { Beside + Key, Beside + Certificate })
                if (array.Find(key) is not null && Text(key) is null)
                    return Unsupported($"its {key} is worked out by PHP", $"Write the file's name in quotes, or take '{key}' out.");
            if (array.Find(Beside + Key) is null != array.Find(Beside + Certificate) is null)
                return Unsupported(
                    $"it has one of {Beside}{Key} and {Beside}{Certificate}, not both",
                    "Take it out, or write the other one too."
                );
            if (array.Entries!.Any(e => string.CompareOrdinal(text, e.Start, "...", 0, 3) == 0))
                return Unsupported("it takes a part of itself from elsewhere (...)", "Write what it has there, entry by entry.");
            string[] passphrases = [Key + "_pass", Beside + Key + "_pass"];
            if (Array.Find(passphrases, p => array.Find(p) is not null) is { } pass)
                return Unsupported(
                    $"its key has a passphrase ({pass}), which would have to follow it from one place to the other",
                    "Keep the key without one, mode 0600; then take the line out."
                );
            return
                array.Entries!.GroupBy(e => e.Key).FirstOrDefault(g => g.Key is not null && Pairs.Contains(g.Key) && g.Count() > 1)
                    is { } twice
                ? Unsupported($"it has {twice.Key} twice", "Take out the one that does not count: PHP goes by the last.")
                : null;
        }
    }

    private static readonly string[] Pairs = [Key, Certificate, Beside + Key, Beside + Certificate];

    private BeaconProblem Unsupported(string what, string cure) =>
        new(ProblemCode.ConfigurationUnsupported, $"{Place}, provider {entity}: {what}. Nothing is changed there.", cure);

    /// <param name="signs">Whether it signs with the edition now.</param>
    /// <param name="also">Whether it publishes the edition besides now.</param>
    public (IReadOnlyList<TextEdit> Edits, IReadOnlyList<string> Steps) Plan(FederationChange change, bool signs, bool also)
    {
        if (Unclear is { } unclear)
            throw unclear;
        var other = AlsoFile is not null && !signs && !also;
        return change.Act switch
        {
            FederationAct.Publish when signs && AlsoFile is not null => (
                Swapped(),
                ["It signs with the one before again; the next one stays published beside it."]
            ),
            FederationAct.Publish when also => Nothing,
            FederationAct.Publish when !signs && !other => (
                Added(change),
                ["The next certificate is published beside the one that it signs with."]
            ),
            FederationAct.Sign when also => (Swapped(), ["It signs with the new key; the certificate before stays published beside it."]),
            FederationAct.Sign when signs => Nothing,
            FederationAct.Retire when signs && AlsoFile is not null => (Removed(), ["The certificate before is published no more."]),
            FederationAct.Retire when signs => Nothing,
            FederationAct.Withdraw when also => (Removed(), ["The next certificate is published no more."]),
            FederationAct.Withdraw when !signs && !other => Nothing,
            _ => throw Elsewhere(change, other),
        };
    }

    private static (IReadOnlyList<TextEdit>, IReadOnlyList<string>) Nothing => ([], ["It is so already; nothing in the file changes."]);

    private BeaconProblem Elsewhere(FederationChange change, bool other) =>
        other
            ? new(
                ProblemCode.WrongState,
                $"{Place}: the provider publishes another certificate besides ({AlsoFile}), and there is room for one.",
                $"Take {Beside}{Key} and {Beside}{Certificate} out there when its partners do not need it any more; then order it again."
            )
            : new(
                ProblemCode.WrongState,
                change.Act is FederationAct.Sign or FederationAct.Retire
                    ? $"{Place}: the edition is not published there, so partners would refuse what it signs."
                    : $"{Place}: the provider signs with that edition already.",
                "See how it stands: beacon federation list."
            );

    private IReadOnlyList<TextEdit> Added(FederationChange change)
    {
        var after = array.Find(Certificate)!;
        var lineStart = text.LastIndexOf('\n', after.Start) + 1;
        var lead = text[lineStart..after.Start];
        var gap = lead.All(char.IsWhiteSpace) ? ByteText.NewLineOf(text) + lead : " ";
        var lines =
            $",{gap}'{Beside}{Key}' => {Literal(change.Files.Key)},{gap}'{Beside}{Certificate}' => {Literal(change.Files.Certificates)}";
        return [new(file, after.End, after.End, lines)];
    }

    private static string Literal(string path) => $"'{ByteText.From(path).Replace("\\", "\\\\").Replace("'", "\\'")}'";

    private IReadOnlyList<TextEdit> Swapped() => [.. Exchange(Key), .. Exchange(Certificate)];

    private IEnumerable<TextEdit> Exchange(string key)
    {
        var (one, two) = (array.Find(key)!.Value, array.Find(Beside + key)!.Value);
        yield return new(file, one.Start, one.End, text[two.Start..two.End]);
        yield return new(file, two.Start, two.End, text[one.Start..one.End]);
    }

    private IReadOnlyList<TextEdit> Removed() => [Without(Beside + Key), Without(Beside + Certificate)];

    private TextEdit Without(string key)
    {
        var entries = array.Entries!;
        var at = entries.ToList().FindIndex(e => e.Key == key);
        var entry = entries[at];
        var before = at == 0 ? array.Start : entries[at - 1].End;
        // What stands between may be somebody's comment: that stays.
        if (at > 0 && text[before..entry.Start].All(c => c == ',' || char.IsWhiteSpace(c)))
            return new(file, before, entry.End, "");
        var end = entry.End;
        while (end < text.Length && text[end] is ' ' or '\t')
            end++;
        return new(file, entry.Start, text[end] == ',' ? end + 1 : entry.End, "");
    }
}
