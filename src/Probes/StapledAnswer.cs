using System.Security.Cryptography;
using OrderlyBeacon.Core.Handshakes;

namespace OrderlyBeacon.Probes;

/// <summary>
/// The answer about its certificate that a server sends along when it is asked (RFC 6066, section 8). It is asked in TLS 1.2, where that part of the handshake can be read without
/// ending it; the platform's own handshakes keep it to themselves.
/// </summary>
public static class StapledAnswer
{
    /// <summary>Answers have two thousand bytes or so; larger ones are none that a client would wait for.</summary>
    private const int MostBytes = 16 << 10;

    /// <returns>The answer, Base64 of its DER; empty when none is sent; null when that could not be found out.</returns>
    public static Task<string?> AskAsync(Probe probe, CancellationToken ct) =>
        AtTheGreeting.AskAsync<string>(
            probe,
            async (stream, within) =>
            {
                var random = RandomNumberGenerator.GetBytes(TlsGreeting.RandomBytes);
                await stream.WriteAsync(TlsGreeting.Write(TlsVersion.Tls12, probe.Name, random, asksStatus: true), within);
                return await ReadAsync(stream, within);
            },
            ct
        );

    private static async Task<string?> ReadAsync(Stream stream, CancellationToken ct)
    {
        var flight = new ServerFlight();
        var header = new byte[TlsGreeting.RecordHeader];
        while (flight.IsGoingOn)
        {
            await stream.ReadExactlyAsync(header, ct);
            if (TlsGreeting.LengthOf(header) is not { } length)
                return null;
            var content = new byte[length];
            await stream.ReadExactlyAsync(content, ct);
            flight.Add(header[0], content);
        }
        if (!flight.IsWhole)
            return null;
        if (flight.Staple is not { } staple)
            return "";
        return staple.Length <= MostBytes ? Convert.ToBase64String(staple.Span) : null;
    }
}
