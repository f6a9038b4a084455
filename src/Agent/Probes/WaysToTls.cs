using System.Text;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Probes;

/// <summary>How a client comes from a fresh connection to where a TLS handshake begins.</summary>
internal interface IWayToTls
{
    /// <returns>Null when the handshake can begin; else why not, in the server's words.</returns>
    Task<Refusal?> GoAsync(Stream stream, CancellationToken ct);
}

/// <summary>No TLS comes about.</summary>
/// <param name="IsOffered">The server offers TLS and cannot give it now; otherwise it has none.</param>
internal sealed record Refusal(bool IsOffered, string Words);

internal static class WaysToTls
{
    private static readonly Dictionary<ProbeProtocol, IWayToTls> Known = new()
    {
        [ProbeProtocol.Smtp] = new SmtpWay(),
        [ProbeProtocol.Imap] = new ImapWay(),
        [ProbeProtocol.Pop3] = new Pop3Way(),
        [ProbeProtocol.Postgresql] = new PostgreSqlWay(),
    };

    /// <summary>Null when TLS begins at once.</summary>
    public static IWayToTls? Of(ProbeProtocol protocol) => Known.GetValueOrDefault(protocol);
}

/// <summary>Lines of a text protocol, bounded.</summary>
internal static class ProtocolLines
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

    public static string Short(string words) => words.Length > 200 ? words[..200] : words;
}

/// <summary>EHLO, STARTTLS (RFC 3207).</summary>
internal sealed class SmtpWay : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, CancellationToken ct)
    {
        var greeting = await AnswerAsync(stream, ct);
        if (!greeting[0].StartsWith("220", StringComparison.Ordinal))
            return new(true, ProtocolLines.Short(greeting[0]));
        await ProtocolLines.WriteAsync(stream, "EHLO beacon.invalid", ct);
        var offers = await AnswerAsync(stream, ct);
        if (!offers.Any(o => o.Length > 4 && o[4..].Trim().Equals("STARTTLS", StringComparison.OrdinalIgnoreCase)))
            return new(false, "it does not offer STARTTLS");
        await ProtocolLines.WriteAsync(stream, "STARTTLS", ct);
        var answer = await AnswerAsync(stream, ct);
        return answer[^1].StartsWith("220", StringComparison.Ordinal) ? null : new(true, ProtocolLines.Short(answer[^1]));
    }

    // A hyphen behind the code says that a line follows (RFC 5321, section 4.2.1).
    private static async Task<List<string>> AnswerAsync(Stream stream, CancellationToken ct)
    {
        var lines = new List<string>();
        do lines.Add(await ProtocolLines.ReadAsync(stream, ct));
        while (lines[^1] is [_, _, _, '-', ..] && lines.Count < ProtocolLines.MostLines);
        return lines;
    }
}

/// <summary>STARTTLS (RFC 9051, section 6.2.1).</summary>
internal sealed class ImapWay : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, CancellationToken ct)
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
internal sealed class Pop3Way : IWayToTls
{
    public async Task<Refusal?> GoAsync(Stream stream, CancellationToken ct)
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
internal sealed class PostgreSqlWay : IWayToTls
{
    private static readonly byte[] SslRequest = [0, 0, 0, 8, 4, 210, 22, 47];

    public async Task<Refusal?> GoAsync(Stream stream, CancellationToken ct)
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
