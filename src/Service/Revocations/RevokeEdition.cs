using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Revokes one edition, or puts it on hold. A certificate that renews itself gets its successor without waiting.</summary>
public sealed class RevokeEdition(BeaconDb db, AnnounceRevocations announce, TimeProvider clock)
{
    public async Task RunAsync(string certificateName, Revocation wish, Caller caller, CancellationToken ct)
    {
        var reason = RevocationWords.Parse(wish.Reason);
        Edition edition;
        bool wasHeld;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            edition = await RevocationWords.FindAsync(db, certificateName, wish.Serial, ct);
            wasHeld = edition.IsHeld;
            await MarkAsync(db, edition, reason, caller, clock.GetUtcNow(), ct);
            await write.CommitAsync(ct);
        }
        await announce.RunAsync(
            [(certificateName, edition.Serial)],
            caller.Actor,
            $"serial {edition.Serial} {(edition.IsHeld ? "on hold" : "revoked")}",
            wasHeld,
            ct
        );
    }

    internal static async Task MarkAsync(
        BeaconDb db,
        Edition edition,
        RevocationReason reason,
        Caller caller,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        var certificate = await db.Certificates.SingleAsync(c => c.Id == edition.CertificateId, ct);
        if (!edition.IsOurs)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The edition {edition.Serial} of \"{certificate.Name}\" was not issued here, so nothing here can revoke it.",
                $"Ask who issued it: {Core.Issuing.X509.Read(edition.Der).Issuer}."
            );
        edition.Revoke(now, reason);
        if (reason is RevocationReason.KeyCompromise or RevocationReason.CaCompromise)
            await BurntKey.AddAsync(db, edition, now, ct);
        if (!edition.IsHeld && edition.State == EditionState.Current && certificate.Automatic)
            certificate.ActAt(now);
        await db.Note(
            now,
            caller.Actor,
            edition.IsHeld ? JournalAction.EditionHeld : JournalAction.EditionRevoked,
            certificate.Name,
            $"serial {edition.Serial}, {BeaconProblem.SlugOf(reason)}"
        );
    }
}
