using System.Formats.Asn1;
using System.Text;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>How a client comes from a fresh connection to where a TLS handshake begins.</summary>
public interface IWayToTls
{
    /// <returns>Null when the handshake can begin; else why not, in the server's words.</returns>
    /// <param name="name">What the client calls the server.</param>
    /// <exception cref="IOException">The connection ended, or what came is not of this protocol.</exception>
    Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct);
}

/// <summary>No TLS comes about.</summary>
/// <param name="IsOffered">The server offers TLS and cannot give it now; otherwise it has none.</param>
public sealed record Refusal(bool IsOffered, string Words);

public static class WaysToTls
{
    private static readonly Dictionary<ProbeProtocol, IWayToTls> Known = new()
    {
        [ProbeProtocol.Smtp] = new SmtpWay(),
        [ProbeProtocol.Imap] = new ImapWay(),
        [ProbeProtocol.Pop3] = new Pop3Way(),
        [ProbeProtocol.Postgresql] = new PostgreSqlWay(),
        [ProbeProtocol.Ftp] = new FtpWay(),
        [ProbeProtocol.Ldap] = new LdapWay(),
        [ProbeProtocol.Mysql] = new MySqlWay(),
        [ProbeProtocol.Xmpp] = new XmppWay(),
    };

    /// <summary>Null when TLS begins at once.</summary>
    public static IWayToTls? Of(ProbeProtocol protocol) => Known.GetValueOrDefault(protocol);
}

/// <summary>Lines of a text protocol, bounded.</summary>
public static class ProtocolLines
{
    private const int MostBytes = 2048;
    public const int MostLines = 100;

    /// <exception cref="IOException">The connection ended, or a line does not.</exception>
    public static async Task<string> ReadAsync(Stream stream, CancellationToken ct)
    {
        // Byte by byte: nothing behind the line may be taken, the handshake could begin there.
        var line = new StringBuilder();
        var one = new byte[1];
        while (line.Length < MostBytes)
        {
            if (await stream.ReadAsync(one, ct) == 0)
                throw new IOException("the server closed the connection");
            if (one[0] == '\n')
                return line.ToString().TrimEnd('\r');
            line.Append((char)one[0]);
        }
        throw new IOException("the server sent a line without an end");
    }

    public static Task WriteAsync(Stream stream, string line, CancellationToken ct) =>
        stream.WriteAsync(Encoding.ASCII.GetBytes(line + "\r\n"), ct).AsTask();

    /// <summary>All lines of an answer: a hyphen behind the code says that a line follows (RFC 5321, section 4.2.1).</summary>
    public static async Task<List<string>> AnswerAsync(Stream stream, CancellationToken ct)
    {
        var lines = new List<string>();
        do lines.Add(await ReadAsync(stream, ct));
        while (lines[^1] is [_, _, _, '-', ..] && lines.Count < MostLines);
        return lines;
    }

    /// <summary>The last line: that of a longer answer begins with its code and a blank (RFC 959, section 4.2).</summary>
    public static async Task<string> FtpAnswerAsync(Stream stream, CancellationToken ct)
    {
        var line = await ReadAsync(stream, ct);
        if (line is not [_, _, _, '-', ..])
            return line;
        var end = line[..3] + " ";
        for (var i = 0; i < MostLines && !line.StartsWith(end, StringComparison.Ordinal); i++)
            line = await ReadAsync(stream, ct);
        return line;
    }

    public static string Short(string words) => words.Length > 200 ? words[..200] : words;
}

/// <summary>EHLO, STARTTLS (RFC 3207).</summary>
public sealed class SmtpWay : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var greeting = await ProtocolLines.AnswerAsync(stream, ct);
        if (!greeting[0].StartsWith("220", StringComparison.Ordinal))
            return new(true, ProtocolLines.Short(greeting[0]));
        await ProtocolLines.WriteAsync(stream, "EHLO beacon.invalid", ct);
        var offers = await ProtocolLines.AnswerAsync(stream, ct);
        if (!offers.Any(o => o.Length > 4 && o[4..].Trim().Equals("STARTTLS", StringComparison.OrdinalIgnoreCase)))
            return new(false, "it does not offer STARTTLS");
        await ProtocolLines.WriteAsync(stream, "STARTTLS", ct);
        var answer = await ProtocolLines.AnswerAsync(stream, ct);
        return answer[^1].StartsWith("220", StringComparison.Ordinal) ? null : new(true, ProtocolLines.Short(answer[^1]));
    }
}

