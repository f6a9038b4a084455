using System.Security.Cryptography;

namespace OrderlyBeacon.Core.Names;

/// <summary>A certificate's serial number as upper-case hexadecimal without leading zeros (RFC 5280 section 4.1.2.2).</summary>
public readonly record struct SerialNumber(string Hex)
{
    /// <summary>Makes a serial of 128 bits from random bytes: positive, never zero, always 16 octets.</summary>
    /// <param name="random">16 bytes from a cryptographic source.</param>
    public static SerialNumber FromRandom(ReadOnlySpan<byte> random)
    {
        if (random.Length != 16)
            throw new ArgumentException("16 bytes are wanted", nameof(random));
        Span<byte> b = stackalloc byte[16];
        random.CopyTo(b);
        b[0] = (byte)(b[0] & 0x7F | 0x40);
        return new(Convert.ToHexString(b));
    }

    /// <summary>From the content octets of the INTEGER.</summary>
    public static SerialNumber FromBytes(ReadOnlySpan<byte> content)
    {
        while (content.Length > 1 && content[0] == 0)
            content = content[1..];
        return new(Convert.ToHexString(content));
    }

    /// <summary>The shortest two's-complement content octets.</summary>
    public byte[] ToBytes()
    {
        var raw = Convert.FromHexString(Hex.Length % 2 == 0 ? Hex : "0" + Hex);
        return raw.Length > 0 && raw[0] >= 0x80 ? [0, .. raw] : raw;
    }

    /// <summary>Takes upper or lower case, with or without colons or blanks.</summary>
    public static bool TryParse(string text, out SerialNumber serial)
    {
        var t = text.Replace(":", "").Replace(" ", "").ToUpperInvariant();
        serial = default;
        if (t.Length is 0 or > 40 || !t.All(char.IsAsciiHexDigit))
            return false;
        t = t.TrimStart('0');
        if (t.Length % 2 == 1)
            t = "0" + t;
        serial = new(t.Length == 0 ? "00" : t);
        return true;
    }

    public override string ToString() => Hex;
}

/// <summary>SHA-256 over a whole certificate, lower-case hexadecimal.</summary>
public readonly record struct Thumbprint(string Hex)
{
    public static Thumbprint Of(ReadOnlySpan<byte> der) => new(Convert.ToHexStringLower(SHA256.HashData(der)));

    public override string ToString() => Hex;
}
