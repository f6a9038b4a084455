using System.Buffers.Binary;

namespace OrderlyBeacon.Core.Handshakes;

/// <summary>
/// What a server of TLS 1.2 sends before it waits for its client again (RFC 5246, section 7.3), read record by record. Of interest is the answer about its certificate (RFC 6066,
/// section 8).
/// </summary>
public sealed class ServerFlight
{
    /// <summary>A flight is read no further than this: bytes.</summary>
    public const int MostBytes = 256 << 10;

    private const byte Handshake = 22,
        ServerHello = 2,
        CertificateStatus = 22,
        Done = 14,
        Ocsp = 1;
    private const int MessageHeader = 4,
        StatusHeader = 4;
    private readonly List<byte> _rest = [];
    private int _taken;
    private bool _isOther,
        _hasBegun;

    /// <summary>Its last message has come.</summary>
    public bool IsWhole { get; private set; }

    /// <summary>More has to come before it is whole; false also when what came is not a flight of TLS 1.2.</summary>
    public bool IsGoingOn => !IsWhole && !_isOther && _taken < MostBytes;

    /// <summary>The stapled answer, DER as it came; null when there was none.</summary>
    public ReadOnlyMemory<byte>? Staple { get; private set; }

    /// <summary>Takes the next record in.</summary>
    /// <param name="type">The record's type (RFC 5246, section 6.2.1).</param>
    /// <param name="content">Without its header.</param>
    public void Add(byte type, ReadOnlySpan<byte> content)
    {
        if (!IsGoingOn)
            return;
        if (type != Handshake)
        {
            _isOther = true;
            return;
        }
        _taken += content.Length;
        _rest.AddRange(content);
        while (IsGoingOn && Message() is { } message)
            Read(message);
    }

    /// <summary>The next message that is here whole, taken out; null when there is none.</summary>
    private byte[]? Message()
    {
        if (_rest.Count < MessageHeader)
            return null;
        var size = MessageHeader + (_rest[1] << 16 | _rest[2] << 8 | _rest[3]);
        if (_rest.Count < size)
            return null;
        var message = _rest.GetRange(0, size).ToArray();
        _rest.RemoveRange(0, size);
        return message;
    }

    private void Read(ReadOnlySpan<byte> message)
    {
        var body = message[MessageHeader..];
        switch (message[0])
        {
            case ServerHello:
                _isOther = body.Length < 2 || BinaryPrimitives.ReadUInt16BigEndian(body) != (ushort)TlsVersion.Tls12;
                _hasBegun = true;
                break;
            case CertificateStatus when _hasBegun && body.Length > StatusHeader && body[0] == Ocsp:
                var size = body[1] << 16 | body[2] << 8 | body[3];
                if (size == body.Length - StatusHeader)
                    Staple = body[StatusHeader..].ToArray();
                break;
            case Done:
                IsWhole = _hasBegun;
                _isOther = !_hasBegun;
                break;
        }
    }
}
