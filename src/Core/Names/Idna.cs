using System.Buffers.Binary;
using System.Text;

namespace OrderlyBeacon.Core.Names;

/// <summary>
/// International names by UTS 46, non-transitional, as browsers read them: mapped, normalised (NFC), valid, in one script's letters where letters look alike,
/// right-to-left parts by RFC 5893. Joiners (U+200C, U+200D) are refused: they are seen by nobody, and no name of a server needs them.
/// </summary>
public static class Idna
{
    private const int Mapped = 1,
        Valid = 2,
        Ignored = 7;
    private const int ZeroWidthNonJoiner = 0x200C,
        ZeroWidthJoiner = 0x200D;

    private static readonly Lazy<IdnaTables> Tables = new(IdnaTables.Load);

    /// <summary>The name in lower-case A-labels.</summary>
    /// <param name="text">Labels with dots, without a star.</param>
    /// <returns>Null when it is no international name.</returns>
    public static string? ToAscii(string text)
    {
        var mapped = Map(text);
        if (mapped is null)
            return null;
        var labels = mapped.Split('.');
        for (var i = 0; i < labels.Length; i++)
            if (AsciiLabel(labels[i]) is { } label)
                labels[i] = label;
            else
                return null;
        return string.Join('.', labels);
    }

    /// <summary>The name as people write it; labels that cannot be decoded stay as they are.</summary>
    public static string ToUnicode(string ascii) =>
        string.Join('.', ascii.Split('.').Select(l => l.StartsWith("xn--", StringComparison.Ordinal) ? Punycode.Decode(l[4..]) ?? l : l));

    /// <summary>Characters in a text that nobody sees and that a name leaves out, as <c>U+200B</c>.</summary>
    public static IReadOnlyList<string> Invisible(string text) =>
        text.All(char.IsAscii)
            ? []
            :
            [
                .. text.EnumerateRunes()
                    .Where(r => Tables.Value.Status(r.Value).Status == Ignored)
                    .Select(r => $"U+{r.Value:X4}")
                    .Distinct(),
            ];

    private static string? Map(string text)
    {
        var mapped = new StringBuilder(text.Length);
        for (var i = 0; i < text.Length; )
        {
            if (!Rune.TryGetRuneAt(text, i, out var rune))
                return null;
            i += rune.Utf16SequenceLength;
            var (status, replacement) = Tables.Value.Status(rune.Value);
            switch (status)
            {
                case Valid:
                    mapped.Append(rune);
                    break;
                case Mapped:
                    mapped.Append(replacement);
                    break;
                case Ignored:
                    break;
                default:
                    return null;
            }
        }
        return Tables.Value.Compose(mapped.ToString());
    }

    private static string? AsciiLabel(string label)
    {
        if (label.StartsWith("xn--", StringComparison.Ordinal))
            return
                Punycode.Decode(label[4..]) is { } decoded
                && !decoded.All(char.IsAscii)
                && IsValid(decoded)
                && Punycode.Encode(decoded) == label[4..]
                ? label
                : null;
        if (label.All(char.IsAscii))
            return label;
        return IsValid(label) && Punycode.Encode(label) is { } code ? "xn--" + code : null;
    }

    /// <summary>The validity criteria of UTS 46 section 4.1.</summary>
    private static bool IsValid(string label)
    {
        if (label.Length > 63 * 4 || Tables.Value.Compose(label) != label || label[0] == '-' || label[^1] == '-')
            return false;
        var runes = label.EnumerateRunes().Select(r => r.Value).ToList();
        if (Tables.Value.IsMark(runes[0]) || runes.Any(r => r is ZeroWidthJoiner or ZeroWidthNonJoiner or '.'))
            return false;
        return runes.TrueForAll(r => Tables.Value.Status(r).Status == Valid) && !MixesLookAlikes(runes) && DirectionsHold(runes);
    }

    /// <summary>Letters of these scripts look like Latin ones, or like each other's: no label has letters of two of them.</summary>
    private static bool MixesLookAlikes(List<int> runes) => runes.Select(ScriptOf).Where(s => s != 0).Distinct().Count() > 1;

    private static int ScriptOf(int cp) =>
        cp switch
        {
            (>= 'a' and <= 'z') or (>= 0xDF and <= 0x24F and not 0xF7) or (>= 0x1E00 and <= 0x1EFF) => 1,
            (>= 0x370 and <= 0x3FF) or (>= 0x1F00 and <= 0x1FFF) => 2,
            (>= 0x400 and <= 0x52F) or (>= 0x1C80 and <= 0x1C8F) or (>= 0x2DE0 and <= 0x2DFF) or (>= 0xA640 and <= 0xA69F) => 3,
            >= 0x531 and <= 0x58A => 4,
            (>= 0x13A0 and <= 0x13FF) or (>= 0xAB70 and <= 0xABBF) => 5,
            _ => 0,
        };

