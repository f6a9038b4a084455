using System.Collections.Concurrent;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>What is on record about a serial.</summary>
public sealed record EditionStanding(int GenerationId, RevokedCertificate? Revocation);

/// <summary>
/// Looks up serials by the index: every OCSP question comes by here. What was found is kept until it changes;
/// whoever changes a state calls <see cref="Forget"/> after the commit.
/// </summary>
public sealed class EditionStates(BeaconOptions options) : IDisposable
{
    private const int MostKept = 50_000;

    private readonly ReadyStatement _standing = new(
        options,
        "SELECT GenerationId, RevokedAt, RevocationReason FROM Editions WHERE Serial = $serial",
        "$serial"
    );
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

    private EditionStanding? Read(SerialNumber serial) =>
        _standing.First(
            row => new EditionStanding(
                row.GetInt32(0),
                row.IsDBNull(1) ? null : Revocation(serial, row.GetInt64(1), row.IsDBNull(2) ? 0 : row.GetInt32(2))
            ),
            serial.Hex
        );

    private static RevokedCertificate Revocation(SerialNumber serial, long milliseconds, int reason) =>
        new(serial, DateTimeOffset.FromUnixTimeMilliseconds(milliseconds), (RevocationReason)reason);

    public void Dispose() => _standing.Dispose();
}
