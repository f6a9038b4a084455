using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text.Json;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>What a report says, whenever it was said, by digests: of the whole, and of each service where there are many.</summary>
/// <param name="Services">By the service's name; empty where they are so few that they are all looked at again.</param>
public sealed record ReportPrint(string Whole, IReadOnlyDictionary<string, long> Services)
{
    private const int Few = 20;

    public static ReportPrint Of(AgentReport report)
    {
        using var whole = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var each = report.Services.Count > Few ? new Dictionary<string, long>(report.Services.Count) : [];
        foreach (var service in report.Services)
        {
            var digest = SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(Undated(service), BeaconJson.Default.FoundService));
            whole.AppendData(digest);
            if (report.Services.Count > Few)
                each.TryAdd(service.Name, BinaryPrimitives.ReadInt64LittleEndian(digest));
        }
        var rest = report with { At = default, Services = [] };
        whole.AppendData(JsonSerializer.SerializeToUtf8Bytes(rest, BeaconJson.Default.AgentReport));
        return new(Convert.ToHexString(whole.GetHashAndReset()), each);
    }

    private static FoundService Undated(FoundService service) =>
        service with
        {
            Looks = [.. service.Looks.Select(l => l with { At = default })],
        };
}