/// <summary>AUTH TLS (RFC 4217, section 4).</summary>
public sealed class FtpWay : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var greeting = await ProtocolLines.FtpAnswerAsync(stream, ct);
        if (!greeting.StartsWith("220", StringComparison.Ordinal))
            return new(true, ProtocolLines.Short(greeting));
        await ProtocolLines.WriteAsync(stream, "AUTH TLS", ct);
        var answer = await ProtocolLines.FtpAnswerAsync(stream, ct);
        // 431 and 421: not now; the others: not at all.
        return answer.StartsWith("234", StringComparison.Ordinal) ? null : new(answer.StartsWith('4'), ProtocolLines.Short(answer));
    }
}

/// <summary>STARTTLS (RFC 9051, section 6.2.1).</summary>
public sealed class ImapWay : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var greeting = await ProtocolLines.ReadAsync(stream, ct);
        if (!greeting.StartsWith("* OK", StringComparison.OrdinalIgnoreCase))
            return new(true, ProtocolLines.Short(greeting));
        await ProtocolLines.WriteAsync(stream, "b1 STARTTLS", ct);
        for (var i = 0; i < ProtocolLines.MostLines; i++)
        {
            var line = await ProtocolLines.ReadAsync(stream, ct);
            if (line.StartsWith("b1 OK", StringComparison.OrdinalIgnoreCase))
                return null;
            // BAD: the command is not known, so there is no TLS; NO: it cannot be had now.
            if (line.StartsWith("b1 ", StringComparison.OrdinalIgnoreCase))
                return new(line.StartsWith("b1 NO", StringComparison.OrdinalIgnoreCase), ProtocolLines.Short(line[3..]));
        }
        return new(true, "it does not answer STARTTLS");
    }
}

/// <summary>STLS (RFC 2595, section 4), when CAPA (RFC 2449) lists it.</summary>
public sealed class Pop3Way : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var greeting = await ProtocolLines.ReadAsync(stream, ct);
        if (!greeting.StartsWith("+OK", StringComparison.Ordinal))
            return new(true, ProtocolLines.Short(greeting));
        await ProtocolLines.WriteAsync(stream, "CAPA", ct);
        var isOffered = false;
        if ((await ProtocolLines.ReadAsync(stream, ct)).StartsWith("+OK", StringComparison.Ordinal))
            for (var i = 0; i < ProtocolLines.MostLines && await ProtocolLines.ReadAsync(stream, ct) is var line && line != "."; i++)
                isOffered |= line.Equals("STLS", StringComparison.OrdinalIgnoreCase);
        if (!isOffered)
            return new(false, "it does not offer STLS");
        await ProtocolLines.WriteAsync(stream, "STLS", ct);
        var answer = await ProtocolLines.ReadAsync(stream, ct);
        return answer.StartsWith("+OK", StringComparison.Ordinal) ? null : new(true, ProtocolLines.Short(answer));
    }
}

/// <summary>SSLRequest of PostgreSQL's protocol 3.0: length 8, code 80877103; one byte answers.</summary>
public sealed class PostgreSqlWay : IWayToTls
{
    private static readonly byte[] SslRequest = [0, 0, 0, 8, 4, 210, 22, 47];

    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        await stream.WriteAsync(SslRequest, ct);
        var answer = new byte[1];
        if (await stream.ReadAsync(answer, ct) == 0)
            throw new IOException("the server closed the connection");
        return (char)answer[0] switch
        {
            'S' => null,
            'N' => new(false, "it has no TLS"),
            _ => new(true, "it answers with an error"),
        };
    }
}

