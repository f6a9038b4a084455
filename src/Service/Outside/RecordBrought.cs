using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Outside;

/// <summary>Puts what an authority that is not ours has issued on record. Inside the caller's transaction; it is the last to look, as the ledger is for our own.</summary>
public sealed class RecordBrought(BeaconDb db, TimeProvider clock)
{
    /// <exception cref="BeaconProblem">It may not be on record; nothing was written.</exception>
    public async Task<Edition> RunAsync(
        Certificate certificate,
        long? requestId,
        X509 x,
        EditionState state,
        string by,
        Actor actor,
        string told,
        CancellationToken ct
    )
    {
        var (key, now) = (x.PublicKey.Fingerprint(), clock.GetUtcNow());
        if (await db.BurntKeys.AnyAsync(b => b.Fingerprint == key, ct))
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                "Its key was reported as compromised: it is never used again.",
                "Have the authority revoke it, and make a new request."
            );
        if (await db.Editions.AnyAsync(e => e.KeyFingerprint == key && e.CertificateId != certificate.Id, ct))
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                "Its key belongs to another certificate already; each certificate has keys of its own.",
                "Make a new request with a new key."
            );
        if (await db.Editions.AnyAsync(e => e.Serial == x.Serial.Hex, ct))
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"An edition with the serial {x.Serial} is on record already.",
                "Look at it: beacon cert show " + x.Serial.Hex + "."
            );
        foreach (var e in await db.Editions.Where(e => e.CertificateId == certificate.Id && e.State == state).ToListAsync(ct))
            e.Supersede();
        var decision = new DecisionInfo(
            by,
            now,
            [.. x.Names.Select(n => new GrantInfo(n.ToString(), "brought", $"It was issued by {x.Issuer}.", []))]
        );
        var edition = Edition.FromElsewhere(
            certificate.Id,
            requestId,
            x,
            JsonSerializer.Serialize(decision, BeaconJson.Default.DecisionInfo),
            state,
            now
        );
        db.Editions.Add(edition);
        certificate.HasOne();
        await db.Note(
            now,
            actor,
            JournalAction.EditionBrought,
            certificate.Name,
            $"serial {x.Serial}, issued by {x.Issuer}, until {x.NotAfter:yyyy-MM-dd HH:mm:ss}Z, {told}"
        );
        return edition;
    }
}
