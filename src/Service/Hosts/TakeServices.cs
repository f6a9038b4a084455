using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Trust;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>A service that is new or other than it was said before, with what its looks mean.</summary>
public sealed record JudgedService(FoundService Found, IReadOnlyList<LookInfo> Looks);

/// <summary>Takes over which services a host has and what they serve. Of thousands one changes at a time: what was said before is left as it is.</summary>
public sealed class TakeServices(BeaconDb db, JudgeLook judge)
{
    private const int MostServices = 5000,
        MostNames = 20_000,
        MostLooks = 50,
        MostNotes = 20,
        AtATime = 500;

    /// <summary>What is looked after: the first ones, as long as they and their names are not too many.</summary>
    private static IEnumerable<FoundService> Kept(AgentReport report)
    {
        var names = 0;
        return report.Services.DistinctBy(s => s.Name).Take(MostServices).TakeWhile(s => (names += s.Names.Count) <= MostNames);
    }

    /// <summary>What could not be kept of a report, for people at the host; null when all was.</summary>
    public static ProblemInfo? ProblemOf(AgentReport report)
    {
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

    /// <summary>What a report says that was not said before, judged. It takes its time, so nobody is kept from writing meanwhile.</summary>
    /// <param name="known">The services as they were said before, and are judged still; null when all are to be looked at again.</param>
    public IReadOnlyList<JudgedService> Judge(AgentReport report, ReportPrint print, IReadOnlyDictionary<string, long>? known, string host)
    {
        bool IsNews(FoundService s) =>
            known is null
            || !print.Services.TryGetValue(s.Name, out var now)
            || !known.TryGetValue(s.Name, out var before)
            || now != before;

        return [.. Kept(report).Where(IsNews).Select(s => new JudgedService(s, Judged(s.Looks, host)))];
    }

    /// <summary>Inside the transaction that takes the report.</summary>
    public async Task RunAsync(Host host, AgentReport report, IReadOnlyList<JudgedService> news, DateTimeOffset now, CancellationToken ct)
    {
        var kept = Kept(report).Select(s => s.Name).ToHashSet();
        var there = await db.Services.Where(s => s.HostId == host.Id).Select(s => s.Name).ToListAsync(ct);
        // A broken configuration shows no services: that does not mean they are gone.
        var gone = report.Problem is null ? there.Where(name => !kept.Contains(name)).ToList() : [];
        var rows = await RowsAsync(host.Id, [.. gone, .. news.Select(n => n.Found.Name)], ct);
        var bindings = await db
            .Bindings.Where(b => db.Services.Any(s => s.HostId == host.Id && s.Id == b.ServiceId))
            .ToDictionaryAsync(b => b.ServiceId, ct);
        var added = new List<(string Name, string Why)>();
        foreach (var (found, looks) in news)
        {
            if (!rows.TryGetValue(found.Name, out var row))
            {
                db.Services.Add(row = HostService.Of(host.Id, found.Name));
                added.Add((found.Name, $"by {found.Connector}: {string.Join(", ", found.Names)}"));
            }
            Describe(row, found);
            Keep(row, looks, bindings.GetValueOrDefault(row.Id));
        }
        foreach (var row in gone.Select(name => rows[name]))
        {
            if (bindings.GetValueOrDefault(row.Id) is { } binding)
                db.Bindings.Remove(binding);
            db.Services.Remove(row);
        }
        await NoteAsync(host, JournalAction.ServiceFound, added, now);
        const string why = "it is not in the server's configuration any more";
        await NoteAsync(host, JournalAction.ServiceGone, [.. gone.Select(name => (name, why))], now);
    }

    private async Task<Dictionary<string, HostService>> RowsAsync(int host, List<string> names, CancellationToken ct)
    {
        var rows = new Dictionary<string, HostService>(names.Count);
        foreach (var some in names.Chunk(AtATime))
        foreach (var row in await db.Services.Where(s => s.HostId == host && some.Contains(s.Name)).ToListAsync(ct))
            rows[row.Name] = row;
        return rows;
    }

    /// <summary>When the first certificate of those that a host serves expires.</summary>
    public Task<DateTimeOffset?> NextEndAsync(int host, CancellationToken ct) =>
        db.Services.Where(s => s.HostId == host).MinAsync(s => s.ServedUntil, ct);

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

    private List<LookInfo> Judged(IEnumerable<LookReport> looks, string host) => [.. looks.Take(MostLooks).Select(l => judge.Run(l, host))];

    /// <summary>What an order met at one of its host's services.</summary>
    public void TakeLooks(HostService row, IReadOnlyList<LookReport> looks, string hostName, Binding? binding) =>
        Keep(row, Judged(looks, hostName), binding);

    /// <summary>Keeps judged looks, worst first, and what is served under the service's own name.</summary>
    private static void Keep(HostService row, IReadOnlyList<LookInfo> judged, Binding? binding)
    {
        if (judged.Count == 0 || binding?.IsOld(judged[0].At) == true)
            return;
        var own = judged.FirstOrDefault(l => l.Served is not null);
        var worstFirst = judged.OrderByDescending(l => l.Severity).ToList();
        row.Looked(
            JsonSerializer.Serialize(worstFirst, BeaconJson.Default.ListLookInfo),
            worstFirst[0].Problems.FirstOrDefault()?.Fault,
            own
        );
        binding?.Saw(own?.Served?.Serial, judged[0].At);
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
}