/// <summary>StartTLS (RFC 4511, section 4.14): an extended request, answered by a result code.</summary>
public sealed class LdapWay : IWayToTls
{
    private const int MostAnswer = 8192,
        Success = 0,
        Unavailable = 52,
        Busy = 51;
    private static readonly Asn1Tag ExtendedRequest = new(TagClass.Application, 23),
        ExtendedResponse = new(TagClass.Application, 24),
        BindRequest = new(TagClass.Application, 0),
        BindResponse = new(TagClass.Application, 1),
        SearchRequest = new(TagClass.Application, 3),
        RequestName = new(TagClass.ContextSpecific, 0);

    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        await AskAsync(stream, ExtendedRequest, w => w.WriteOctetString("1.3.6.1.4.1.1466.20037"u8, RequestName), ct);
        var (code, words) = Result(await MessageAsync(stream, ct), ExtendedResponse);
        return code == Success
            ? null
            : new(
                code is Busy or Unavailable,
                ProtocolLines.Short(words.Length > 0 ? words : $"it refuses StartTLS with the result code {code}")
            );
    }

    /// <summary>The result code of a bind (RFC 4511, section 4.2) by a name that many directories have and a password that none has.</summary>
    public static async Task<int> BindAsync(Stream stream, CancellationToken ct)
    {
        await AskAsync(
            stream,
            BindRequest,
            w =>
            {
                w.WriteInteger(3);
                w.WriteOctetString("cn=config"u8);
                w.WriteOctetString("beacon"u8, new Asn1Tag(TagClass.ContextSpecific, 0));
            },
            ct
        );
        return Result(await MessageAsync(stream, ct), BindResponse).Code;
    }

    /// <summary>Whether somebody without a name is told what the directory is (RFC 4512, section 5.1).</summary>
    public static async Task<bool> IsAnsweredAsync(Stream stream, CancellationToken ct)
    {
        const int EntryTag = 4;
        await AskAsync(
            stream,
            SearchRequest,
            w =>
            {
                w.WriteOctetString([]);
                // The entry itself, no aliases; one at most, within five seconds; whatever it is; its kinds.
                w.WriteEncodedValue([0x0A, 1, 0]);
                w.WriteEncodedValue([0x0A, 1, 0]);
                w.WriteInteger(1);
                w.WriteInteger(5);
                w.WriteBoolean(false);
                w.WriteOctetString("objectClass"u8, new Asn1Tag(TagClass.ContextSpecific, 7));
                using (w.PushSequence())
                    w.WriteOctetString("objectClass"u8);
            },
            ct
        );
        try
        {
            var envelope = new AsnReader(await MessageAsync(stream, ct), AsnEncodingRules.BER).ReadSequence();
            envelope.ReadInteger();
            return envelope.PeekTag() is { TagClass: TagClass.Application, TagValue: EntryTag };
        }
        catch (AsnContentException)
        {
            throw new IOException("what it sent is no answer to the request");
        }
    }

    private static async Task AskAsync(Stream stream, Asn1Tag request, Action<AsnWriter> content, CancellationToken ct)
    {
        var w = new AsnWriter(AsnEncodingRules.BER);
        using (w.PushSequence())
        {
            w.WriteInteger(1);
            using (w.PushSequence(request))
                content(w);
        }
        await stream.WriteAsync(w.Encode(), ct);
    }

    /// <summary>One message and not a byte more: the handshake begins behind it.</summary>
    private static async Task<byte[]> MessageAsync(Stream stream, CancellationToken ct)
    {
        var head = new byte[2];
        await stream.ReadExactlyAsync(head, ct);
        var more = head[1] > 0x80 ? new byte[head[1] & 0x7F] : [];
        if (head[0] != 0x30 || head[1] == 0x80 || more.Length > 4)
            throw new IOException("what it sent is no LDAP message");
        await stream.ReadExactlyAsync(more, ct);
        var length = more.Aggregate(more.Length == 0 ? (long)head[1] : 0, (sum, b) => sum << 8 | b);
        if (length > MostAnswer)
            throw new IOException("it sent an LDAP message that is too long");
        var body = new byte[length];
        await stream.ReadExactlyAsync(body, ct);
        return [.. head, .. more, .. body];
    }

    private static (int Code, string Words) Result(byte[] message, Asn1Tag expected)
    {
        try
        {
            var envelope = new AsnReader(message, AsnEncodingRules.BER).ReadSequence();
            envelope.ReadInteger();
            var response = envelope.ReadSequence(expected);
            var code = (int)response.ReadEnumeratedBytes().Span[^1];
            response.ReadOctetString();
            return (code, Encoding.UTF8.GetString(response.ReadOctetString()));
        }
        catch (AsnContentException)
        {
            throw new IOException("what it sent is no answer to the request");
        }
    }
}