    /// <summary>RFC 5893 section 2, for labels that have something written from right to left.</summary>
    private static bool DirectionsHold(List<int> runes)
    {
        var all = runes.ConvertAll(r => Tables.Value.DirectionOf(r));
        if (!all.Exists(d => d is Direction.R or Direction.AL or Direction.AN))
            return true;
        var rightToLeft = all[0] is Direction.R or Direction.AL;
        if (!rightToLeft)
            return false;
        var last = all.FindLast(d => d != Direction.NSM);
        var both = all.Contains(Direction.EN) && all.Contains(Direction.AN);
        return !all.Contains(Direction.L) && !both && last is Direction.R or Direction.AL or Direction.EN or Direction.AN;
    }
}

/// <summary>Bidirectional classes (Unicode Standard Annex 9), by their numbers in the table.</summary>
internal enum Direction
{
    None,
    L,
    R,
    AL,
    AN,
    EN,
    ES,
    CS,
    ET,
    ON,
    BN,
    NSM,
}

/// <summary>The tables of <c>idna.bin</c>, which make-idna.py beside it writes; read when the first international name is met.</summary>
internal sealed class IdnaTables
{
    private const int HangulBase = 0xAC00,
        LBase = 0x1100,
        VBase = 0x1161,
        TBase = 0x11A7,
        LCount = 19,
        VCount = 21,
        TCount = 28;

    private int[] _starts = [];
    private byte[] _status = [];
    private string[] _mapped = [];
    private int[] _factStarts = [];
    private (byte Flags, byte Combining)[] _facts = [];
    private readonly Dictionary<int, int[]> _parts = [];
    private readonly Dictionary<(int, int), int> _whole = [];

    public (int Status, string Mapped) Status(int cp)
    {
        var i = Find(_starts, cp);
        return (_status[i], _mapped[i]);
    }

    public bool IsMark(int cp) => (_facts[Find(_factStarts, cp)].Flags & 0x10) != 0;

    public Direction DirectionOf(int cp) => (Direction)(_facts[Find(_factStarts, cp)].Flags & 0x0F);

    /// <summary>Normalisation form C (Unicode Standard Annex 15).</summary>
    public string Compose(string text)
    {
        var cps = new List<int>();
        foreach (var r in text.EnumerateRunes())
            Decompose(r.Value, cps);
        Order(cps);
        var composed = new List<int>();
        var starter = -1;
        var lastClass = -1;
        foreach (var cp in cps)
        {
            var own = ClassOf(cp);
            if (starter >= 0 && (lastClass < own || lastClass == -1) && Pair(composed[starter], cp) is { } whole)
            {
                composed[starter] = whole;
                continue;
            }
            if (own == 0)
                (starter, lastClass) = (composed.Count, -1);
            else
                lastClass = own;
            composed.Add(cp);
        }
        var s = new StringBuilder(composed.Count);
        foreach (var cp in composed)
            s.Append(new Rune(cp));
        return s.ToString();
    }

    private byte ClassOf(int cp) => _facts[Find(_factStarts, cp)].Combining;

    private void Decompose(int cp, List<int> into)
    {
        if (cp is >= HangulBase and < HangulBase + LCount * VCount * TCount)
        {
            var s = cp - HangulBase;
            into.Add(LBase + s / (VCount * TCount));
            into.Add(VBase + s % (VCount * TCount) / TCount);
            if (s % TCount != 0)
                into.Add(TBase + s % TCount);
        }
        else if (_parts.TryGetValue(cp, out var parts))
            foreach (var p in parts)
                Decompose(p, into);
        else
            into.Add(cp);
    }

    private void Order(List<int> cps)
    {
        for (var i = 1; i < cps.Count; i++)
        {
            var own = ClassOf(cps[i]);
            if (own == 0)
                continue;
            var (at, cp) = (i, cps[i]);
            while (at > 0 && ClassOf(cps[at - 1]) > own)
            {
                cps[at] = cps[at - 1];
                at--;
            }
            cps[at] = cp;
        }
    }

    private int? Pair(int first, int second)
    {
        if (first is >= LBase and < LBase + LCount && second is >= VBase and < VBase + VCount)
            return HangulBase + ((first - LBase) * VCount + second - VBase) * TCount;
        var isTwo = first is >= HangulBase and < HangulBase + LCount * VCount * TCount && (first - HangulBase) % TCount == 0;
        if (isTwo && second is > TBase and < TBase + TCount)
            return first + second - TBase;
        return _whole.TryGetValue((first, second), out var whole) ? whole : null;
    }

    private static int Find(int[] starts, int cp)
    {
        var i = Array.BinarySearch(starts, cp);
        return i >= 0 ? i : ~i - 1;
    }

