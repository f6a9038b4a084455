using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.ChangeTracking;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Whose concerns may be others after a transaction: collected as its changes are saved.</summary>
public sealed class Touched
{
    private const int AtOnce = 400;

    private readonly HashSet<int> _certificates = [],
        _services = [],
        _hosts = [],
        _hostsWithServices = [];
    private readonly HashSet<long> _requests = [];
    private readonly HashSet<string> _servedSerials = [];
    private readonly Dictionary<int, string> _renamed = [],
        _renamedServices = [];
    private readonly HashSet<int> _claiming = [];
    private readonly HashSet<string> _claimed = [];
    private readonly List<object> _added = [];

    public IReadOnlyCollection<int> Certificates => _certificates;
    public IReadOnlyCollection<int> Services => _services;
    public IReadOnlyCollection<int> Hosts => _hosts;
    public IReadOnlyCollection<long> Requests => _requests;

    public bool IsEmpty => _certificates.Count + _services.Count + _hosts.Count + _requests.Count == 0;

    public void Add(IEnumerable<int> certificates, IEnumerable<int> services, IEnumerable<int> hosts, IEnumerable<long> requests)
    {
        _certificates.UnionWith(certificates);
        _services.UnionWith(services);
        _hosts.UnionWith(hosts);
        _requests.UnionWith(requests);
    }

    /// <summary>Looks at what is about to be saved.</summary>
    public void Before(ChangeTracker changes)
    {
        foreach (var e in changes.Entries())
            if (e.State == EntityState.Added)
                _added.Add(e.Entity);
            else if (e.State is EntityState.Modified or EntityState.Deleted)
                Note(e.Entity, e);
    }

    /// <summary>What was new has its number now.</summary>
    public void After()
    {
        foreach (var entity in _added)
            Note(entity, null);
        _added.Clear();
    }

    private void Note(object entity, EntityEntry? was)
    {
        switch (entity)
        {
            case Certificate c:
                _certificates.Add(c.Id);
                if (was?.Property("NamesJson").IsModified != false)
                    _renamed[c.Id] = c.NamesJson;
                break;
            case Edition e:
                _certificates.Add(e.CertificateId);
                break;
            case WorkOrder { CertificateId: { } id }:
                _certificates.Add(id);
                break;
            case Binding b:
                _certificates.Add(b.CertificateId);
                _services.Add(b.ServiceId);
                break;
            case HostService s:
                _services.Add(s.Id);
                if (s.ServedSerial is { } serial && was?.Property(nameof(HostService.ServedSerial)).IsModified != false)
                    _servedSerials.Add(serial);
                if (was?.State == EntityState.Deleted)
                    _renamedServices[s.Id] = "[]";
                else if (was?.Property(nameof(HostService.NamesJson)).IsModified != false)
                    _renamedServices[s.Id] = s.NamesJson;
                if (was is null || (was.Property(nameof(HostService.ServedSerial)).OriginalValue is null) != (s.ServedSerial is null))
                    _claiming.Add(s.Id);
                break;
            case Hosts.Host h:
                _hosts.Add(h.Id);
                if (was?.Property(nameof(OrderlyBeacon.Service.Hosts.Host.State)).IsModified == true)
                    _hostsWithServices.Add(h.Id);
                break;
            case KeyRollover k:
                _certificates.Add(k.CertificateId);
                break;
            case Request r:
                _requests.Add(r.Id);
                break;
        }
    }

    /// <summary>Names lie in a table of their own, to be found by: it follows.</summary>
    public async Task WriteNamesAsync(BeaconDb db, CancellationToken ct)
    {
        if (_renamed.Count > 0)
            await WriteCertificateNamesAsync(db, ct);
        foreach (var ids in _renamedServices.Keys.ToArray().Chunk(AtOnce))
            await WriteServiceNamesAsync(db, ids, ct);
        _renamedServices.Clear();
    }

    private async Task WriteCertificateNamesAsync(BeaconDb db, CancellationToken ct)
    {
        var before = await db.CertificateNames.Where(n => _renamed.Keys.Contains(n.CertificateId)).ToListAsync(ct);
        foreach (var (id, json) in _renamed)
        {
            var names = Shapes.Strings(json).ToHashSet();
            db.CertificateNames.RemoveRange(before.Where(n => n.CertificateId == id && !names.Remove(n.Name)));
            db.CertificateNames.AddRange(names.Select(n => CertificateName.Of(id, n)));
        }
        _renamed.Clear();
        await db.SaveChangesAsync(ct);
    }

    private async Task WriteServiceNamesAsync(BeaconDb db, int[] ids, CancellationToken ct)
    {
        var before = (await db.ServiceNames.Where(n => ids.Contains(n.ServiceId)).ToListAsync(ct)).ToLookup(n => n.ServiceId);
        foreach (var id in ids)
        {
            var names = Shapes.Strings(_renamedServices[id]).Select(n => n.ToLowerInvariant()).ToHashSet();
            var gone = before[id].Where(n => !names.Remove(n.Name)).ToList();
            db.ServiceNames.RemoveRange(gone);
            db.ServiceNames.AddRange(names.Select(n => ServiceName.Of(id, n)));
            _claimed.UnionWith(gone.Select(n => n.Name));
            _claimed.UnionWith(names);
        }
        await db.SaveChangesAsync(ct);
    }

    /// <summary>Adds what hangs on what was touched: a host's services with the host, and what was handed out that is served now, or replaced by what was bound, and whose name is claimed.</summary>
    public async Task SpreadAsync(BeaconDb db, CancellationToken ct)
    {
        if (_hostsWithServices.Count > 0)
            _services.UnionWith(await db.Services.Where(s => _hostsWithServices.Contains(s.HostId)).Select(s => s.Id).ToListAsync(ct));
        _claiming.UnionWith(_hostsWithServices.Count > 0 ? _services : []);
        foreach (var ids in _claiming.ToArray().Chunk(AtOnce))
            _claimed.UnionWith(await db.ServiceNames.Where(n => ids.Contains(n.ServiceId)).Select(n => n.Name).ToListAsync(ct));
        foreach (var names in _claimed.Chunk(AtOnce))
            _certificates.UnionWith(await db.Certificates.Where(c => names.Contains(c.Name)).Select(c => c.Id).ToListAsync(ct));
        foreach (var serials in _servedSerials.Chunk(AtOnce))
            _certificates.UnionWith(await db.Editions.Where(e => serials.Contains(e.Serial)).Select(e => e.CertificateId).ToListAsync(ct));
        foreach (var ids in _certificates.ToArray().Chunk(AtOnce))
            _certificates.UnionWith(await Replaced.ByAsync(db, ids, ct));
    }
}
