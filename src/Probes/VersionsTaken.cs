using System.Net.Sockets;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Handshakes;

namespace OrderlyBeacon.Probes;

/// <summary>Which versions of TLS a server takes: it is greeted in each of them, and let go after its first answer.</summary>
public static class VersionsTaken
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);
    private static readonly (TlsVersion Version, string Word)[] All =
    [
        (TlsVersion.Tls10, "TLS 1.0"),
        (TlsVersion.Tls11, "TLS 1.1"),
        (TlsVersion.Tls12, "TLS 1.2"),
        (TlsVersion.Tls13, "TLS 1.3"),
    ];

    /// <returns>Their words, oldest first; null when that could not be found out.</returns>
    public static async Task<IReadOnlyList<string>?> AskAsync(Probe probe, CancellationToken ct)
    {
        var taken = new List<string>();
        foreach (var (version, word) in All)
        {
            if (await AskAsync(probe, version, ct) is not { } isTaken)
                return null;
            if (isTaken)
                taken.Add(word);
        }
        return taken;
    }

    /// <returns>Null when nothing came back that says it.</returns>
    private static async Task<bool?> AskAsync(Probe probe, TlsVersion version, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            using var socket = await TlsProbe.ConnectAsync(probe, limit.Token);
            await using var stream = new NetworkStream(socket, ownsSocket: false);
            if (WaysToTls.Of(probe.Protocol) is { } way && await way.GoAsync(stream, probe.Name, limit.Token) is not null)
                return null;
            return await GreetAsync(stream, probe.Name, version, limit.Token);
        }
        catch (Exception e) when (e is SocketException or IOException)
        {
            return null;
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return null;
        }
    }

    private static async Task<bool?> GreetAsync(Stream stream, string name, TlsVersion version, CancellationToken ct)
    {
        await stream.WriteAsync(TlsGreeting.Write(version, name, RandomNumberGenerator.GetBytes(TlsGreeting.RandomBytes)), ct);
        var header = new byte[TlsGreeting.RecordHeader];
        try
        {
            await stream.ReadExactlyAsync(header, ct);
            if (TlsGreeting.LengthOf(header) is not { } length)
                return null;
            var record = new byte[header.Length + length];
            header.CopyTo(record, 0);
            await stream.ReadExactlyAsync(record.AsMemory(header.Length), ct);
            return TlsGreeting.Read(version, record) switch
            {
                TlsReply.Taken => true,
                TlsReply.Refused => false,
                _ => null,
            };
        }
        // Some let go without a word of what they do not take.
        catch (IOException)
        {
            return false;
        }
    }
}
