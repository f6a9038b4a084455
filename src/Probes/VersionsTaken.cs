using System.Security.Cryptography;
using OrderlyBeacon.Core.Handshakes;

namespace OrderlyBeacon.Probes;

/// <summary>Which versions of TLS a server takes: it is greeted in each of them, and let go after its first answer.</summary>
public static class VersionsTaken
{
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
            if (await AtTheGreeting.AskAsync(probe, (s, within) => GreetAsync(s, probe.Name, version, within), ct) is not { } isTaken)
                return null;
            if (isTaken)
                taken.Add(word);
        }
        return taken;
    }

    /// <returns>Null when nothing came back that says it.</returns>
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
