using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Stores;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>The parts of a report that have rows of their own.</summary>
public sealed record ReportParts(TakeServices Services, TakeTrust Trust, TakeProviders Providers);

/// <summary>Takes over what an agent says about its host: services, looks, store.</summary>
public sealed class TakeReport(BeaconDb db, ReportParts parts, Presence presence, NewsLimit news, Changes changes, TimeProvider clock)
{
    private const int MostEntries = 5000,
        MostAuthorities = 200;

    public async Task RunAsync(int hostId, AgentReport report, CancellationToken ct)
    {
        var (print, epoch) = (ReportPrint.Of(report), presence.Epoch);
        if (presence.IsKnown(hostId, print.Whole))
            return;
        news.ThrowIfTooMuch(hostId, report);
        using var turn = await news.TurnAsync(ct);
        var name = await db.Hosts.Where(h => h.Id == hostId).Select(h => h.Name).SingleAsync(ct);
        var known = presence.ServicesOf(hostId);
        var services = parts.Services.Judge(report, print, known, name);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var host = await db.Hosts.SingleAsync(h => h.Id == hostId, ct);
            host.ThrowIfGone();
            if (!presence.Begin(hostId, known))
                services = parts.Services.Judge(report, print, null, name);
            var now = clock.GetUtcNow();
            Keep(host, report, now);
            await KeepEntriesAsync(hostId, report.Entries, ct);
            if (report.Trust is { } stores)
                await parts.Trust.RunAsync(host, stores, now, ct);
            if (report.Providers is { } providers)
                await parts.Providers.RunAsync(host, providers, now, ct);
            await parts.Services.RunAsync(host, report, services, now, ct);
            await write.CommitAsync(ct);
        }
        await parts.Trust.SettledAsync(ct);
        parts.Providers.Settled();
        if (!parts.Trust.IsWaiting)
            presence.Keep(hostId, print, epoch, await parts.Services.NextEndAsync(hostId, ct));
        changes.Tell("host", name);
    }

    /// <summary>What is kept of a host was changed otherwise: its next report is taken whole.</summary>
    public void TakeNextWhole(int host) => presence.Forget(host);

    private static void Keep(Host host, AgentReport report, DateTimeOffset now)
    {
        var problem = report.Problem ?? TakeServices.ProblemOf(report);
        host.Reported(
            now,
            report.AgentVersion,
            Shapes.Json(report.Addresses),
            JsonSerializer.Serialize([.. report.Entries], BeaconJson.Default.ListStoreEntryInfo),
            problem is null ? null : JsonSerializer.Serialize(problem, BeaconJson.Default.ProblemInfo),
            report.Anchors is null ? null : Shapes.Json(report.Anchors.Take(20))
        );
        host.StoreHas(
            report.SealKey is { Length: < 200 } key ? key : null,
            JsonSerializer.Serialize([.. (report.Authorities ?? []).Take(MostAuthorities)], BeaconJson.Default.ListStoreAuthorityInfo)
        );
    }

    /// <summary>What is as it was stays the row that it is.</summary>
    private async Task KeepEntriesAsync(int hostId, IReadOnlyList<StoreEntryInfo> entries, CancellationToken ct)
    {
        var rows = await db.StoredEntries.Where(e => e.HostId == hostId).ToListAsync(ct);
        var said = entries.DistinctBy(e => e.Thumbprint).Take(MostEntries).ToDictionary(e => e.Thumbprint);
        foreach (var row in rows)
            if (said.TryGetValue(row.Thumbprint, out var e) && row.Is(e))
                said.Remove(row.Thumbprint);
            else
                db.StoredEntries.Remove(row);
        db.StoredEntries.AddRange(said.Values.Select(e => StoredEntry.Of(hostId, e)));
    }
}
