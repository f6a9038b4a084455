using System.Net.Sockets;

namespace OrderlyBeacon.Probes;

/// <summary>Comes to where a handshake begins, as a client does, and asks something there that the platform's own handshakes do not tell.</summary>
internal static class AtTheGreeting
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);

    /// <returns>What was asked; null when it could not be found out.</returns>
    public static async Task<T?> AskAsync<T>(Probe probe, Func<Stream, CancellationToken, Task<T?>> ask, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            using var socket = await TlsProbe.ConnectAsync(probe, limit.Token);
            await using var stream = new NetworkStream(socket, ownsSocket: false);
            if (WaysToTls.Of(probe.Protocol) is { } way && await way.GoAsync(stream, probe.Name, limit.Token) is not null)
                return default;
            return await ask(stream, limit.Token);
        }
        catch (Exception e) when (e is SocketException or IOException)
        {
            return default;
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return default;
        }
    }
}