    public static IdnaTables Load()
    {
        using var stream = typeof(IdnaTables).Assembly.GetManifestResourceStream("idna.bin")!;
        var bytes = new byte[stream.Length];
        stream.ReadExactly(bytes);
        var t = new IdnaTables();
        var at = 0;
        var count = Count();
        (t._starts, t._status, t._mapped) = (new int[count], new byte[count], new string[count]);
        for (var i = 0; i < count; i++)
        {
            (t._starts[i], t._status[i]) = (Point(), bytes[at++]);
            var units = bytes[at++];
            t._mapped[i] = units == 0 ? "" : Encoding.Unicode.GetString(bytes, at, 2 * units);
            at += 2 * units;
        }
        count = Count();
        (t._factStarts, t._facts) = (new int[count], new (byte, byte)[count]);
        for (var i = 0; i < count; i++)
            (t._factStarts[i], t._facts[i]) = (Point(), (bytes[at++], bytes[at++]));
        count = Count();
        for (var i = 0; i < count; i++)
        {
            var cp = Point();
            var flags = bytes[at++];
            var parts = new int[flags & 0x0F];
            for (var j = 0; j < parts.Length; j++)
                parts[j] = Point();
            t._parts[cp] = parts;
            if ((flags & 0x10) != 0)
                t._whole[(parts[0], parts[1])] = cp;
        }
        return t;

        int Count()
        {
            at += 4;
            return BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(at - 4));
        }

        int Point()
        {
            at += 3;
            return bytes[at - 3] | (bytes[at - 2] << 8) | (bytes[at - 1] << 16);
        }
    }
}

/// <summary>Punycode (RFC 3492).</summary>
internal static class Punycode
{
    private const int Base = 36,
        TMin = 1,
        TMax = 26,
        Skew = 38,
        Damp = 700,
        InitialBias = 72,
        InitialN = 128;

    /// <returns>Null when it would be longer than a label may be.</returns>
    public static string? Encode(string text)
    {
        var cps = text.EnumerateRunes().Select(r => r.Value).ToList();
        var output = new StringBuilder();
        foreach (var cp in cps.Where(c => c < InitialN))
            output.Append((char)cp);
        var (handled, basic) = (output.Length, output.Length);
        if (basic > 0)
            output.Append('-');
        var (n, delta, bias) = (InitialN, 0L, InitialBias);
        while (handled < cps.Count)
        {
            var next = cps.Where(c => c >= n).Min();
            delta += (long)(next - n) * (handled + 1);
            n = next;
            foreach (var cp in cps)
            {
                if (cp < n)
                    delta++;
                if (cp != n)
                    continue;
                var q = delta;
                for (var k = Base; ; k += Base)
                {
                    var t = Math.Clamp(k - bias, TMin, TMax);
                    if (q < t)
                        break;
                    output.Append(Digit((int)(t + (q - t) % (Base - t))));
                    q = (q - t) / (Base - t);
                }
                output.Append(Digit((int)q));
                bias = Adapt(delta, handled + 1, handled == basic);
                delta = 0;
                handled++;
            }
            delta++;
            n++;
            if (output.Length > 63)
                return null;
        }
        return output.ToString();
    }

    /// <returns>Null when it is not well-formed.</returns>
    public static string? Decode(string code)
    {
        if (code.Length is 0 or > 63)
            return null;
        var dash = code.LastIndexOf('-');
        var cps = code[..Math.Max(dash, 0)].Select(c => (int)c).ToList();
        var (n, i, bias) = (InitialN, 0L, InitialBias);
        for (var at = dash < 0 ? 0 : dash + 1; at < code.Length; )
        {
            var (before, weight) = (i, 1L);
            for (var k = Base; ; k += Base)
            {
                if (at >= code.Length || ValueOf(code[at++]) is not { } digit)
                    return null;
                i += digit * weight;
                if (i > int.MaxValue)
                    return null;
                var t = Math.Clamp(k - bias, TMin, TMax);
                if (digit < t)
                    break;
                weight *= Base - t;
                if (weight > int.MaxValue)
                    return null;
            }
            bias = Adapt(i - before, cps.Count + 1, before == 0);
            n += (int)(i / (cps.Count + 1));
            i %= cps.Count + 1;
            if (!Rune.IsValid(n))
                return null;
            cps.Insert((int)i++, n);
        }
        var s = new StringBuilder();
        foreach (var cp in cps)
            s.Append(new Rune(cp));
        return s.ToString();
    }

    private static int Adapt(long delta, int points, bool first)
    {
        delta = first ? delta / Damp : delta / 2;
        delta += delta / points;
        var k = 0;
        while (delta > (Base - TMin) * TMax / 2)
        {
            delta /= Base - TMin;
            k += Base;
        }
        return k + (int)((Base - TMin + 1) * delta / (delta + Skew));
    }

    private static char Digit(int d) => (char)(d < 26 ? 'a' + d : '0' + d - 26);

    private static int? ValueOf(char c) =>
        c switch
        {
            >= 'a' and <= 'z' => c - 'a',
            >= '0' and <= '9' => c - '0' + 26,
            _ => null,
        };
}
