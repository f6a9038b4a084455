using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Hosts that say that they serve a name which another host's certificate has: it stops no renewal, and somebody should look.</summary>
public sealed class ForeignClaims(BeaconDb db, KnownNames known)
{
    private const int Most = 50;

    public async Task<IReadOnlyList<Found>> ConcernsAsync(CancellationToken ct)
    {
        var served = (await known.GetAsync(ct)).Served;
        var names = served.Where(g => g.Select(s => s.HostId).Distinct().Count() > 1).Select(g => g.Key).Take(Most).ToList();
        var concerns = new List<Found>();
        foreach (var name in names)
        {
            var holder = await (
                from c in db.Certificates.AsNoTracking()
                where c.Name == name && c.HostId != null && c.HasEdition
                join h in db.Hosts on c.HostId equals h.Id
                select new { h.Id, Host = h.Name }
            ).FirstOrDefaultAsync(ct);
            if (holder is not null && served[name].FirstOrDefault(s => s.HostId != holder.Id) is { Host: { } other })
                concerns.Add(
                    HouseConcerns.Of(
                        ConcernKind.ClaimedElsewhere,
                        name,
                        Severity.Soon,
                        $"{other} says that it serves {name} too; the certificate of that name is on {holder.Host}.",
                        "Nothing is stopped by it: renewals go on.",
                        "Look whether both are meant; if not, correct the configuration there.",
                        ShellCommand.Of($"beacon service list {name}"),
                        "/hosts"
                    )
                );
        }
        return concerns;
    }
}
