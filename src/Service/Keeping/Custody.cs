using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Concerns;

namespace OrderlyBeacon.Service.Keeping;

/// <summary>What of the authorities' custody needs a hand: keys that should be elsewhere, zones outside of the bounds, backups that could not be taken.</summary>
public sealed class Custody(BeaconOptions options, AuthorityRegistry registry)
{
    public IEnumerable<Found> Concerns()
    {
        var folder = Path.Combine(options.Data, "take-away");
        // Only whether something lies there: what it is, the service never reads.
        if (Directory.Exists(folder) && Directory.EnumerateFiles(folder).Any())
            yield return HouseConcerns.Of(
                ConcernKind.TakeAway,
                "root",
                Severity.Now,
                "The root's key still lies on this machine, in the folder take-away.",
                "Whoever gets into this machine can create any authority, for good.",
                "Take the key and its passphrase away, to two places, and delete both here.",
                $"ls {folder}",
                "/authorities"
            );
        if (!registry.IsReady)
            yield break;
        var outside = AuthorityBounds.Outside(options, registry.Issuing.Certificate.Constraints);
        if (outside.Count > 0)
            yield return HouseConcerns.Of(
                ConcernKind.ZoneOutOfBounds,
                "authority",
                Severity.Soon,
                $"BEACON_ZONES has {string.Join(", ", outside)}, which the issuing authority's certificate does not allow.",
                "Nothing can be issued there: clients would refuse it.",
                "Renew the authority: its request asks for the zones of today.",
                "beacon authority rehearse issuing",
                "/authorities"
            );
        if (options.RecoveryCertificates.Length == 0)
            yield return HouseConcerns.Of(
                ConcernKind.NoRecoveryKey,
                "backup",
                Severity.Soon,
                "No recovery key is set, so no backup can be taken.",
                "If this machine is lost, every certificate has to be made anew under a new authority.",
                "Make a recovery key on another machine, and name its certificate in BEACON_RECOVERYCERTIFICATES.",
                "beacon ceremony recovery-key FOLDER",
                null
            );
    }
}
