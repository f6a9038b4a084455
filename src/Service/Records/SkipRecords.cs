using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Records;

/// <summary>Has a next key put in at once, whatever DNS says: a person's word, for when nobody can change the zone and the certificate cannot wait.</summary>
public sealed class SkipRecords(BeaconDb db, RolloverBook book, Changes changes, TimeProvider clock)
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongState"/> when nothing waits.</exception>
    public async Task RunAsync(int certificateId, string? reason, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var certificate = await db.Certificates.SingleAsync(c => c.Id == certificateId, ct);
        MayAct.ThrowUnless(Operation.SkipRecords, caller, MayAct.Of(certificate));
        if (string.IsNullOrWhiteSpace(reason))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "It needs a reason: clients that go by DNS may refuse what is served.",
                "Say why."
            );
        var rollover =
            await db.Rollovers.FirstOrDefaultAsync(
                r => r.CertificateId == certificateId && (r.Step == RolloverStep.Adding || r.Step == RolloverStep.Waiting),
                ct
            )
            ?? throw new BeaconProblem(
                ProblemCode.WrongState,
                $"No next key of \"{certificate.Name}\" waits for DNS.",
                $"See how it stands: beacon cert show {certificate.Name}."
            );
        rollover.Skip(clock.GetUtcNow());
        await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.RolloverSkipped, certificate.Name, reason.Trim());
        await write.CommitAsync(ct);
        book.At(rollover.Id, clock.GetUtcNow());
        changes.Tell("certificate", certificate.Name);
    }
}
