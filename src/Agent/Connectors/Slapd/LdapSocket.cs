using System.Formats.Asn1;
using System.Net.Sockets;
using System.Text;

namespace OrderlyBeacon.Agent.Connectors.Slapd;

/// <summary>
/// A connection to a directory's own socket on this machine, as who the agent runs as: the kernel says so to the server (SASL EXTERNAL, RFC 4513, section 5.2.3), and no password
/// is needed.
/// </summary>
internal sealed class LdapSocket : IDisposable
{
    private const int Success = 0,
        MostAnswer = 65536,
        Replace = 2;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);
    private static readonly Asn1Tag BindRequest = new(TagClass.Application, 0),
        BindResponse = new(TagClass.Application, 1),
        ModifyRequest = new(TagClass.Application, 6),
        ModifyResponse = new(TagClass.Application, 7),
        SaslCredentials = new(TagClass.ContextSpecific, 3);

    private readonly Socket _socket = new(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
    private readonly NetworkStream _stream;
    private int _message;

    /// <exception cref="IOException">Nobody answers there, or the agent is not let in.</exception>
    public LdapSocket(string path)
    {
        try
        {
            (_socket.ReceiveTimeout, _socket.SendTimeout) = ((int)Patience.TotalMilliseconds, (int)Patience.TotalMilliseconds);
            _socket.Connect(new UnixDomainSocketEndPoint(path));
            _stream = new(_socket);
            if (Ask(BindRequest, WriteBind, BindResponse) is { } refused)
                throw new IOException(refused);
        }
        catch (Exception e) when (e is SocketException or ArgumentException or IOException)
        {
            _socket.Dispose();
            throw e as IOException ?? new IOException(e.Message, e);
        }
    }

    /// <summary>Whether it can be connected to, or never will be: a server need not have such a socket.</summary>
    public static bool IsOpen(string path)
    {
        using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            socket.Connect(new UnixDomainSocketEndPoint(path));
            return true;
        }
        catch (SocketException e)
        {
            return e.SocketErrorCode != SocketError.ConnectionRefused;
        }
        catch (ArgumentException)
        {
            return true;
        }
    }

    private static void WriteBind(AsnWriter w)
    {
        w.WriteInteger(3);
        w.WriteOctetString([]);
        using (w.PushSequence(SaslCredentials))
        {
            w.WriteOctetString("EXTERNAL"u8);
            w.WriteOctetString([]);
        }
    }

    /// <summary>Changes an entry in one operation (RFC 4511, section 4.6); an attribute without values goes.</summary>
    /// <returns>Why the server refuses; null when it is done.</returns>
    /// <exception cref="IOException">The connection ended.</exception>
    public string? Modify(string name, IReadOnlyList<(string Name, IReadOnlyList<string> Values)> changes) =>
        Ask(
            ModifyRequest,
            w =>
            {
                w.WriteOctetString(Encoding.UTF8.GetBytes(name));
                using (w.PushSequence())
                    foreach (var (attribute, values) in changes)
                        WriteChange(w, attribute, values);
            },
            ModifyResponse
        );

    private static void WriteChange(AsnWriter w, string attribute, IReadOnlyList<string> values)
    {
        using (w.PushSequence())
        {
            w.WriteEncodedValue([0x0A, 0x01, Replace]);
            using (w.PushSequence())
            {
                w.WriteOctetString(Encoding.ASCII.GetBytes(attribute));
                using (w.PushSetOf())
                    foreach (var value in values)
                        w.WriteOctetString(ByteText.Bytes(value));
            }
        }
    }

    private string? Ask(Asn1Tag request, Action<AsnWriter> content, Asn1Tag expected)
    {
        var w = new AsnWriter(AsnEncodingRules.BER);
        using (w.PushSequence())
        {
            w.WriteInteger(++_message);
            using (w.PushSequence(request))
                content(w);
        }
        _stream.Write(w.Encode());
        try
        {
            var envelope = new AsnReader(Message(), AsnEncodingRules.BER).ReadSequence();
            envelope.ReadInteger();
            var response = envelope.ReadSequence(expected);
            var code = (int)response.ReadEnumeratedBytes().Span[^1];
            response.ReadOctetString();
            var words = Encoding.UTF8.GetString(response.ReadOctetString()).Trim().TrimEnd('.');
            return code == Success ? null : $"result code {code}{(words.Length > 0 ? $", {words}" : "")}";
        }
        catch (AsnContentException e)
        {
            throw new IOException("what it sent is no answer to the request", e);
        }
    }

    private byte[] Message()
    {
        var head = new byte[2];
        _stream.ReadExactly(head);
        var more = head[1] > 0x80 ? new byte[head[1] & 0x7F] : [];
        if (head[0] != 0x30 || head[1] == 0x80 || more.Length > 4)
            throw new IOException("what it sent is no LDAP message");
        _stream.ReadExactly(more);
        var length = more.Aggregate(more.Length == 0 ? (long)head[1] : 0, (sum, b) => sum << 8 | b);
        if (length > MostAnswer)
            throw new IOException("it sent an LDAP message that is too long");
        var body = new byte[length];
        _stream.ReadExactly(body);
        return [.. head, .. more, .. body];
    }

    public void Dispose()
    {
        _stream.Dispose();
        _socket.Dispose();
    }
}
