using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>What a list of hosts is asked for. Null filters nothing.</summary>
public sealed record HostList
{
    /// <summary>Part of a name of the host or of one of its services.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary>One of <see cref="HostQueries.States"/>.</summary>
    [InQuery(Name = "state")]
    public string? State { get; init; }

    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Reads hosts, a page at a time.</summary>
public sealed class HostQueries(BeaconDb db, OrderDesk desk)
{
    public static readonly IReadOnlyList<string> States = ["invited", "connected", "away", "problem"];
    public static readonly IReadOnlyList<string> Sorts = ["name", "seen"];

    /// <exception cref="Core.BeaconProblem">A word for a state or a sort is not known.</exception>
    public async Task<Page<HostInfo>> PageAsync(HostList list, CancellationToken ct)
    {
        var (sort, take) = (ListQuery.Word("sort", list.Sort, Sorts), ListQuery.Take(list.Take));
        var q = InState(Found(list.Search), ListQuery.Word("state", list.State, States));
        if (list.After is { Length: > 0 } after)
            q = sort == "seen" ? await SeenBeforeAsync(q, after, ct) : q.Where(h => string.Compare(h.Name, after) > 0);
        var ordered = sort == "seen" ? q.OrderBy(h => h.LastSeen).ThenBy(h => h.Id) : q.OrderBy(h => h.Name);
        var page = await ordered.Take(take).ToListAsync(ct);
        var ids = page.Select(h => h.Id).ToList();
        var counts = await db
            .Services.Where(s => ids.Contains(s.HostId))
            .GroupBy(s => s.HostId)
            .Select(x => new { x.Key, Count = x.Count() })
            .ToDictionaryAsync(x => x.Key, x => x.Count, ct);
        var via = await ViaAsync(db, page, ct);
        return new([.. page.Select(h => Info(h, desk, counts.GetValueOrDefault(h.Id), via))], page.Count == take ? page[^1].Name : null);
    }

    private IQueryable<Host> Found(string? search)
    {
        var q = db.Hosts.AsNoTracking().Where(h => h.State != HostState.Removed);
        if (string.IsNullOrWhiteSpace(search))
            return q;
        var part = search.Trim().ToLowerInvariant();
        return q.Where(h => h.Name.Contains(part) || db.Services.Any(s => s.HostId == h.Id && s.NamesJson.Contains(part)));
    }

    private IQueryable<Host> InState(IQueryable<Host> q, string? state)
    {
        if (state is null)
            return q;
        if (state == "invited")
            return q.Where(h => h.State == HostState.Invited);
        q = q.Where(h => h.State == HostState.Joined);
        if (state == "problem")
            return q.Where(h => h.ProblemJson != null);
        var away = db.Concerns.Where(c => c.Of == ConcernSubject.Host && c.Kind == ConcernKind.HostAway).Select(c => (int)c.SubjectId);
        return state == "away" ? q.Where(h => away.Contains(h.Id)) : q.Where(h => !away.Contains(h.Id));
    }

    private async Task<IQueryable<Host>> SeenBeforeAsync(IQueryable<Host> q, string after, CancellationToken ct)
    {
        var last = await FindHost.ByNameAsync(db, after, ct);
        return q.Where(h => h.LastSeen > last.LastSeen || (h.LastSeen == last.LastSeen && h.Id > last.Id));
    }

    /// <summary>What the hosts are called whose agents reach these devices.</summary>
    public static async Task<IReadOnlyDictionary<int, string>> ViaAsync(BeaconDb db, IReadOnlyList<Host> hosts, CancellationToken ct)
    {
        var ids = hosts.Where(h => h.ViaHostId is not null).Select(h => h.AgentHostId).ToList();
        return ids.Count == 0
            ? new Dictionary<int, string>()
            : await db.Hosts.Where(h => ids.Contains(h.Id)).ToDictionaryAsync(h => h.Id, h => h.Name, ct);
    }

    public static HostInfo Info(Host h, OrderDesk desk, int services, IReadOnlyDictionary<int, string> via) =>
        new(
            h.Name,
            h.State,
            desk.IsOnline(h),
            desk.LastSeen(h),
            h.AgentVersion,
            Shapes.Strings(h.AddressesJson),
            services,
            h.AgentCertificateEnds,
            Shapes.Problem(h.ProblemJson)
        )
        {
            Owner = h.Owner,
            Device = h.Device,
            DeviceAddress = h.DeviceAddress,
            Via = h.ViaHostId is { } id ? via.GetValueOrDefault(id) : null,
        };
}
