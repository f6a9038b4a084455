using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Sweeps;

/// <summary>What a list of findings is asked for. Null filters nothing.</summary>
public sealed record FindingList
{
    /// <summary>Part of a name, an address or an issuer.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary>Only those that nobody looks after, or only those that somebody does.</summary>
    [InQuery(Name = "managed")]
    public bool? Managed { get; init; }

    /// <summary>The issuer's whole name.</summary>
    [InQuery(Name = "issuer")]
    public string? Issuer { get; init; }

    /// <summary><c>address</c> (as it was met), or <c>ends</c>: what serves a certificate, the first to expire first.</summary>
    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Reads sweeps and what they met, a page at a time.</summary>
public sealed class SweepQueries(BeaconDb db)
{
    public static readonly IReadOnlyList<string> Sorts = ["address", "ends"];
    private const int MostGroups = 50;

    public async Task<Page<SweepInfo>> PageAsync(string? after, int? take, CancellationToken ct)
    {
        var most = ListQuery.Take(take);
        var rows = db.Sweeps.AsNoTracking();
        if (long.TryParse(after, out var before))
            rows = rows.Where(s => s.Id < before);
        var page = await Infos(rows.OrderByDescending(s => s.Id).Take(most), ct);
        return new(page, page.Count == most ? page[^1].Number.ToString() : null);
    }

    public async Task<SweepDetail> OneAsync(long number, CancellationToken ct)
    {
        var sweep =
            (await Infos(db.Sweeps.AsNoTracking().Where(s => s.Id == number), ct)).FirstOrDefault()
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no sweep {number}.", "See beacon sweep list.");
        var groups = await db
            .SweepFindings.AsNoTracking()
            .Where(f => f.SweepId == number && f.Managed == null && f.Issuer != null)
            .GroupBy(f => f.Issuer)
            .Select(g => new
            {
                Issuer = g.Key,
                Count = g.Count(),
                FirstEnd = g.Min(f => f.NotAfter),
            })
            .OrderBy(g => g.FirstEnd)
            .Take(MostGroups)
            .ToListAsync(ct);
        return new(sweep, [.. groups.Select(g => new SweepGroup(g.Issuer!, g.Count, g.FirstEnd!.Value))]);
    }

    public async Task<Page<SweepFindingInfo>> FindingsAsync(long number, FindingList list, CancellationToken ct)
    {
        var (sort, take) = (ListQuery.Word("sort", list.Sort, Sorts), ListQuery.Take(list.Take));
        var rows = Narrowed(db.SweepFindings.AsNoTracking().Where(f => f.SweepId == number), list);
        if (sort == "ends")
            rows = rows.Where(f => f.NotAfter != null);
        if (long.TryParse(list.After, out var after))
        {
            var last = await db.SweepFindings.AsNoTracking().Where(f => f.Id == after).Select(f => f.NotAfter).FirstOrDefaultAsync(ct);
            rows =
                sort == "ends" ? rows.Where(f => f.NotAfter > last || (f.NotAfter == last && f.Id > after)) : rows.Where(f => f.Id > after);
        }
        var ordered = sort == "ends" ? rows.OrderBy(f => f.NotAfter).ThenBy(f => f.Id) : rows.OrderBy(f => f.Id);
        var page = await ordered.Take(take).ToListAsync(ct);
        return new([.. page.Select(Info)], page.Count == take ? page[^1].Id.ToString() : null);
    }

    private static IQueryable<SweepFinding> Narrowed(IQueryable<SweepFinding> rows, FindingList list)
    {
        if (list.Search is { } search && !string.IsNullOrWhiteSpace(search))
        {
            var part = ListQuery.Having(search);
            rows = rows.Where(f =>
                EF.Functions.Like(f.NamesJson, part, ListQuery.EscapedBy)
                || EF.Functions.Like(f.Address, part, ListQuery.EscapedBy)
                || EF.Functions.Like(f.Issuer, part, ListQuery.EscapedBy)
            );
        }
        if (list.Managed is { } managed)
            rows = managed ? rows.Where(f => f.Managed != null) : rows.Where(f => f.Managed == null && f.Serial != null);
        if (list.Issuer is { Length: > 0 } issuer)
            rows = rows.Where(f => f.Issuer == issuer);
        return rows;
    }

    private static SweepFindingInfo Info(SweepFinding f) =>
        new(
            f.Address,
            f.Port,
            f.Protocol,
            f.Severity,
            f.Word,
            Shapes.Strings(f.NamesJson),
            f.Issuer,
            f.Serial,
            f.NotAfter,
            f.Managed,
            f.Host,
            f.Service,
            f.Serial is null || f.Managed is not null ? null : WayOf(f)
        );

    private static string WayOf(SweepFinding f)
    {
        if (f.Host is null || f.Service is null)
            return "No agent looks after this server: invite its host (beacon host invite NAME), or name the server to the agent that is there (beacon-agent add).";
        var name = Shapes.Strings(f.NamesJson).Find(n => !n.StartsWith('*')) ?? "NAME";
        return ShellCommand.Of($"beacon request new --host {f.Host.Split('.')[0]} --name {name} --bind-to {f.Service}");
    }

    private async Task<List<SweepInfo>> Infos(IQueryable<Sweep> rows, CancellationToken ct)
    {
        var found = await rows.ToListAsync(ct);
        var ids = found.Select(s => s.HostId).Distinct().ToList();
        var hosts = await db.Hosts.Where(h => ids.Contains(h.Id)).ToDictionaryAsync(h => h.Id, h => h.Name, ct);
        return
        [
            .. found.Select(s => new SweepInfo(
                s.Id,
                s.State,
                s.Networks,
                s.Ports,
                hosts.GetValueOrDefault(s.HostId, ""),
                s.By,
                s.At,
                s.EndedAt,
                s.Total,
                s.Tried,
                s.Answering,
                s.Serving,
                s.Unmanaged,
                Shapes.Problem(s.ProblemJson)
            )),
        ];
    }
}

internal static class SweepEndpoints
{
    public static void MapSweeps(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/sweeps").WithTags("Sweeps");
        g.MapGet(
                "",
                async (string? after, int? take, SweepQueries q, CancellationToken ct) =>
                    TypedResults.Ok(await q.PageAsync(after, take, ct))
            )
            .Is(Operation.ListSweeps);
        g.MapGet(
                "/{number:long}",
                async (long number, SweepQueries q, CancellationToken ct) => TypedResults.Ok(await q.OneAsync(number, ct))
            )
            .Is(Operation.GetSweep);
        g.MapGet(
                "/{number:long}/findings",
                async (long number, [AsParameters] FindingList list, SweepQueries q, CancellationToken ct) =>
                    TypedResults.Ok(await q.FindingsAsync(number, list, ct))
            )
            .Is(Operation.ListFindings);
        g.MapPost(
                "",
                async (SweepWish wish, RunSweeps sweeps, SweepQueries q, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok((await q.OneAsync(await sweeps.StartAsync(wish, caller, ct), ct)).Sweep)
            )
            .Is(Operation.StartSweep);
        g.MapPost(
                "/{number:long}/stop",
                async (long number, RunSweeps sweeps, SweepQueries q, Caller caller, CancellationToken ct) =>
                {
                    await sweeps.StopAsync(number, caller, ct);
                    return TypedResults.Ok((await q.OneAsync(number, ct)).Sweep);
                }
            )
            .Is(Operation.StopSweep);
    }
}
