using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>What is on record about a serial.</summary>
public sealed record EditionStanding(int GenerationId, RevokedCertificate? Revocation);

/// <summary>
/// Looks up serials by the index, on plain connections with prepared statements: every OCSP question comes by here. What was found is kept until it changes;
/// whoever changes a state calls <see cref="Forget"/> after the commit.
/// </summary>
public sealed class EditionStates(BeaconOptions options) : IDisposable
{
    private const int MostKept = 50_000;

    private readonly ConcurrentBag<SqliteCommand> _idle = [];
    private readonly ConcurrentDictionary<string, EditionStanding> _kept = [];
    private readonly Lock _changing = new();
    private long _changes;

    /// <summary>Null when no such edition was issued.</summary>
    public EditionStanding? Find(SerialNumber serial)
    {
        if (_kept.TryGetValue(serial.Hex, out var kept))
            return kept;
        var changes = Interlocked.Read(ref _changes);
        if (Read(serial) is not { } found)
            return null;
        lock (_changing)
        {
            // Something changed while it was read: what was read may be the old state.
            if (_changes != changes)
                return found;
            if (_kept.Count >= MostKept)
                _kept.Clear();
            _kept[serial.Hex] = found;
        }
        return found;
    }

    public void Forget(string serial)
    {
        lock (_changing)
        {
            _changes++;
            _kept.TryRemove(serial, out _);
        }
    }

    private EditionStanding? Read(SerialNumber serial)
    {
        if (!_idle.TryTake(out var c))
            c = Open();
        c.Parameters[0].Value = serial.Hex;
        try
        {
            using var r = c.ExecuteReader();
            return !r.Read()
                ? null
                : new(
                    r.GetInt32(0),
                    r.IsDBNull(1)
                        ? null
                        : new(
                            serial,
                            DateTimeOffset.FromUnixTimeMilliseconds(r.GetInt64(1)),
                            (RevocationReason)(r.IsDBNull(2) ? 0 : r.GetInt32(2))
                        )
                );
        }
        finally
        {
            _idle.Add(c);
        }
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
