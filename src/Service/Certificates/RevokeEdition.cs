using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>Revokes an edition and publishes the next CRL at once. A certificate that renews itself gets its successor without waiting.</summary>
public sealed class RevokeEdition(BeaconDb db, PublishCrl publish, ClientCertificates clients, Changes changes, TimeProvider clock)
{
    public async Task<string> RunAsync(string certificateName, Revocation wish, Caller caller, CancellationToken ct)
    {
        if (!TryReason(wish.Reason, out var reason))
            throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{wish.Reason}\" is not a reason for revoking.", "Use unspecified, key-compromise, affiliation-changed, superseded, cessation-of-operation or privilege-withdrawn.");
        Edition edition;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var certificate = await db.Certificates.FirstOrDefaultAsync(c => c.Name == certificateName, ct)
                ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no certificate \"{certificateName}\".", "See beacon cert list.");
            var editions = db.Editions.Where(e => e.CertificateId == certificate.Id);
            if (wish.Serial is { Length: > 0 } text)
                edition = SerialNumber.TryParse(text, out var serial) && await editions.FirstOrDefaultAsync(e => e.Serial == serial.Hex, ct) is { } named ? named
                    : throw new BeaconProblem(ProblemCode.NotFound, $"\"{certificateName}\" has no edition with the serial {text}.", "See beacon cert show " + certificateName + ".");
            else
                edition = await editions.FirstOrDefaultAsync(e => e.State == EditionState.Current, ct)
                    ?? throw new BeaconProblem(ProblemCode.NotFound, $"\"{certificateName}\" has no current edition.", "Name the serial to revoke.");
            edition.Revoke(now, reason);
            if (edition.State == EditionState.Current && certificate.Automatic) certificate.ActAt(now);
            await db.Note(now, caller.Actor, "edition.revoked", certificateName, $"serial {edition.Serial}, {BeaconProblem.SlugOf(reason)}");
            await write.CommitAsync(ct);
        }
        clients.Forget();
        await publish.RunAsync(caller.Actor, $"serial {edition.Serial} revoked", onlyWhenDue: false, ct);
        changes.Tell("certificate", certificateName);
        return edition.Serial;
    }

    private static bool TryReason(string? text, out RevocationReason reason)
    {
        reason = RevocationReason.Unspecified;
        if (string.IsNullOrWhiteSpace(text)) return true;
        return Enum.TryParse(text.Replace("-", ""), true, out reason)
            && reason is RevocationReason.Unspecified or RevocationReason.KeyCompromise or RevocationReason.AffiliationChanged or RevocationReason.Superseded
                or RevocationReason.CessationOfOperation or RevocationReason.PrivilegeWithdrawn;
    }
}
