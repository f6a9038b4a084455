using System.Formats.Asn1;
using System.Text;

namespace OrderlyBeacon.Core.Names;

/// <summary>The strings of distinguished names (RFC 5280 section 4.1.2.4): read as they are met, and brought into the form in which they are compared.</summary>
internal static class DirectoryText
{
    /// <summary>The text of a value, read leniently: certificates are met whose PrintableStrings hold a star or an at sign.</summary>
    /// <returns>Null when it is of no string form that is known.</returns>
    public static string? Read(ReadOnlyMemory<byte> value)
    {
        var tag = Asn1Tag.Decode(value.Span, out _);
        if (tag.TagClass != TagClass.Universal || tag.IsConstructed)
            return null;
        Encoding? encoding = (UniversalTagNumber)tag.TagValue switch
        {
            UniversalTagNumber.UTF8String => Encoding.UTF8,
            UniversalTagNumber.PrintableString
            or UniversalTagNumber.IA5String
            or UniversalTagNumber.T61String
            or UniversalTagNumber.VisibleString
            or UniversalTagNumber.NumericString => Encoding.Latin1,
            UniversalTagNumber.BMPString => Encoding.BigEndianUnicode,
            _ => null,
        };
        return encoding?.GetString(new AsnReader(value, AsnEncodingRules.BER).PeekContentBytes().Span);
    }

    /// <summary>Small letters, no blanks at the ends, one where there are several (RFC 5280 section 7.1, RFC 4518).</summary>
    public static string Compared(string text)
    {
        var s = new StringBuilder(text.Length);
        foreach (var c in text)
            if (!char.IsWhiteSpace(c))
                s.Append(char.ToLowerInvariant(c));
            else if (s.Length > 0 && s[^1] != ' ')
                s.Append(' ');
        if (s.Length > 0 && s[^1] == ' ')
            s.Length--;
        return s.ToString();
    }

    /// <summary>Whether every surrogate has its other half, so that the text can be encoded.</summary>
    public static bool IsWhole(string text)
    {
        for (var i = 0; i < text.Length; i++)
            if (char.IsSurrogate(text[i]) && !(i + 1 < text.Length && char.IsSurrogatePair(text[i], text[++i])))
                return false;
        return true;
    }
}
