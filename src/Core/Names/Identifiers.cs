using System.Numerics;
using System.Security.Cryptography;

namespace OrderlyBeacon.Core.Names;

/// <summary>
/// A certificate's serial number as upper-case hexadecimal, whole octets, without leading zeros (RFC 5280 section 4.1.2.2). A negative one, which the standard forbids
/// and which is met all the same, has a minus sign before its absolute value.
/// </summary>
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
        if (content.Length > 0 && content[0] >= 0x80)
        {
            var magnitude = BigInteger.Abs(new BigInteger(content, isUnsigned: false, isBigEndian: true));
            return new("-" + Convert.ToHexString(magnitude.ToByteArray(isUnsigned: true, isBigEndian: true)));
        }
        while (content.Length > 1 && content[0] == 0)
            content = content[1..];
        return new(Convert.ToHexString(content));
    }

    /// <summary>Its beginning, for people: <c>4A0B12C3…</c>; a short one whole.</summary>
    public string Short => Hex.Length > 8 ? Hex[..8] + "…" : Hex;

    /// <summary>The shortest two's-complement content octets.</summary>
    public byte[] ToBytes()
    {
        if (Hex.StartsWith('-'))
            return (-new BigInteger(Convert.FromHexString(Hex.AsSpan(1)), isUnsigned: true, isBigEndian: true)).ToByteArray(
                isUnsigned: false,
                isBigEndian: true
            );
        var raw = Convert.FromHexString(Hex.Length % 2 == 0 ? Hex : "0" + Hex);
        return raw.Length > 0 && raw[0] >= 0x80 ? [0, .. raw] : raw;
    }

    /// <summary>Takes upper or lower case, with or without colons or blanks.</summary>
    public static bool TryParse(string text, out SerialNumber serial)
    {
        var t = text.Replace(":", "").Replace(" ", "").ToUpperInvariant();
        serial = default;
        var minus = t.StartsWith('-');
        if (minus)
            t = t[1..];
        if (t.Length is 0 or > 40 || !t.All(char.IsAsciiHexDigit))
            return false;
        t = t.TrimStart('0');
        if (t.Length % 2 == 1)
            t = "0" + t;
        serial = new(t.Length == 0 ? "00" : (minus ? "-" : "") + t);
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
