using System.Text;

namespace OrderlyBeacon.Core.Formats;

/// <summary>What was around or inside the textual encoding that should not be there; harmless, but said.</summary>
public enum ArmorNote
{
    /// <summary>Text before the first BEGIN line.</summary>
    TextBefore,

    /// <summary>Text after the END line.</summary>
    TextAfter,

    /// <summary>Blanks at the ends of lines or around the dashes.</summary>
    BlanksInLines,

    /// <summary>CRLF line ends.</summary>
    CarriageReturns,

    /// <summary>A byte order mark.</summary>
    ByteOrderMark,

    /// <summary>Base64 without BEGIN and END lines.</summary>
    BareBase64,
}

/// <summary>One block of a textual file (RFC 7468).</summary>
/// <param name="Label">As in <c>CERTIFICATE REQUEST</c>; empty for bare Base64.</param>
/// <param name="Der">The decoded bytes.</param>
/// <param name="Line">1-based line of the BEGIN line.</param>
/// <param name="IsEncrypted">Its headers say that the content is encrypted (RFC 1421 section 4.6.1.1).</param>
public sealed record ArmorBlock(string Label, byte[] Der, int Line, bool IsEncrypted = false);

/// <summary>A file taken apart.</summary>
/// <param name="IsText">False when the input is binary: then there is one block that is the whole input.</param>
public sealed record ArmorFile(bool IsText, IReadOnlyList<ArmorBlock> Blocks, IReadOnlyList<ArmorNote> Notes);

/// <summary>Reads and writes RFC 7468 textual encodings, tolerant of the noise that copying and pasting adds.</summary>
public static class Armor
{
    public const string Certificate = "CERTIFICATE";
    public const string CertificateRequest = "CERTIFICATE REQUEST";
    public const string Crl = "X509 CRL";
    public const string Pkcs7 = "PKCS7";

    public static string Write(string label, ReadOnlySpan<byte> der)
    {
        var base64 = Convert.ToBase64String(der);
        var s = new StringBuilder(base64.Length + 128);
        s.Append("-----BEGIN ").Append(label).Append("-----\n");
        for (var i = 0; i < base64.Length; i += 64)
            s.Append(base64, i, Math.Min(64, base64.Length - i)).Append('\n');
        return s.Append("-----END ").Append(label).Append("-----\n").ToString();
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.FileNotRecognised"/> for a block that is cut or not Base64, with its line.</exception>
    public static ArmorFile Read(ReadOnlySpan<byte> bytes)
    {
        var notes = new SortedSet<ArmorNote>();
        if (bytes.StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF]))
        {
            bytes = bytes[3..];
            notes.Add(ArmorNote.ByteOrderMark);
        }
        if (bytes.Length == 0)
            throw NotRecognised("It is empty.", "Choose the file again.");
        if (bytes.IndexOf("-----BEGIN "u8) < 0)
        {
            if (bytes[0] == 0x30 || !LooksLikeBase64(bytes))
                return new(false, [new("", bytes.ToArray(), 1)], [.. notes]);
            notes.Add(ArmorNote.BareBase64);
            return new(true, [new("", Decode(Encoding.ASCII.GetString(bytes), 1), 1)], [.. notes]);
        }

        var blocks = Blocks(Encoding.Latin1.GetString(bytes), notes);
        if (blocks.Count == 0)
            throw NotRecognised("There is a BEGIN mark, but no line that consists of it.", "Put -----BEGIN …----- on a line of its own.");
        return new(true, blocks, [.. notes]);
    }

    private static List<ArmorBlock> Blocks(string text, SortedSet<ArmorNote> notes)
    {
        var blocks = new List<ArmorBlock>();
        if (text.Contains('\r'))
            notes.Add(ArmorNote.CarriageReturns);
        string? label = null;
        var encrypted = false;
        var body = new StringBuilder();
        var (line, begin) = (0, 0);
        foreach (var raw in text.Split('\n'))
        {
            line++;
            var stripped = raw.TrimEnd('\r');
            var t = stripped.Trim();
            if (label is null)
            {
                if (t.StartsWith("-----BEGIN ", StringComparison.Ordinal) && t.EndsWith("-----", StringComparison.Ordinal) && t.Length > 16)
                    (label, begin) = (t[11..^5], line);
                else if (t.Length > 0)
                    notes.Add(blocks.Count == 0 ? ArmorNote.TextBefore : ArmorNote.TextAfter);
                if (label is not null && t.Length != stripped.Length)
                    notes.Add(ArmorNote.BlanksInLines);
                continue;
            }
            if (t.Length != stripped.Length)
                notes.Add(ArmorNote.BlanksInLines);
            if (t.StartsWith("-----END ", StringComparison.Ordinal))
            {
                if (t != $"-----END {label}-----")
                    throw NotRecognised(
                        $"The block that begins in line {begin} as {label} ends in line {line} with another label.",
                        "Copy the whole block again, from BEGIN to END."
                    );
                blocks.Add(new(label, Decode(body.ToString(), begin), begin, encrypted));
                encrypted = false;
                if (blocks.Count > 1000)
                    throw NotRecognised("It has over 1000 blocks.", "Split the file.");
                body.Clear();
                label = null;
            }
            else if (t.StartsWith("-----", StringComparison.Ordinal))
                throw NotRecognised(
                    $"The block that begins in line {begin} has no END line before line {line}.",
                    "Copy the whole block again, from BEGIN to END."
                );
            else if (!t.Contains(':'))
                body.Append(t);
            else
                encrypted |=
                    t.StartsWith("Proc-Type:", StringComparison.OrdinalIgnoreCase) && t.Contains("ENCRYPTED", StringComparison.Ordinal);
        }
        if (label is not null)
            throw NotRecognised(
                $"The block that begins in line {begin} has no END line: the text is cut short.",
                "Copy the whole block again, from BEGIN to END."
            );
        return blocks;
    }

    private static bool LooksLikeBase64(ReadOnlySpan<byte> bytes)
    {
        foreach (var b in bytes)
            if (
                !(
                    b is (byte)'+' or (byte)'/' or (byte)'=' or (byte)'\r' or (byte)'\n' or (byte)' ' or (byte)'\t'
                    || char.IsAsciiLetterOrDigit((char)b)
                )
            )
                return false;
        return true;
    }

    private static byte[] Decode(string base64, int line)
    {
        try
        {
            return Convert.FromBase64String(base64);
        }
        catch (FormatException)
        {
            throw NotRecognised(
                $"What follows line {line} is not Base64: a character is missing, surplus or foreign.",
                "Copy the whole block again, from BEGIN to END."
            );
        }
    }

    private static BeaconProblem NotRecognised(string what, string cure) => new(ProblemCode.FileNotRecognised, what, cure);

    public static string Describe(ArmorNote note) =>
        note switch
        {
            ArmorNote.TextBefore => "There is text before the BEGIN line; it was left out.",
            ArmorNote.TextAfter => "There is text after the END line; it was left out.",
            ArmorNote.BlanksInLines => "Some lines have blanks around them; they were left out.",
            ArmorNote.CarriageReturns => "Lines end in CRLF, as some systems write them.",
            ArmorNote.ByteOrderMark => "It starts with a byte order mark; it was left out.",
            _ => "It is Base64 without BEGIN and END lines.",
        };
}
