using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Text;

namespace OrderlyBeacon.Agent.Connectors.Redis;

/// <summary>A connection to a running Redis that sends one command after another, in the protocol that it has published (RESP2): arrays of bulk strings, one line as answer.</summary>
internal sealed class RedisLine : IDisposable
{
    private const int MostAnswer = 4096;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);
    private readonly Socket _socket;
    private readonly Stream _stream;

    private RedisLine(Socket socket, Stream stream) => (_socket, _stream) = (socket, stream);

    /// <exception cref="IOException">It does not answer.</exception>
    public static RedisLine Open(EndPoint end, bool tls)
    {
        var socket =
            end is UnixDomainSocketEndPoint
                ? new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified)
                : new Socket(end.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
        try
        {
            (socket.ReceiveTimeout, socket.SendTimeout) = ((int)Patience.TotalMilliseconds, (int)Patience.TotalMilliseconds);
            socket.Connect(end);
            Stream stream = new NetworkStream(socket);
            if (tls)
            {
                // To an address of this machine, whatever certificate it has now: that is what is about to change.
                var secure = new SslStream(stream, false, (_, _, _, _) => true);
                secure.AuthenticateAsClient("localhost");
                stream = secure;
            }
            return new(socket, stream);
        }
        catch (Exception e) when (e is SocketException or IOException or System.Security.Authentication.AuthenticationException)
        {
            socket.Dispose();
            throw new IOException(e.Message, e);
        }
    }

    /// <summary>The answer's first line, without its sign, and whether it is an error.</summary>
    /// <exception cref="IOException">The connection ended.</exception>
    public (bool IsError, string Text) Ask(params IReadOnlyList<string> command)
    {
        var message = new MemoryStream();
        Write($"*{command.Count}\r\n");
        foreach (var word in command)
        {
            var bytes = ByteText.Bytes(word);
            Write($"${bytes.Length}\r\n");
            message.Write(bytes);
            Write("\r\n");
        }
        _stream.Write(message.ToArray());
        var answer = Line();
        return (answer.StartsWith('-'), answer.Length > 0 ? answer[1..] : "");

        void Write(string text) => message.Write(Encoding.ASCII.GetBytes(text));
    }

    /// <summary>A setting that it runs with: an array of its name and its value, each behind a line with its length.</summary>
    /// <exception cref="IOException">The connection ended, or it does not say.</exception>
    public string Setting(string name)
    {
        if (Ask("CONFIG", "GET", name) is not (false, "2"))
            throw new IOException($"it does not say its setting {name}");
        for (var i = 0; i < 3; i++)
            Line();
        return Line();
    }

    private string Line()
    {
        var line = new StringBuilder();
        while (line.Length < MostAnswer)
            switch (_stream.ReadByte())
            {
                case -1:
                    throw new IOException("it closed the connection");
                case '\n':
                    return line.ToString().TrimEnd('\r');
                case var b:
                    line.Append((char)b);
                    break;
            }
        throw new IOException("it sent a line without an end");
    }

    public void Dispose()
    {
        _stream.Dispose();
        _socket.Dispose();
    }
}