/// <summary>The server greets with what it can; a client that wants TLS answers with the first part of its own greeting and goes on inside TLS.</summary>
public sealed class MySqlWay : IWayToTls
{
    private const int MostGreeting = 4096,
        ErrorPacket = 0xFF,
        ProtocolVersion = 10;
    private const ushort CanTls = 0x0800;

    // Length 32, number 1; version 4.1 with TLS and its kind of passwords; 16 MiB; utf8mb4; 23 zeros.
    private static readonly byte[] SslRequest = [32, 0, 0, 1, 0x00, 0x8A, 0, 0, 0, 0, 0, 1, 45, .. new byte[23]];

    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var head = new byte[4];
        await stream.ReadExactlyAsync(head, ct);
        var length = head[0] | head[1] << 8 | head[2] << 16;
        if (length is 0 or > MostGreeting)
            throw new IOException("what it sent is no greeting of a MySQL or MariaDB server");
        var greeting = new byte[length];
        await stream.ReadExactlyAsync(greeting, ct);
        if (greeting[0] == ErrorPacket)
            return new(true, ProtocolLines.Short(Encoding.UTF8.GetString(greeting.AsSpan(Math.Min(3, length)))));
        // Version as text with a zero behind it, 4 bytes of number, 8 of salt, a zero, what it can.
        var version = Array.IndexOf(greeting, (byte)0, 1);
        var abilities = version + 1 + 4 + 8 + 1;
        if (greeting[0] != ProtocolVersion || version < 0 || abilities + 2 > length)
            throw new IOException("what it sent is no greeting of a MySQL or MariaDB server");
        if (((greeting[abilities] | greeting[abilities + 1] << 8) & CanTls) == 0)
            return new(false, "it has no TLS");
        await stream.WriteAsync(SslRequest, ct);
        return null;
    }
}

/// <summary>STARTTLS in a client's stream (RFC 6120, sections 4.2 and 5.4).</summary>
public sealed class XmppWay : IWayToTls
{
    private const int MostAnswer = 16384;

    public async Task<Refusal?> GoAsync(Stream stream, string name, CancellationToken ct)
    {
        var to = System.Security.SecurityElement.Escape(name);
        await WriteAsync(
            stream,
            $"<?xml version='1.0'?><stream:stream to='{to}' version='1.0' xmlns='jabber:client' xmlns:stream='http://etherx.jabber.org/streams'>",
            ct
        );
        var features = await UntilAsync(stream, ["</stream:features>", "</stream:stream>", "</features>"], ct);
        if (!features.Contains("urn:ietf:params:xml:ns:xmpp-tls", StringComparison.Ordinal))
            return new(
                false,
                features.Contains("host-unknown", StringComparison.Ordinal) ? $"it does not serve {name}" : "it does not offer STARTTLS"
            );
        await WriteAsync(stream, "<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>", ct);
        var answer = await UntilAsync(stream, [">"], ct);
        return answer.Contains("<proceed", StringComparison.Ordinal) ? null : new(true, "it offers STARTTLS and refuses it");
    }

    private static ValueTask WriteAsync(Stream stream, string text, CancellationToken ct) =>
        stream.WriteAsync(Encoding.UTF8.GetBytes(text), ct);

    // Byte by byte, as lines are.
    private static async Task<string> UntilAsync(Stream stream, string[] ends, CancellationToken ct)
    {
        var text = new StringBuilder();
        var one = new byte[1];
        while (text.Length < MostAnswer)
        {
            if (await stream.ReadAsync(one, ct) == 0)
                throw new IOException("the server closed the connection");
            text.Append((char)one[0]);
            if (one[0] == '>' && text.ToString() is var said && ends.Any(e => said.EndsWith(e, StringComparison.Ordinal)))
                return said;
        }
        throw new IOException("what it sent is no XMPP stream");
    }
}
