using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>Who else has a name.</summary>
/// <param name="IsOtherHost">It is the name of another host that is registered.</param>
/// <param name="ServedBy">Another host that serves the name with TLS; null when there is none.</param>
public sealed record NameHolder(bool IsOtherHost, string? ServedBy)
{
    public static readonly NameHolder Nobody = new(false, null);
}

/// <summary>Which hosts have a name, by the index: each enrolment asks for it.</summary>
public sealed class NameHolders(BeaconOptions options) : IDisposable
{
    private const string Query = """
        SELECT
            EXISTS (SELECT 1 FROM Hosts WHERE Name = $name AND State <> $removed AND Id <> $host),
            (
                SELECT h.Name FROM ServiceNames n JOIN Services s ON s.Id = n.ServiceId JOIN Hosts h ON h.Id = s.HostId
                WHERE n.Name = $name AND s.HostId <> $host AND s.ServedSerial IS NOT NULL AND h.State = $joined LIMIT 1
            )
        """;

    private readonly ReadyStatement _others = new(options, Query, "$name", "$host", "$removed", "$joined");

    /// <param name="name">Without its prefix.</param>
    /// <param name="hostId">Whom it would be nothing new for; 0 for nobody.</param>
    public NameHolder Others(string name, int hostId) =>
        _others.First(
            row =>
                row.GetBoolean(0) || !row.IsDBNull(1)
                    ? new(row.GetBoolean(0), row.IsDBNull(1) ? null : row.GetString(1))
                    : NameHolder.Nobody,
            name,
            hostId,
            OpenWord<HostState>.WordOf(HostState.Removed),
            OpenWord<HostState>.WordOf(HostState.Joined)
        )!;

    public void Dispose() => _others.Dispose();
}
