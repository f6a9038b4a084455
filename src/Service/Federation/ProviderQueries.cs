using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Federation;

/// <summary>What a list of providers is asked for. Null filters nothing.</summary>
public sealed record ProviderList
{
    /// <summary>Part of a provider's or a host's name.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary>A word of <see cref="FederationStep"/>, or <c>failed</c>.</summary>
    [InQuery(Name = "step")]
    public string? Step { get; init; }

    /// <summary><c>name</c>, or <c>ends</c>: what it signs with, the first to expire first.</summary>
    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Reads providers with their partners.</summary>
public sealed class ProviderQueries(BeaconDb db, BeaconOptions options, TimeProvider clock)
{
    private const string Failed = "failed";
    private const int MostPartnersInList = 20;

    public async Task<Page<ProviderInfo>> PageAsync(ProviderList list, CancellationToken ct)
    {
        var step = ListQuery.Word("step", list.Step, [.. OpenWord<FederationStep>.Words.Where(w => w != "unknown"), Failed]);
        var byEnd = ListQuery.Word("sort", list.Sort, "name", "ends") == "ends";
        var rows = db.Providers.AsNoTracking();
        if (step == Failed)
            rows = rows.Where(p => p.IsFailed);
        else if (step is not null)
        {
            var wanted = OpenWord<FederationStep>.Of(step);
            rows = rows.Where(p => p.Step == wanted);
        }
        if (list.Search is { } search && !string.IsNullOrWhiteSpace(search))
        {
            var part = ListQuery.Having(search);
            rows = rows.Where(p =>
                EF.Functions.Like(p.Entity, part, ListQuery.EscapedBy)
                || db.Hosts.Any(h => h.Id == p.HostId && EF.Functions.Like(h.Name, part, ListQuery.EscapedBy))
            );
        }
        var take = ListQuery.Take(list.Take);
        var after = int.TryParse(list.After, out var from) && from > 0 ? from : 0;
        var sorted = byEnd ? rows.OrderBy(p => p.SignsUntil).ThenBy(p => p.Id) : rows.OrderBy(p => p.Entity).ThenBy(p => p.Id);
        var found = await sorted.Skip(after).Take(take + 1).ToListAsync(ct);
        var next = found.Count > take ? (after + take).ToString() : null;
        return new(await InfosAsync([.. found.Take(take)], MostPartnersInList, ct), next);
    }

    public async Task<ProviderInfo> OneAsync(int number, CancellationToken ct)
    {
        var found = await db.Providers.AsNoTracking().Where(p => p.Id == number).ToListAsync(ct);
        return found.Count == 1
            ? (await InfosAsync(found, int.MaxValue, ct))[0]
            : throw new BeaconProblem(ProblemCode.NotFound, $"There is no provider {number}.", "See beacon federation list.");
    }

    private async Task<List<ProviderInfo>> InfosAsync(List<Provider> rows, int mostPartners, CancellationToken ct)
    {
        var (ids, hostIds, certificateIds) = (
            rows.Select(p => p.Id).ToList(),
            rows.Select(p => p.HostId).ToList(),
            rows.Select(p => p.CertificateId).OfType<int>().ToList()
        );
        var hosts = await db.Hosts.AsNoTracking().Where(h => hostIds.Contains(h.Id)).ToDictionaryAsync(h => h.Id, ct);
        var certificates = await db
            .Certificates.AsNoTracking()
            .Where(c => certificateIds.Contains(c.Id))
            .Select(c => new
            {
                c.Id,
                c.Name,
                Current = db.Editions.FirstOrDefault(e => e.CertificateId == c.Id && e.State == EditionState.Current),
            })
            .ToDictionaryAsync(c => c.Id, ct);
        var partners = (
            await db.Partners.AsNoTracking().Where(p => ids.Contains(p.ProviderId)).OrderBy(p => p.Entity).ToListAsync(ct)
        ).ToLookup(p => p.ProviderId);
        return
        [
            .. rows.Select(p =>
            {
                var certificate = p.CertificateId is { } id ? certificates.GetValueOrDefault(id) : null;
                var known = partners[p.Id].Select(x => x.Info).ToList();
                // Those that it waits for come first, so that they are seen.
                var shown = known.OrderBy(x => x.Knows).ThenBy(x => x.Entity, StringComparer.Ordinal).Take(mostPartners).ToList();
                var nextSerial = certificate?.Current is { } e && e.Thumbprint != p.Signs?.Thumbprint ? e.Serial : null;
                var problem = Shapes.Problem(p.FailureJson) ?? Shapes.Problem(p.ProblemJson);
                var words = new ProviderWords(p, known, clock.GetUtcNow(), options.SoonDays);
                return new ProviderInfo(
                    p.Id,
                    hosts[p.HostId].Name,
                    p.Entity,
                    p.Metadata,
                    p.Place,
                    p.Step,
                    words.Severity,
                    p.Signs,
                    p.Also,
                    certificate?.Name,
                    nextSerial,
                    p.Since,
                    p.Step == FederationStep.Fading ? RollProviders.FadesUntil(p) : p.GoOnAt,
                    shown,
                    p.Strangers,
                    words.Breaks,
                    problem
                )
                {
                    Owner = hosts[p.HostId].Owner,
                    NotCounted = p.Step == FederationStep.Waiting ? p.NotCounted : null,
                    Next = words.Next,
                };
            }),
        ];
    }

    /// <summary>What of providers needs a hand. Few rows, by indexes.</summary>
    public async Task<IReadOnlyList<Found>> ConcernsAsync(CancellationToken ct)
    {
        var (now, found) = (clock.GetUtcNow(), new List<Found>());
        var (soon, day) = (now.AddDays(options.SoonDays), now.AddDays(-1));
        var rows = await db
            .Providers.AsNoTracking()
            .Where(p => p.IsFailed || p.Step == FederationStep.Waiting || p.SignsUntil < soon)
            .OrderBy(p => p.SignsUntil)
            .Take(MostConcerns)
            .ToListAsync(ct);
        var ids = rows.Select(r => r.Id).ToList();
        var partners = (await db.Partners.AsNoTracking().Where(p => ids.Contains(p.ProviderId)).ToListAsync(ct)).ToLookup(p =>
            p.ProviderId
        );
        foreach (var p in rows)
        {
            var words = new ProviderWords(p, [.. partners[p.Id].Select(x => x.Info)], now, options.SoonDays);
            if (p.Step == FederationStep.Waiting && !p.IsFailed && p.Since > day && p.SignsUntil > soon)
                continue;
            found.Add(words.Concern);
        }
        return found;
    }

    private const int MostConcerns = 50;
}

/// <summary>A provider as its caller sees it after a change.</summary>
public sealed class SeenProvider(ProviderQueries q, Offers offers)
{
    public async Task<ProviderInfo> OfAsync(int number, Caller caller, CancellationToken ct) =>
        offers.To(caller, await q.OneAsync(number, ct));
}
