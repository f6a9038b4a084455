using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Completes the few concerns that are shown one by one with a command that depends on what else their host has now.</summary>
public sealed class Suggestions(BeaconDb db)
{
    public async Task<IReadOnlyList<Concern>> CompleteAsync(IReadOnlyList<OpenConcern> rows, CancellationToken ct)
    {
        var told = new List<Concern>(rows.Count);
        foreach (var c in rows)
            told.Add(
                new(c.Severity, c.Kind, c.About, c.Reason, c.Hurts, c.Cure, c.Command ?? await CommandAsync(c, ct), c.Link)
                {
                    Since = c.Since,
                }
            );
        return told;
    }

    private async Task<string?> CommandAsync(OpenConcern c, CancellationToken ct)
    {
        if (c.Of != ConcernSubject.Service || c.Kind == ConcernKind.ServiceProblem)
            return null;
        var service = await db
            .Services.AsNoTracking()
            .Where(s => s.Id == c.SubjectId)
            .Select(s => new
            {
                s.HostId,
                s.Name,
                s.NamesJson,
                Host = db.Hosts.Where(h => h.Id == s.HostId).Select(h => h.Name).First(),
            })
            .FirstOrDefaultAsync(ct);
        if (service is null)
            return null;
        var name = Shapes.Strings(service.NamesJson).FirstOrDefault() ?? service.Name;
        if (await ReadyAsync(service.HostId, name, ct) is { } ready)
            return ShellCommand.Of($"beacon bind {ready} --to {c.About}");
        var together = await TogetherAsync(service.HostId, service.NamesJson, ct);
        return RequestFor(ShortName.Of(service.Host), name, together.Append(service.Name).Distinct());
    }

    /// <summary>A certificate of the host that has the name, has been issued, and can be bound at once.</summary>
    private Task<string?> ReadyAsync(int hostId, string name, CancellationToken ct) =>
        (
            from n in db.CertificateNames
            where n.Name == name
            join c in db.Certificates on n.CertificateId equals c.Id
            where c.HostId == hostId && c.Profile != "agent"
            where db.Editions.Any(e => e.CertificateId == c.Id && e.State == EditionState.Current && e.RevokedAt == null)
            where !db.Concerns.Any(x => x.Of == ConcernSubject.Certificate && x.SubjectId == c.Id)
            orderby c.Id
            select c.Name
        ).FirstOrDefaultAsync(ct);

    /// <summary>What else on the host is called the same and has no certificate of ours, as a mail server's two daemons are.</summary>
    private Task<List<string>> TogetherAsync(int hostId, string namesJson, CancellationToken ct) =>
        db
            .Services.Where(s => s.HostId == hostId && s.NamesJson == namesJson)
            .Where(s => db.Concerns.Any(c => c.Of == ConcernSubject.Service && c.SubjectId == s.Id))
            .Where(s => !db.Bindings.Any(b => b.ServiceId == s.Id))
            .OrderBy(s => s.Name)
            .Select(s => s.Name)
            .Take(10)
            .ToListAsync(ct);

    private static string RequestFor(string host, string name, IEnumerable<string> services) =>
        string.Join(
            ' ',
            new[] { "beacon", "request", "new", "--host", host, "--name", name }
                .Concat(services.SelectMany(s => new[] { "--bind-to", s }))
                .Select(ShellCommand.Quoted)
        );
}
