using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>A key that was reported as compromised: it is never certified again, for nobody, under no profile.</summary>
public sealed class BurntKey
{
    /// <summary>As <see cref="Core.Keys.PublicKeyInfo.Fingerprint"/> has it.</summary>
    public required string Fingerprint { get; init; }
    public required string Serial { get; init; }
    public required DateTimeOffset At { get; init; }

    internal static async Task AddAsync(BeaconDb db, Edition edition, DateTimeOffset now, CancellationToken ct)
    {
        var isKnown = db.BurntKeys.Local.Any(k => k.Fingerprint == edition.KeyFingerprint);
        if (!isKnown && !await db.BurntKeys.AnyAsync(k => k.Fingerprint == edition.KeyFingerprint, ct))
            db.BurntKeys.Add(
                new()
                {
                    Fingerprint = edition.KeyFingerprint,
                    Serial = edition.Serial,
                    At = now,
                }
            );
    }
}
