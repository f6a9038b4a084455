using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Hosts that say that they serve a name which another host's certificate has: it stops no renewal, and somebody should look.</summary>
internal static class ForeignClaims
{
    /// <summary>What is claimed of these certificates, by their rows' numbers.</summary>
    public static async Task<IReadOnlyDictionary<int, Found>> FindAsync(
        BeaconDb db,
        IReadOnlyCollection<int> certificates,
        CancellationToken ct
    )
    {
        var claims = await (
            from c in db.Certificates.AsNoTracking()
            where certificates.Contains(c.Id) && c.HostId != null && c.HasEdition
            join holder in db.Hosts on c.HostId equals holder.Id
            where holder.State == HostState.Joined
            select new
            {
                c.Id,
                c.Name,
                Holder = holder.Name,
                // One is enough: there may be thousands.
                Other = (
                    from n in db.ServiceNames
                    where n.Name == c.Name
                    join s in db.Services on n.ServiceId equals s.Id
                    where s.HostId != c.HostId && s.ServedSerial != null
                    join other in db.Hosts on s.HostId equals other.Id
                    where other.State == HostState.Joined
                    select other.Name
                ).FirstOrDefault(),
            }
        ).ToListAsync(ct);
        return claims.Where(c => c.Other is not null).ToDictionary(c => c.Id, c => Of(c.Id, c.Name, c.Holder, c.Other!));
    }

    private static Found Of(int id, string name, string holder, string other) =>
        new(
            ConcernSubject.Certificate,
            id,
            ConcernKind.ClaimedElsewhere,
            name,
            Severity.Soon,
            $"{other} says that it serves {name} too; the certificate of that name is on {holder}.",
            "Nothing is stopped by it: renewals go on.",
            "Look whether both are meant; if not, correct the configuration there."
        )
        {
            Command = ShellCommand.Of($"beacon service list {name}"),
            Link = $"/certificates/{Uri.EscapeDataString(name)}",
        };
}
