using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>
/// Which names belong to which host, kept in memory: each enrolment asks for it. Whoever changes hosts, or what their services serve,
/// calls <see cref="Changed"/> after the commit; the next question reads it anew.
/// </summary>
public sealed class KnownNames(IServiceScopeFactory scopes)
{
    private volatile Snapshot? _now;
    private long _version;

    /// <param name="Hosts">Registered hosts by name.</param>
    /// <param name="Served">Hosts that serve a name with TLS, by that name.</param>
    public sealed record Snapshot(IReadOnlyDictionary<string, int> Hosts, ILookup<string, (int HostId, string Host)> Served);

    public void Changed()
    {
        Interlocked.Increment(ref _version);
        _now = null;
    }

    public async ValueTask<Snapshot> GetAsync(CancellationToken ct)
    {
        if (_now is { } known)
            return known;
        var version = Interlocked.Read(ref _version);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var hosts = await db
            .Hosts.AsNoTracking()
            .Where(h => h.State != HostState.Removed)
            .Select(h => new
            {
                h.Id,
                h.Name,
                h.State,
            })
            .ToListAsync(ct);
        var joined = hosts.Where(h => h.State == HostState.Joined).ToDictionary(h => h.Id, h => h.Name);
        var services = await db
            .Services.AsNoTracking()
            .Where(s => s.ServedSerial != null)
            .Select(s => new { s.HostId, s.NamesJson })
            .ToListAsync(ct);
        var snapshot = new Snapshot(
            hosts.ToDictionary(h => h.Name, h => h.Id),
            services
                .Where(s => joined.ContainsKey(s.HostId))
                .SelectMany(s => Shapes.Strings(s.NamesJson).Select(n => (Name: n, s.HostId, Host: joined[s.HostId])))
                .ToLookup(x => x.Name, x => (x.HostId, x.Host))
        );
        // A change in between makes this one old before it is kept.
        if (Interlocked.Read(ref _version) == version)
            _now = snapshot;
        return snapshot;
    }
}
