using System.Buffers.Binary;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>
/// Writes DER from its end to its beginning: a length is known when its content stands there, so nothing is ever moved. For structures that are made very often;
/// everything else is written with <see cref="System.Formats.Asn1.AsnWriter"/>. Write the last part first; <see cref="Close"/> what was written since a <see cref="Length"/>.
/// </summary>
internal sealed class BackwardDer(int capacity)
{
    private byte[] _bytes = new byte[capacity];
    private int _start = capacity;

    /// <summary>How many bytes stand there; a mark for <see cref="Close"/>.</summary>
    public int Length => _bytes.Length - _start;

    public void Raw(ReadOnlySpan<byte> part)
    {
        if (_start < part.Length)
            Grow(part.Length);
        _start -= part.Length;
        part.CopyTo(_bytes.AsSpan(_start));
    }

    /// <summary>Puts tag and length before all that was written since the mark.</summary>
    public void Close(byte tag, int mark)
    {
        var length = Length - mark;
        Span<byte> header = stackalloc byte[6];
        var n = 2;
        header[0] = tag;
        if (length < 0x80)
            header[1] = (byte)length;
        else
        {
            Span<byte> four = stackalloc byte[4];
            BinaryPrimitives.WriteInt32BigEndian(four, length);
            var digits = four.TrimStart((byte)0);
            header[1] = (byte)(0x80 | digits.Length);
            digits.CopyTo(header[2..]);
            n += digits.Length;
        }
        Raw(header[..n]);
    }

    /// <summary>A GeneralizedTime of whole seconds.</summary>
    public void Time(DateTimeOffset t)
    {
        Span<byte> text = stackalloc byte[17];
        (text[0], text[1], text[16]) = (0x18, 15, (byte)'Z');
        var (date, time) = (t.UtcDateTime, t.UtcDateTime.TimeOfDay);
        Digits(text.Slice(2, 4), date.Year);
        Digits(text.Slice(6, 2), date.Month);
        Digits(text.Slice(8, 2), date.Day);
        Digits(text.Slice(10, 2), time.Hours);
        Digits(text.Slice(12, 2), time.Minutes);
        Digits(text.Slice(14, 2), time.Seconds);
        Raw(text);
    }

    private static void Digits(Span<byte> into, int number)
    {
        for (var i = into.Length - 1; i >= 0; i--, number /= 10)
            into[i] = (byte)('0' + number % 10);
    }

    private void Grow(int room)
    {
        var more = new byte[_bytes.Length * 2 + room];
        _bytes.AsSpan(_start).CopyTo(more.AsSpan(more.Length - Length));
        (_start, _bytes) = (more.Length - Length, more);
    }

    public ReadOnlySpan<byte> Written => _bytes.AsSpan(_start);
}
