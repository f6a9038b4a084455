using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Ends a hold: the edition is good again, and the next delta says so.</summary>
public sealed class ReleaseEdition(BeaconDb db, AnnounceRevocations announce, TimeProvider clock)
{
    public async Task RunAsync(string certificateName, string? serial, Caller caller, CancellationToken ct)
    {
        Edition edition;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            edition = await RevocationWords.FindAsync(db, certificateName, serial, ct);
            edition.Release(clock.GetUtcNow());
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.EditionReleased, certificateName, $"serial {edition.Serial}");
            await write.CommitAsync(ct);
        }
        await announce.RunAsync([(certificateName, edition.Serial)], caller.Actor, $"serial {edition.Serial} released", wasHeld: true, ct);
    }
}
