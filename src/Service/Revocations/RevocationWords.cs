using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Revocations;

internal static class RevocationWords
{
    public static RevocationReason Parse(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
            return RevocationReason.Unspecified;
        if (text == "hold")
            return RevocationReason.CertificateHold;
        return
            Enum.TryParse<RevocationReason>(text.Replace("-", ""), true, out var reason)
            && reason
                is RevocationReason.Unspecified
                    or RevocationReason.KeyCompromise
                    or RevocationReason.AffiliationChanged
                    or RevocationReason.Superseded
                    or RevocationReason.CessationOfOperation
                    or RevocationReason.CertificateHold
                    or RevocationReason.PrivilegeWithdrawn
            ? reason
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{text}\" is not a reason for revoking.",
                "Use unspecified, key-compromise, affiliation-changed, superseded, cessation-of-operation, privilege-withdrawn or hold."
            );
    }

    public static async Task<Edition> FindAsync(BeaconDb db, string certificateName, string? serialText, CancellationToken ct)
    {
        var certificate =
            await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == certificateName, ct)
            ?? throw await NotThere.CertificateAsync(db, certificateName, ct);
        var editions = db.Editions.Where(e => e.CertificateId == certificate.Id);
        if (serialText is { Length: > 0 })
            return
                SerialNumber.TryParse(serialText, out var serial)
                && await editions.FirstOrDefaultAsync(e => e.Serial == serial.Hex, ct) is { } named
                ? named
                : throw new BeaconProblem(
                    ProblemCode.NotFound,
                    $"\"{certificateName}\" has no edition with the serial {serialText}.",
                    "See beacon cert show " + certificateName + "."
                );
        return await editions.FirstOrDefaultAsync(e => e.State == EditionState.Current, ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"\"{certificateName}\" has no current edition.",
                "Name the serial to revoke."
            );
    }
}
