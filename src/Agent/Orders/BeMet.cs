using System.Globalization;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Waits at an address of this host until the service has met the agent there: one connection, a few seconds, no other use.</summary>
internal static class BeMet
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);
    private const int MostBytes = 200;

    /// <param name="tell">Tells the service the port, in a step.</param>
    public static async Task RunAsync(long order, string address, X509Certificate2 own, Func<string, Task> tell, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            using var listener = new TcpListener(IPAddress.Parse(address), 0);
            listener.Start(4);
            await tell(MeetingWords.Waiting + ((IPEndPoint)listener.LocalEndpoint).Port.ToString(CultureInfo.InvariantCulture));
            // Somebody else may knock first: only who knows the order's number is the service.
            while (!await AnswerAsync(listener, order, own, limit.Token)) { }
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"Nobody came to {address} in time.",
                "Check that the service can reach that address."
            );
        }
        catch (Exception e) when (e is SocketException or FormatException)
        {
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"The agent cannot wait at {address}: {e.Message}",
                "Check that the address is this host's own."
            );
        }
    }

    private static async Task<bool> AnswerAsync(TcpListener listener, long order, X509Certificate2 own, CancellationToken ct)
    {
        using var client = await listener.AcceptTcpClientAsync(ct);
        try
        {
            await using var tls = new SslStream(client.GetStream());
            await tls.AuthenticateAsServerAsync(new SslServerAuthenticationOptions { ServerCertificate = own }, ct);
            var line = new byte[MostBytes];
            var length = 0;
            while (length < line.Length && (length == 0 || line[length - 1] != '\n'))
                length += await tls.ReadAtLeastAsync(line.AsMemory(length, 1), 1, cancellationToken: ct);
            if (!Encoding.ASCII.GetString(line, 0, length).StartsWith($"{order} ", StringComparison.Ordinal))
                return false;
            await tls.WriteAsync(line.AsMemory(0, length), ct);
            await tls.ShutdownAsync();
            return true;
        }
        catch (Exception e) when (e is IOException or AuthenticationException)
        {
            return false;
        }
    }
}
