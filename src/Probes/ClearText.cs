using System.Net;
using System.Net.Sockets;
using System.Text;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>
/// Tries how far a client without TLS gets at an endpoint. It stops before anything is given away or kept: no password is sent, no mail, no file. (MySQL's protocol
/// cannot be tried so: a server says after a correct password alone whether it wanted TLS.)
/// </summary>
public static class ClearText
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    /// <summary>What is read on the wire now. Nothing when nobody listens there.</summary>
    /// <param name="name">The name that a client would use.</param>
    /// <exception cref="IOException">It took the connection, and what it sent does not tell.</exception>
    public static async Task<IReadOnlyList<Readable>> ReadableAsync(EndpointInfo e, string name, CancellationToken ct)
    {
        if (WayOf(e) is not { } way)
            return Exposed.Nothing;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            var ip = await TlsProbe.AddressOfAsync(e.Address, limit.Token);
            if (await ConnectAsync(ip, e.Port, way.FromElsewhere, limit.Token) is not { } socket)
                return Exposed.Nothing;
            using var open = socket;
            await using var stream = new NetworkStream(socket, ownsSocket: false);
            return await way.TryAsync(stream, name, limit.Token);
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            throw new IOException($"no answer within {Patience.TotalSeconds:0} seconds");
        }
        catch (SocketException x)
        {
            throw new IOException(x.Message, x);
        }
    }

    /// <returns>Null when nobody listens there.</returns>
    private static async Task<Socket?> ConnectAsync(IPAddress ip, int port, bool fromElsewhere, CancellationToken ct)
    {
        var socket = new Socket(ip.AddressFamily, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            if (fromElsewhere)
                Elsewhere(socket, ip);
            await socket.ConnectAsync(ip, port, ct);
            return socket;
        }
        catch (SocketException e)
        {
            socket.Dispose();
            // Another host is not reached from this machine's own addresses, and takes whoever comes for somebody from elsewhere.
            return fromElsewhere && e.SocketErrorCode != SocketError.ConnectionRefused
                ? await ConnectAsync(ip, port, fromElsewhere: false, ct)
                : null;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    /// <summary>Whether there is a way to try it: where there is none, nothing is known of it.</summary>
    public static bool IsKnown(ProbeProtocol protocol) => WayOf(new("", 0, Tls: false) { Protocol = protocol }) is not null;

    private static ClearTextWay? WayOf(EndpointInfo e) =>
        e.Protocol switch
        {
            ProbeProtocol.Smtp => new(Smtp),
            ProbeProtocol.Imap => new(Imap, FromElsewhere: true),
            ProbeProtocol.Pop3 => new(Pop3, FromElsewhere: true),
            ProbeProtocol.Ftp => new(Ftp),
            ProbeProtocol.Ldap => new(Ldap),
            ProbeProtocol.Postgresql => new(PostgreSql),
            ProbeProtocol.Tls when e.Tls => null,
            ProbeProtocol.Tls when e.Readable?.Contains(Readable.Queries) == true => new(Redis),
            ProbeProtocol.Tls => new(Http),
            _ => null,
        };

    /// <param name="FromElsewhere">Servers take clients that come from their own address for safe, whatever they demand of others.</param>
    private sealed record ClearTextWay(
        Func<Stream, string, CancellationToken, Task<IReadOnlyList<Readable>>> TryAsync,
        bool FromElsewhere = false
    );

    // All of this machine reaches all of its addresses from any of them.
    private static void Elsewhere(Socket socket, IPAddress ip)
    {
        if (ip.AddressFamily != AddressFamily.InterNetwork)
            return;
        try
        {
            socket.Bind(new IPEndPoint(ip.Equals(IPAddress.Loopback) ? IPAddress.Parse("127.0.0.2") : IPAddress.Loopback, 0));
        }
        catch (SocketException) { }
    }

    /// <summary>A sender of mail gets as far as naming himself; a name and password may be given where AUTH is offered (RFC 4954).</summary>
    private static async Task<IReadOnlyList<Readable>> Smtp(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.AnswerAsync(s, ct);
        await ProtocolLines.WriteAsync(s, "EHLO beacon.invalid", ct);
        var offers = await ProtocolLines.AnswerAsync(s, ct);
        var hasLogins = offers.Any(o => o.Length > 4 && o[4..].StartsWith("AUTH", StringComparison.OrdinalIgnoreCase));
        await ProtocolLines.WriteAsync(s, "MAIL FROM:<>", ct);
        var takesMail = (await ProtocolLines.AnswerAsync(s, ct))[^1].StartsWith('2');
        await ProtocolLines.WriteAsync(s, "QUIT", ct);
        return (hasLogins, takesMail) switch
        {
            (true, _) => Exposed.MailAndLogins,
            (false, true) => Exposed.Mail,
            _ => Exposed.Nothing,
        };
    }

    /// <summary>LOGINDISABLED (RFC 9051, section 6.2.3) forbids clients to log in.</summary>
    private static async Task<IReadOnlyList<Readable>> Imap(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.ReadAsync(s, ct);
        await ProtocolLines.WriteAsync(s, "b1 CAPABILITY", ct);
        var isDisabled = false;
        for (var i = 0; i < ProtocolLines.MostLines; i++)
        {
            var line = await ProtocolLines.ReadAsync(s, ct);
            if (line.StartsWith("b1 ", StringComparison.OrdinalIgnoreCase))
                break;
            isDisabled |= line.Split(' ').Contains("LOGINDISABLED", StringComparer.OrdinalIgnoreCase);
        }
        await ProtocolLines.WriteAsync(s, "b2 LOGOUT", ct);
        return isDisabled ? Exposed.Nothing : Exposed.MailAndLogins;
    }

    /// <summary>USER is refused where a password may not follow.</summary>
    private static async Task<IReadOnlyList<Readable>> Pop3(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.ReadAsync(s, ct);
        await ProtocolLines.WriteAsync(s, "USER beacon", ct);
        var isTaken = (await ProtocolLines.ReadAsync(s, ct)).StartsWith("+OK", StringComparison.Ordinal);
        await ProtocolLines.WriteAsync(s, "QUIT", ct);
        return isTaken ? Exposed.MailAndLogins : Exposed.Nothing;
    }

    /// <summary>331 asks for the password (RFC 959, section 5.4).</summary>
    private static async Task<IReadOnlyList<Readable>> Ftp(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.FtpAnswerAsync(s, ct);
        await ProtocolLines.WriteAsync(s, "USER beacon", ct);
        var answer = await ProtocolLines.FtpAnswerAsync(s, ct);
        await ProtocolLines.WriteAsync(s, "QUIT", ct);
        return answer is ['2' or '3', ..] ? Exposed.FilesAndLogins : Exposed.Nothing;
    }

    /// <summary>Where TLS is required, everything is refused by one result code: confidentialityRequired (RFC 4511, section 4.1.9).</summary>
    private static async Task<IReadOnlyList<Readable>> Ldap(Stream s, string name, CancellationToken ct)
    {
        const int ConfidentialityRequired = 13,
            StrongerAuthRequired = 8;
        var refused = await LdapWay.BindAsync(s, ct);
        // A domain controller says so; the root entry, which it tells everybody, is all that it tells then ([MS-ADTS], section 5.1.1.1.1).
        if (refused == StrongerAuthRequired)
            return Exposed.Nothing;
        if (refused != ConfidentialityRequired)
            return Exposed.QueriesAndLogins;
        return await LdapWay.IsAnsweredAsync(s, ct) ? Exposed.Queries : Exposed.Nothing;
    }

    /// <summary>A start message of protocol 3.0: an error of class 28 comes before any password is asked for.</summary>
    private static async Task<IReadOnlyList<Readable>> PostgreSql(Stream s, string name, CancellationToken ct)
    {
        const int MostAnswer = 8192;
        var words = Encoding.ASCII.GetBytes("user\0beacon\0database\0postgres\0\0");
        await s.WriteAsync((byte[])[0, 0, 0, (byte)(8 + words.Length), 0, 3, 0, 0, .. words], ct);
        var head = new byte[5];
        await s.ReadExactlyAsync(head, ct);
        if (head[0] != 'E')
            return Exposed.Queries;
        var length = head[1] << 24 | head[2] << 16 | head[3] << 8 | head[4];
        var body = new byte[Math.Clamp(length - 4, 0, MostAnswer)];
        await s.ReadExactlyAsync(body, ct);
        return Encoding.UTF8.GetString(body).Split('\0').Contains("C28000") ? Exposed.Nothing : Exposed.Queries;
    }

    private static async Task<IReadOnlyList<Readable>> Redis(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.WriteAsync(s, "PING", ct);
        return await ProtocolLines.ReadAsync(s, ct) is ['+' or '-', ..] ? Exposed.Queries : Exposed.Nothing;
    }

    /// <summary>Pages that only send their clients to https give nothing away but that they were asked for.</summary>
    private static async Task<IReadOnlyList<Readable>> Http(Stream s, string name, CancellationToken ct)
    {
        await ProtocolLines.WriteAsync(s, $"GET / HTTP/1.1\r\nHost: {name}\r\nConnection: close\r\n", ct);
        var status = await ProtocolLines.ReadAsync(s, ct);
        if (status.Split(' ') is not [_, ['3', _, _], ..])
            return Exposed.Pages;
        for (var i = 0; i < ProtocolLines.MostLines; i++)
        {
            var line = await ProtocolLines.ReadAsync(s, ct);
            if (line.Length == 0)
                break;
            if (line.StartsWith("Location:", StringComparison.OrdinalIgnoreCase))
                return line[9..].Trim().StartsWith("https://", StringComparison.OrdinalIgnoreCase) ? Exposed.Nothing : Exposed.Pages;
        }
        return Exposed.Pages;
    }
}
