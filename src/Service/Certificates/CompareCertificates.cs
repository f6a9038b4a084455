using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>Puts two certificates on record side by side.</summary>
public sealed class CompareCertificates(BeaconDb db)
{
    public async Task<Comparison> RunAsync(string left, string right, CancellationToken ct)
    {
        var (a, b) = (await FindAsync(left, ct), await FindAsync(right, ct));
        return new(
            left,
            right,
            CertificateComparison.Verdict(a, b),
            [.. CertificateComparison.Run(a, b).Select(f => new ComparisonField(f.Field, f.Left, f.Right, f.IsSame))]
        );
    }

    /// <summary>A certificate's name means its edition in use; a serial or fingerprint one edition.</summary>
    private async Task<X509> FindAsync(string which, CancellationToken ct)
    {
        var text = which.Replace(":", "").ToLowerInvariant();
        var serial = SerialNumber.TryParse(which, out var s) ? s.Hex : text;
        var der =
            await db
                .Editions.AsNoTracking()
                .Where(e => e.Serial == serial || e.Thumbprint == text)
                .Select(e => e.Der)
                .FirstOrDefaultAsync(ct)
            ?? await (
                from c in db.Certificates.AsNoTracking()
                where c.Name == which
                join e in db.Editions on c.Id equals e.CertificateId
                orderby e.State == EditionState.Current descending, e.Id descending
                select e.Der
            ).FirstOrDefaultAsync(ct);
        return der is null
            ? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"No certificate or edition is called \"{which}\".",
                "Give a certificate's name, or an edition's serial or fingerprint: beacon cert list."
            )
            : X509.Read(der);
    }
}
