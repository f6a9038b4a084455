using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Whether what was handed out still matters: it does not when it is served where that is looked at, or when all its names are in one certificate that is bound.</summary>
internal static class Replaced
{
    public static async Task<bool> IsAsync(BeaconDb db, int id, CertificateInfo c, CancellationToken ct)
    {
        if (c.Host is not null || c.Serial is null)
            return false;
        if (await db.Services.AnyAsync(s => s.ServedSerial == c.Serial, ct))
            return true;
        var names = c.Names.Count;
        return await db
            .CertificateNames.Where(n => n.CertificateId != id && c.Names.Contains(n.Name))
            .Where(n => db.Bindings.Any(b => b.CertificateId == n.CertificateId))
            .GroupBy(n => n.CertificateId)
            .AnyAsync(g => g.Count() == names, ct);
    }

    /// <summary>Those that were handed out, have a concern, and share a name with one of these.</summary>
    public static Task<List<int>> ByAsync(BeaconDb db, int[] ids, CancellationToken ct) =>
        (
            from mine in db.CertificateNames
            where ids.Contains(mine.CertificateId)
            join other in db.CertificateNames on mine.Name equals other.Name
            where other.CertificateId != mine.CertificateId
            where db.Certificates.Any(c => c.Id == other.CertificateId && c.HostId == null)
            where db.Concerns.Any(c => c.Of == ConcernSubject.Certificate && c.SubjectId == other.CertificateId)
            select other.CertificateId
        )
            .Distinct()
            .ToListAsync(ct);
}
