using System.Text;

namespace OrderlyBeacon.Core.Formats;

/// <summary>Text files as editors save them.</summary>
internal static class FileText
{
    /// <summary>A file in UTF-16 (some editors' "Unicode") as the ASCII that it would have been; anything else as it is.</summary>
    public static ReadOnlySpan<byte> ToAscii(ReadOnlySpan<byte> bytes)
    {
        Encoding? encoding = bytes switch
        {
            [0xFF, 0xFE, ..] => Encoding.Unicode,
            [0xFE, 0xFF, ..] => Encoding.BigEndianUnicode,
            _ => null,
        };
        if (encoding is not null)
            return Encoding.Latin1.GetBytes(encoding.GetString(bytes[2..]));
        if (bytes.StartsWith("-\0-\0-\0"u8))
            return Encoding.Latin1.GetBytes(Encoding.Unicode.GetString(bytes));
        return bytes.StartsWith("\0-\0-\0-"u8) ? Encoding.Latin1.GetBytes(Encoding.BigEndianUnicode.GetString(bytes)) : bytes;
    }
}
