using System.Buffers.Binary;
using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Dane;

namespace OrderlyBeacon.Service.Records;

/// <summary>A zone that the service may write, its name server, and the key for it.</summary>
internal sealed record WritableZone(string Zone, IPEndPoint Server, string KeyName, string KeyFile);

/// <summary>Brings TLSA records into the zones that the settings name, and takes them out (RFC 2136). Over TCP, so that no answer is cut short.</summary>
public sealed class ZoneUpdates
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);
    private const int MostChanges = 50,
        LeastSecret = 16,
        MostSecret = 512;
    private readonly IReadOnlyList<WritableZone> _zones;
    private readonly TimeProvider _clock;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> when the settings cannot be read.</exception>
    public ZoneUpdates(BeaconOptions options, TimeProvider clock) =>
        (_zones, _clock) = (
            [.. options.DnsUpdates.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(Read)],
            clock
        );

    /// <summary>Reads each key once, so that a mistake is said at the start.</summary>
    public void Check()
    {
        foreach (var z in _zones)
            CryptographicOperations.ZeroMemory(Key(z).Secret);
    }

    /// <summary>The server that is asked about a name of such a zone, since it knows first; null when the name is in none.</summary>
    public IPEndPoint? ServerOf(string owner) => ZoneOf(owner)?.Server;

    public bool MayWrite(string owner) => ZoneOf(owner) is not null;

    private WritableZone? ZoneOf(string owner) =>
        _zones.Where(z => owner.EndsWith("." + z.Zone, StringComparison.Ordinal)).MaxBy(z => z.Zone.Length);

    /// <summary>Makes the changes, zone by zone. Making them twice changes nothing.</summary>
    /// <param name="changes">Of owners that <see cref="MayWrite"/>.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ZoneRefused"/>, or <see cref="ProblemCode.Unreachable"/>; some of them may have been made.</exception>
    public async Task RunAsync(IEnumerable<RecordChange> changes, CancellationToken ct)
    {
        foreach (var zone in changes.GroupBy(c => ZoneOf(c.Owner)!))
        foreach (var some in zone.Chunk(MostChanges))
            await SendAsync(zone.Key, some, ct);
    }

    private async Task SendAsync(WritableZone zone, RecordChange[] changes, CancellationToken ct)
    {
        var key = Key(zone);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            var id = (ushort)RandomNumberGenerator.GetInt32(1 << 16);
            var signed = DnsUpdate.Write(id, zone.Zone, changes, key, _clock.GetUtcNow());
            DnsUpdate.ReadAnswer(await AskAsync(zone.Server, signed.Message, limit.Token), signed, key);
        }
        catch (Exception e) when (e is SocketException or IOException || (e is OperationCanceledException && !ct.IsCancellationRequested))
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"The name server of {zone.Zone} ({zone.Server}) does not answer: {(e is OperationCanceledException ? "no answer in time" : e.Message)}.",
                "See that it runs and takes updates over TCP; it is tried again.",
                e
            );
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key.Secret);
        }
    }

    /// <summary>Each message has its length in front of it (RFC 1035, section 4.2.2).</summary>
    private static async Task<byte[]> AskAsync(IPEndPoint server, byte[] message, CancellationToken ct)
    {
        using var tcp = new TcpClient(server.AddressFamily);
        await tcp.ConnectAsync(server, ct);
        await using var stream = tcp.GetStream();
        var length = new byte[2];
        BinaryPrimitives.WriteUInt16BigEndian(length, (ushort)message.Length);
        await stream.WriteAsync((byte[])[.. length, .. message], ct);
        await stream.ReadExactlyAsync(length, ct);
        var answer = new byte[Math.Min((int)BinaryPrimitives.ReadUInt16BigEndian(length), DnsUpdate.MostAnswer)];
        await stream.ReadExactlyAsync(answer, ct);
        return answer;
    }

    private static UpdateKey Key(WritableZone zone)
    {
        try
        {
            const UnixFileMode others =
                UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute;
            if ((File.GetUnixFileMode(zone.KeyFile) & others) != 0)
                throw new BeaconProblem(
                    ProblemCode.InputInvalid,
                    $"The key of {zone.Zone}, {zone.KeyFile}, can be read or written by others.",
                    $"chmod 600 {zone.KeyFile}"
                );
            var secret = Convert.FromBase64String(File.ReadAllText(zone.KeyFile).Trim());
            return secret.Length is >= LeastSecret and <= MostSecret
                ? new(zone.KeyName, secret)
                : throw new FormatException($"it has {secret.Length} bytes, not {LeastSecret} to {MostSecret}.");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or FormatException)
        {
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"The key of {zone.Zone} cannot be read from {zone.KeyFile}: {e.Message}",
                "Put the secret of the name server's key (TSIG, hmac-sha256) there, in Base64, for the service's account alone.",
                e
            );
        }
    }

    private static WritableZone Read(string entry)
    {
        if (
            entry.Split('=', 2) is [{ Length: > 0 } zone, var rest]
            && rest.Split(',', StringSplitOptions.TrimEntries) is [var server, { Length: > 0 } name, { Length: > 0 } file]
            && IPEndPoint.TryParse(server, out var address)
        )
            return new(
                Core.Names.DnsName.Parse(zone).Ascii,
                address.Port == 0 ? new(address.Address, 53) : address,
                name,
                Path.GetFullPath(file)
            );
        throw new BeaconProblem(
            ProblemCode.InputInvalid,
            $"BEACON_DNSUPDATES has \"{entry}\".",
            "Write ZONE=SERVER,KEY-NAME,KEY-FILE, several separated by semicolons; the server is an address, with its port where it is not 53."
        );
    }
}
