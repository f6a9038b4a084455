using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Stores;
using OrderlyBeacon.Service.Trust;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>What a report says besides services and the store.</summary>
public sealed record ReportParts(TakeTrust Trust, TakeProviders Providers);

/// <summary>Takes over what an agent says about its host: services, looks, store.</summary>
public sealed class TakeReport(
    BeaconDb db,
    JudgeLook judge,
    ReportParts parts,
    Presence presence,
    NewsLimit news,
    Changes changes,
    TimeProvider clock
)
{
    private const int MostServices = 5000,
        MostNames = 20_000,
        MostEntries = 5000,
        MostAuthorities = 200,
        MostNotes = 50;

    public async Task RunAsync(int hostId, AgentReport report, CancellationToken ct)
    {
        var (fingerprint, epoch) = (Presence.Fingerprint(report), presence.Epoch);
        if (presence.IsKnown(hostId, fingerprint))
            return;
        news.ThrowIfTooMuch(hostId, report);
        await using var write = await db.BeginWriteAsync(ct);
        var host = await db.Hosts.SingleAsync(h => h.Id == hostId, ct);
        host.ThrowIfGone();
        var now = clock.GetUtcNow();
        Keep(host, report, now);
        await KeepEntriesAsync(hostId, report.Entries, ct);
        if (report.Trust is { } stores)
            await parts.Trust.RunAsync(host, stores, now, ct);
        if (report.Providers is { } providers)
            await parts.Providers.RunAsync(host, providers, now, ct);
        var rows = await db.Services.Where(s => s.HostId == hostId).ToDictionaryAsync(s => s.Name, ct);
        var bindings = await db
            .Bindings.Where(b => db.Services.Any(s => s.HostId == hostId && s.Id == b.ServiceId))
            .ToDictionaryAsync(b => b.ServiceId, ct);
        var added = new List<(string Name, string Why)>();
        foreach (var found in Kept(report))
        {
            if (!rows.Remove(found.Name, out var row))
            {
                db.Services.Add(row = HostService.Of(hostId, found.Name));
                added.Add((found.Name, $"by {found.Connector}: {string.Join(", ", found.Names)}"));
            }
            Describe(row, found);
            TakeLooks(row, found.Looks, host.Name, bindings.GetValueOrDefault(row.Id));
        }
        await NoteAsync(host, JournalAction.ServiceFound, added, now);
        // A broken configuration shows no services: that does not mean they are gone.
        if (report.Problem is null)
        {
            foreach (var gone in rows.Values)
            {
                if (bindings.GetValueOrDefault(gone.Id) is { } binding)
                    db.Bindings.Remove(binding);
                db.Services.Remove(gone);
            }
            await NoteAsync(
                host,
                JournalAction.ServiceGone,
                [.. rows.Values.Select(s => (s.Name, "it is not in the server's configuration any more"))],
                now
            );
        }
        await write.CommitAsync(ct);
        await parts.Trust.SettledAsync(ct);
        parts.Providers.Settled();
        if (!parts.Trust.IsWaiting)
            presence.Keep(hostId, fingerprint, epoch, db.Services.Local.Where(s => s.HostId == hostId).Min(s => s.ServedUntil));
        changes.Tell("host", host.Name);
    }

    /// <summary>An entry for each; where they are many, one for all: nobody reads five thousand, and no host fills the journal with its own services.</summary>
    private async Task NoteAsync(Host host, JournalAction action, List<(string Name, string Why)> services, DateTimeOffset now)
    {
        if (services.Count <= MostNotes)
            foreach (var (name, why) in services)
                await db.Note(now, Actor.Agent(host.Name), action, $"{host.Name}/{name}", why);
        else
            await db.Note(
                now,
                Actor.Agent(host.Name),
                action,
                host.Name,
                $"{services.Count} services at once, among them {string.Join(", ", services.Take(5).Select(s => s.Name))}"
            );
    }

    /// <summary>What is kept of a host was changed otherwise: its next report is taken whole.</summary>
    public void TakeNextWhole(int host) => presence.Forget(host);

    public LookInfo Judge(LookReport look, string host) => judge.Run(look, host);

    private static void Keep(Host host, AgentReport report, DateTimeOffset now)
    {
        host.Reported(
            now,
            report.AgentVersion,
            Shapes.Json(report.Addresses),
            JsonSerializer.Serialize([.. report.Entries], BeaconJson.Default.ListStoreEntryInfo),
            ProblemOf(report) is { } problem ? JsonSerializer.Serialize(problem, BeaconJson.Default.ProblemInfo) : null,
            report.Anchors is null ? null : Shapes.Json(report.Anchors.Take(20))
        );
        host.StoreHas(
            report.SealKey is { Length: < 200 } key ? key : null,
            JsonSerializer.Serialize([.. (report.Authorities ?? []).Take(MostAuthorities)], BeaconJson.Default.ListStoreAuthorityInfo)
        );
    }

    /// <summary>What is looked after: the first ones, as long as they and their names are not too many.</summary>
    private static IEnumerable<FoundService> Kept(AgentReport report)
    {
        var names = 0;
        return report.Services.DistinctBy(s => s.Name).Take(MostServices).TakeWhile(s => (names += s.Names.Count) <= MostNames);
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

    private static void Describe(HostService row, FoundService found)
    {
        row.IsUsedFor(MailUses.Mask(found.Connector, found.Names, found.Endpoints));
        row.GoesInTheClear(found.Endpoints.Any(e => e.ClearText == true), found.RequiresTls, found.Lowest);
        row.Described(
            found.Connector,
            Shapes.Json(found.Names),
            found.NamesAreAssumed,
            JsonSerializer.Serialize([.. found.Endpoints], BeaconJson.Default.ListEndpointInfo),
            Shapes.Json(found.Places),
            found.CertificateFile,
            found.Problem is null ? null : JsonSerializer.Serialize(found.Problem, BeaconJson.Default.ProblemInfo)
        );
    }

    /// <summary>What a person at the host must know: the agent's own words, else what of the report could not be kept.</summary>
    private static ProblemInfo? ProblemOf(AgentReport report)
    {
        if (report.Problem is not null)
            return report.Problem;
        if (report.Services.GroupBy(s => s.Name).FirstOrDefault(g => g.Count() > 1) is { } twice)
            return new(
                BeaconProblem.SlugOf(ProblemCode.NameAmbiguous),
                $"Two servers on this host have a service {twice.Key} ({string.Join(", ", twice.Select(s => s.Connector).Distinct())}); only the first is looked after.",
                "Give one of them another first name in its configuration."
            );
        if (report.Services.Count > MostServices)
            return TooMany($"{report.Services.Count} services; only the first {MostServices}");
        if (Kept(report).Count() is var kept && kept < report.Services.Count)
            return TooMany($"over {MostNames} names; only the first {kept} of its {report.Services.Count} services");
        return null;

        static ProblemInfo TooMany(string what) =>
            new(BeaconProblem.SlugOf(ProblemCode.TooLarge), $"This host has {what} are looked after.", "Spread them over several agents.");
    }

    /// <summary>Keeps judged looks, worst first, and what is served under the service's own name.</summary>
    public void TakeLooks(HostService row, IReadOnlyList<LookReport> looks, string hostName, Binding? binding)
    {
        if (looks.Count == 0 || binding?.IsOld(looks[0].At) == true)
            return;
        var judged = looks.Take(50).Select(l => judge.Run(l, hostName)).ToList();
        var own = judged.FirstOrDefault(l => l.Served is not null);
        var worstFirst = judged.OrderByDescending(l => l.Severity).ToList();
        row.Looked(
            JsonSerializer.Serialize(worstFirst, BeaconJson.Default.ListLookInfo),
            worstFirst[0].Problems.FirstOrDefault()?.Fault,
            own
        );
        binding?.Saw(own?.Served?.Serial, looks[0].At);
    }
}
