using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Federation;

/// <summary>Takes over what agents say of providers: what they publish, who has fetched it, how a step ended. Within the transaction of the report or result.</summary>
public sealed class TakeProviders(BeaconDb db, ProviderBook book, Changes changes)
{
    private const int MostProviders = 50,
        MostPartners = 1000,
        MostStrangers = 20,
        MostFetches = 500,
        MostText = 500;
    private static readonly TimeSpan FirstRetry = TimeSpan.FromMinutes(1),
        LongestRetry = TimeSpan.FromHours(1);
    private readonly HashSet<int> _touched = [];

    public async Task RunAsync(Hosts.Host host, IReadOnlyList<FoundProvider> found, DateTimeOffset now, CancellationToken ct)
    {
        var rows = await db.Providers.Where(p => p.HostId == host.Id).ToListAsync(ct);
        foreach (var f in found.Where(IsKeepable).DistinctBy(f => (f.Instance, f.Entity)).Take(MostProviders))
        {
            // A configuration that cannot be read shows no providers: that does not mean they are gone.
            if (f is { Metadata.Length: 0, Problem: { } problem } && rows.Exists(r => r.Instance == f.Instance && r.Entity != f.Entity))
            {
                foreach (var same in rows.Where(r => r.Instance == f.Instance).ToList())
                {
                    same.IsTroubled(problem);
                    rows.Remove(same);
                }
                continue;
            }
            var row = rows.Find(r => r.Instance == f.Instance && r.Entity == f.Entity);
            if (row is null)
            {
                db.Providers.Add(row = Provider.Of(host.Id, f));
                await db.SaveChangesAsync(ct);
                await db.Note(now, Actor.Agent(host.Name), JournalAction.FederationFound, f.Entity, f.Place);
            }
            rows.Remove(row);
            await DescribeAsync(host, row, f, now, ct);
            _touched.Add(row.Id);
        }
        foreach (var gone in rows)
            await RemoveAsync(host, gone, now, ct);
    }

    private static bool IsKeepable(FoundProvider f) =>
        f.Entity.Length is > 0 and <= MostText
        && f.Metadata.Length <= MostText
        && f.Place.Length <= MostText
        && f.Instance.Length <= MostText;

    /// <summary>The host goes: so do its providers.</summary>
    public async Task ForgetAsync(Hosts.Host host, DateTimeOffset now, CancellationToken ct)
    {
        foreach (var row in await db.Providers.Where(p => p.HostId == host.Id).ToListAsync(ct))
            await RemoveAsync(host, row, now, ct);
    }

    private async Task RemoveAsync(Hosts.Host host, Provider gone, DateTimeOffset now, CancellationToken ct)
    {
        db.Partners.RemoveRange(await db.Partners.Where(p => p.ProviderId == gone.Id).ToListAsync(ct));
        db.Providers.Remove(gone);
        book.Rests(gone.Id);
        _touched.Add(gone.Id);
        await db.Note(
            now,
            Actor.Agent(host.Name),
            JournalAction.FederationGone,
            gone.Entity,
            "it is not in its server's configuration any more"
        );
    }

    private async Task DescribeAsync(Hosts.Host host, Provider row, FoundProvider f, DateTimeOffset now, CancellationToken ct)
    {
        var isNew = row.Described(f);
        var partners = await db.Partners.Where(p => p.ProviderId == row.Id).ToListAsync(ct);
        var named = f.Partners.Where(p => p.Length is > 0 and <= MostText).Distinct().Take(MostPartners).ToList();
        db.Partners.RemoveRange(partners.Where(p => !named.Contains(p.Entity)));
        partners.RemoveAll(p => !named.Contains(p.Entity));
        foreach (var entity in named.Except(partners.Select(p => p.Entity)).ToList())
        {
            var made = Partner.Of(row.Id, entity);
            partners.Add(made);
            db.Partners.Add(made);
        }
        if (isNew)
            partners.ForEach(p => p.KnowsNothing());
        var fetches = f.Fetches.Where(x => x.Address.Length <= MostText).Take(MostFetches).ToList();
        foreach (var partner in partners.Where(p => p.FetchedAt is null))
        {
            var addresses = partner.Addresses;
            if (fetches.Find(x => addresses.Contains(x.Address)) is not { } fetch)
                continue;
            partner.Fetched(fetch.At);
            await db.Note(
                now,
                Actor.Agent(host.Name),
                JournalAction.FederationLearnt,
                row.Entity,
                $"{partner.Entity} has fetched its metadata from {fetch.Address} at {fetch.At:yyyy-MM-dd HH:mm:ss}Z"
            );
        }
        var known = partners.SelectMany(p => p.Addresses).ToHashSet();
        row.FetchedBy([.. fetches.Where(x => !known.Contains(x.Address)).Take(MostStrangers)]);
    }

    /// <summary>Takes the end of an order about a provider.</summary>
    public async Task EndedAsync(Hosts.Host host, WorkOrder order, OrderResult result, DateTimeOffset now, CancellationToken ct)
    {
        if (await db.Providers.FirstOrDefaultAsync(p => p.HostId == host.Id && p.OrderId == order.Id, ct) is not { } row)
            return;
        var act = order.Content.Federation?.Act ?? FederationAct.Unknown;
        if (result.Done)
            row.Did();
        else
        {
            var problem = result.Problem ?? new("internal", "The agent gave no reason.", "Look into the agent's log.");
            var isStuck = problem.Code == BeaconProblem.SlugOf(ProblemCode.SwapStuck);
            var pause = FirstRetry * Math.Pow(2, Math.Min(row.Failures, 10));
            row.Failed(problem, isStuck ? null : now + (pause < LongestRetry ? pause : LongestRetry));
        }
        await db.Note(
            now,
            Actor.Agent(host.Name),
            result.Done ? JournalAction.FederationDone : JournalAction.FederationFailed,
            row.Entity,
            $"order {order.Id}, {OpenWord<FederationAct>.WordOf(act)} {order.Content.Serial}: {result.Problem?.Message ?? result.Steps.LastOrDefault()}"
        );
        _touched.Add(row.Id);
    }

    /// <summary>After the commit.</summary>
    public void Settled()
    {
        foreach (var id in _touched)
        {
            book.Now(id);
            changes.Tell("federation", id.ToString());
        }
        _touched.Clear();
    }
}
