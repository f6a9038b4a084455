using System.Text;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Ceremonies;

/// <summary>What a root did, in the order it did it.</summary>
/// <param name="Facts">What else belongs to it; covered by the record's hash.</param>
/// <param name="Der">What was signed in this act (its thumbprint is among the facts), or empty.</param>
/// <param name="Signature">Of the record's hash, by the root's key of that time.</param>
public sealed record CeremonyEntry(
    JournalRecord Record,
    IReadOnlyDictionary<string, string> Facts,
    ReadOnlyMemory<byte> Der,
    ReadOnlyMemory<byte> Signature
);

/// <summary>A root's signed log: everything it ever signed is in it, and nothing can be taken out, put in or altered without its key.</summary>
public static class CeremonyLog
{
    private const string Thumbprint = "sha256";

    /// <summary>The next entry.</summary>
    /// <param name="who">Who sits at the keyboard.</param>
    /// <param name="facts">Keys without "=", values without line breaks.</param>
    public static CeremonyEntry Append(
        CeremonyEntry? last,
        DateTimeOffset at,
        string who,
        string act,
        string subject,
        IReadOnlyDictionary<string, string> facts,
        ReadOnlyMemory<byte> der,
        ISigner signer
    )
    {
        var all = new SortedDictionary<string, string>(facts.ToDictionary(), StringComparer.Ordinal);
        if (!der.IsEmpty)
            all[Thumbprint] = Names.Thumbprint.Of(der.Span).Hex;
        var record = JournalChain.Append(last?.Record, at, who, act, subject, Text(all));
        return new(record, all, der, signer.Sign(Encoding.ASCII.GetBytes(record.Hash)));
    }

    /// <summary>Checks one entry against the one before it and against the keys that the root had by then; null when it holds.</summary>
    public static string? Fault(CeremonyEntry? before, CeremonyEntry entry, IEnumerable<PublicKeyInfo> keys)
    {
        if (JournalChain.Fault(before?.Record, entry.Record) is { } fault)
            return fault;
        if (Text(entry.Facts) != entry.Record.Detail)
            return $"Entry {entry.Record.Sequence} was altered: its facts are not those that were hashed.";
        if (!entry.Der.IsEmpty && entry.Facts.GetValueOrDefault(Thumbprint) != Names.Thumbprint.Of(entry.Der.Span).Hex)
            return $"Entry {entry.Record.Sequence} was altered: what was signed in it is another thing now.";
        var hash = Encoding.ASCII.GetBytes(entry.Record.Hash);
        return keys.Any(k => Signatures.Verify(k, KeySigner.SchemeOf(k.Spec), hash, entry.Signature.Span))
            ? null
            : $"Entry {entry.Record.Sequence} is not signed by this root's key.";
    }

    /// <summary>Facts as the text that is hashed.</summary>
    public static string Text(IEnumerable<KeyValuePair<string, string>> facts) =>
        string.Join('\n', facts.OrderBy(f => f.Key, StringComparer.Ordinal).Select(f => $"{f.Key}={f.Value}"));
}

/// <summary>Names of files that leave a ceremony: what it is, for whom, of which date.</summary>
public static class TellingName
{
    /// <summary>As in <c>root-certificate--thistledown-root--2026-11-25.pem</c>.</summary>
    public static string Of(string what, string whom, DateTimeOffset date, string ending = ".pem")
    {
        var words = new StringBuilder();
        foreach (var c in whom.ToLowerInvariant())
            if (char.IsAsciiLetterOrDigit(c))
                words.Append(c);
            else if (words.Length > 0 && words[^1] != '-')
                words.Append('-');
        var text = words.ToString().Trim('-');
        return $"{what}--{(text.Length == 0 ? "unnamed" : text[..Math.Min(60, text.Length)])}--{date.UtcDateTime:yyyy-MM-dd}{ending}";
    }
}
