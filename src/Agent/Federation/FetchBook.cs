using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Federation;

/// <summary>Who has fetched what a provider publishes, as far as its web server's log was read.</summary>
/// <param name="Set">The certificates that it signs with and publishes: another set is counted anew.</param>
/// <param name="Since">Fetches before do not count.</param>
/// <param name="Log">The log's first line, by which it is known again after it was turned over; empty when there was none.</param>
/// <param name="Offset">How far it was read, in bytes.</param>
internal sealed record FetchRecord(string Set, DateTimeOffset Since, string Log, long Offset, IReadOnlyList<MetadataFetch> Fetches);

/// <summary>The records, one file for each provider: <c>federation/NAME.json</c>. Written when something was counted.</summary>
internal sealed class FetchBook(string state, TimeProvider clock)
{
    private const int MostAtOnce = 16 << 20,
        MostFetches = 500,
        LongestFirstLine = 4096,
        LongestAddress = 64;

    /// <summary>PHP keeps a file for as long as two seconds: who came in that time may have got what was there before.</summary>
    private static readonly TimeSpan Settles = TimeSpan.FromSeconds(4);

    private string PathOf(string instance, string entity) =>
        Path.Combine(
            state,
            "federation",
            Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{instance}\n{entity}"))[..16]) + ".json"
        );

    /// <summary>Adds what is known of fetches to what was found.</summary>
    public FoundProvider Count(IFederation server, FoundProvider found)
    {
        // As long as it publishes one alone, nobody has to learn anything.
        if (found is not { Signs: { } signs, Also: { } also })
            return found;
        if (server.AccessLog is not { } log)
            return found with { NotCounted = "The agent was not told where requests are logged (\"accessLog\" in agent.json)." };
        var path = PathOf(found.Instance, found.Entity);
        var set = string.Join(' ', new[] { signs.Thumbprint, also.Thumbprint }.Order(StringComparer.Ordinal));
        try
        {
            var kept = Read(path);
            var record = kept?.Set == set ? kept : new(set, clock.GetUtcNow() + Settles, "", -1, []);
            var counted = ReadOn(record, log, server.MetadataPath(found.Entity));
            if (counted != kept)
                AtomicFiles.Write(path, JsonSerializer.SerializeToUtf8Bytes(counted, AgentJson.Default.FetchRecord), isPrivate: true);
            return found with { Since = counted.Since, Fetches = counted.Fetches };
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return found with { NotCounted = $"{log} cannot be read: {e.Message}" };
        }
    }

    private static FetchRecord? Read(string path)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.FetchRecord) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static FetchRecord ReadOn(FetchRecord record, string log, string metadata)
    {
        using var now = Open(log) ?? throw new IOException("it is not there");
        var first = FirstLine(now);
        // Counting begins with what comes from now on.
        if (record.Offset < 0)
            return record with { Log = first, Offset = now.Length };
        if (record.Log == first || record.Log.Length == 0)
            return Read(record with { Log = first }, now, metadata);
        using var turned = Open(log + ".1");
        if (turned is not null && FirstLine(turned) == record.Log)
            record = Read(record, turned, metadata);
        return Read(record with { Log = first, Offset = 0 }, now, metadata);
    }

    private static FileStream? Open(string path) =>
        SafeFolder.OpenRegular(path) is { } handle ? new FileStream(handle, FileAccess.Read) : null;

    private static string FirstLine(FileStream file)
    {
        file.Seek(0, SeekOrigin.Begin);
        var bytes = new byte[LongestFirstLine];
        var length = file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        var end = bytes.AsSpan(0, length).IndexOf((byte)'\n');
        return end < 0 ? "" : Convert.ToHexStringLower(SHA256.HashData(bytes.AsSpan(0, end)));
    }

    private static FetchRecord Read(FetchRecord record, FileStream file, string metadata)
    {
        if (file.Length < record.Offset)
            record = record with { Offset = 0 };
        var bytes = new byte[Math.Min(MostAtOnce, file.Length - record.Offset)];
        file.Seek(record.Offset, SeekOrigin.Begin);
        var length = file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        // A line that is being written is read when it is whole; one that has no end is passed over.
        var whole = bytes.AsSpan(0, length).LastIndexOf((byte)'\n') + 1;
        if (whole == 0 && length == MostAtOnce)
            whole = length;
        if (whole == 0)
            return record;
        var fetches = record.Fetches.ToList();
        foreach (var line in Encoding.Latin1.GetString(bytes, 0, whole).Split('\n'))
            if (
                fetches.Count < MostFetches
                && FetchOf(line, metadata) is { } fetch
                && fetch.At >= record.Since
                && !fetches.Exists(f => f.Address == fetch.Address)
            )
                fetches.Add(fetch);
        return record with { Offset = record.Offset + whole, Fetches = fetches.Count == record.Fetches.Count ? record.Fetches : fetches };
    }

    /// <summary>A line of the form that web servers call common or combined; null for everything else than somebody who got the metadata.</summary>
    internal static MetadataFetch? FetchOf(string line, string metadata)
    {
        var (opened, closed) = (line.IndexOf('['), line.IndexOf(']'));
        var address = line.Split(' ', 2)[0];
        if (opened < 0 || closed < opened || address.Length is 0 or > LongestAddress || !System.Net.IPAddress.TryParse(address, out var ip))
            return null;
        var rest = line[(closed + 1)..].Split('"');
        if (rest.Length < 3 || rest[1].Split(' ') is not ["GET", var target, ..] || target.Split('?')[0] != metadata)
            return null;
        if (
            !rest[2].TrimStart().StartsWith("200 ", StringComparison.Ordinal)
            || line.Contains($"\"{MetadataFile.Agent}\"", StringComparison.Ordinal)
        )
            return null;
        return DateTimeOffset.TryParseExact(
            line[(opened + 1)..closed],
            "dd/MMM/yyyy:HH:mm:ss zzz",
            CultureInfo.InvariantCulture,
            DateTimeStyles.None,
            out var at
        )
            ? new((ip.IsIPv4MappedToIPv6 ? ip.MapToIPv4() : ip).ToString(), at.ToUniversalTime())
            : null;
    }
}
