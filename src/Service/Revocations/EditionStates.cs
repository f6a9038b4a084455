using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>What is on record about a serial.</summary>
public sealed record EditionStanding(int GenerationId, RevokedCertificate? Revocation);

/// <summary>Looks up serials by the index, on plain connections with prepared statements: every OCSP question comes by here.</summary>
public sealed class EditionStates(BeaconOptions options) : IDisposable
{
    private readonly ConcurrentBag<SqliteCommand> _idle = [];

    /// <summary>Null when no such edition was issued.</summary>
    public EditionStanding? Find(SerialNumber serial)
    {
        if (!_idle.TryTake(out var c)) c = Open();
        c.Parameters[0].Value = serial.Hex;
        try
        {
            using var r = c.ExecuteReader();
            return !r.Read() ? null
                : new(r.GetInt32(0), r.IsDBNull(1) ? null : new(serial, DateTimeOffset.FromUnixTimeMilliseconds(r.GetInt64(1)), (RevocationReason)(r.IsDBNull(2) ? 0 : r.GetInt32(2))));
        }
        finally { _idle.Add(c); }
    }

    private SqliteCommand Open()
    {
        var connection = new SqliteConnection(Database.ConnectionString(options));
        connection.Open();
        var c = connection.CreateCommand();
        c.CommandText = "SELECT GenerationId, RevokedAt, RevocationReason FROM Editions WHERE Serial = $serial";
        c.Parameters.Add(new SqliteParameter("$serial", SqliteType.Text));
        c.Prepare();
        return c;
    }

    public void Dispose()
    {
        foreach (var c in _idle)
        {
            c.Connection!.Dispose();
            c.Dispose();
        }
    }
}
