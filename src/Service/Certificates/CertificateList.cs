using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>What a list of certificates is asked for. Null filters nothing.</summary>
public sealed record CertificateWish
{
    /// <summary>Part of a name, or a whole serial or fingerprint of one of its editions.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary>One of <see cref="CertificateList.States"/>.</summary>
    [InQuery(Name = "state")]
    public string? State { get; init; }

    [InQuery(Name = "host")]
    public string? Host { get; init; }

    [InQuery(Name = "profile")]
    public string? Profile { get; init; }

    /// <summary>An authority as it stands in addresses: <c>issuing</c> for all its keys, <c>issuing-2</c> for its second.</summary>
    [InQuery(Name = "issuer")]
    public string? Issuer { get; init; }

    /// <summary>The edition in use expires before.</summary>
    [InQuery(Name = "endsBefore")]
    public DateTimeOffset? EndsBefore { get; init; }

    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Lists certificates a page at a time, filtered and sorted by the database.</summary>
public sealed class CertificateList(BeaconDb db, CertificateQueries certificates, AuthorityRegistry registry)
{
    private const string Serving = "serving",
        InStore = "in-store",
        HandedOut = "handed-out",
        Automatic = "automatic",
        ByHand = "by-hand";

    private static readonly IReadOnlyList<ConcernKind> Causes =
    [
        ConcernKind.RenewalFailed,
        ConcernKind.Stuck,
        ConcernKind.OnHold,
        ConcernKind.Revoked,
        ConcernKind.Expired,
        ConcernKind.ExpiresSoon,
        ConcernKind.NotIssuedYet,
        ConcernKind.RecordsToAdd,
        ConcernKind.RecordsToRemove,
        ConcernKind.ClaimedElsewhere,
    ];

    /// <summary>What a list can be narrowed to.</summary>
    public static readonly IReadOnlyList<string> States =
    [
        ListQuery.NeedsAHand,
        .. Causes.Select(OpenWord<ConcernKind>.WordOf),
        Serving,
        InStore,
        HandedOut,
        Automatic,
        ByHand,
    ];

    public static readonly IReadOnlyList<string> Sorts = ["name", "ends", "renewal", "severity"];

    /// <exception cref="BeaconProblem">A word for a state, a sort or an issuer is not known, or the page goes on behind nothing.</exception>
    public async Task<Page<CertificateInfo>> PageAsync(CertificateWish wish, CancellationToken ct)
    {
        var (sort, take) = (ListQuery.Word("sort", wish.Sort, Sorts), ListQuery.Take(wish.Take));
        var rows = InState(Narrowed(wish), ListQuery.Word("state", wish.State, States));
        var last = wish.After is { Length: > 0 } after ? await LastAsync(after, ct) : null;
        var ids = sort switch
        {
            "ends" => await ByEndAsync(rows, last, take, ct),
            "renewal" => await ByRenewalAsync(rows, last, take, ct),
            "severity" => await BySeverityAsync(rows, last, take, ct),
            _ => await ByNameAsync(rows, last, take, ct),
        };
        var page = await certificates.InfosAsync(ids, ct);
        return new(page, page.Count == take ? page[^1].Name : null);
    }

    private async Task<Certificate> LastAsync(string name, CancellationToken ct) =>
        await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == name, ct)
        ?? throw new BeaconProblem(ProblemCode.InputInvalid, $"The list cannot go on behind \"{name}\".", "Begin it again.");

    private IQueryable<Certificate> Narrowed(CertificateWish wish)
    {
        var q = db.Certificates.AsNoTracking().Where(c => c.Profile != "agent");
        if (wish.Search is { } text && !string.IsNullOrWhiteSpace(text))
            q = Found(q, text.Trim());
        if (wish.Host is { Length: > 0 } host)
        {
            var hosts = FindHost.Called(db.Hosts, host).Select(h => (int?)h.Id);
            q = q.Where(c => hosts.Contains(c.HostId));
        }
        if (wish.Profile is { Length: > 0 } profile)
            q = q.Where(c => c.Profile == profile);
        if (wish.EndsBefore is { } before)
            q = q.Where(c => db.Editions.Any(e => e.CertificateId == c.Id && e.State == EditionState.Current && e.NotAfter < before));
        if (wish.Issuer is { Length: > 0 } issuer)
        {
            var generations = GenerationsOf(issuer);
            q = q.Where(c =>
                db.Editions.Any(e => e.CertificateId == c.Id && e.State == EditionState.Current && generations.Contains(e.GenerationId))
            );
        }
        return q;
    }

    private IQueryable<Certificate> Found(IQueryable<Certificate> q, string text)
    {
        var lower = text.ToLowerInvariant();
        var named = q.Where(c => c.Name.Contains(lower) || c.NamesJson.Contains(lower));
        if (!SerialNumber.TryParse(text, out var serial))
            return named;
        var fingerprint = lower.Replace(":", "");
        return q.Where(c =>
            c.Name.Contains(lower)
            || c.NamesJson.Contains(lower)
            || db.Editions.Where(e => e.Serial == serial.Hex || e.Thumbprint == fingerprint).Select(e => e.CertificateId).Contains(c.Id)
        );
    }

    private List<int> GenerationsOf(string issuer)
    {
        var known = registry
            .Authorities.SelectMany(a => a.Generations.Select(g => (a.Slug, File: Authority.FileOf(a.Slug, g.KeyNumber), g.Id)))
            .ToList();
        ListQuery.Word("issuer", issuer, [.. known.SelectMany(k => new[] { k.Slug, k.File }).Distinct()]);
        return [.. known.Where(k => k.Slug == issuer || k.File == issuer).Select(k => k.Id)];
    }

    private IQueryable<Certificate> InState(IQueryable<Certificate> q, string? state)
    {
        var open = db.Concerns.Where(c => c.Of == ConcernSubject.Certificate);
        switch (state)
        {
            case null:
                return q;
            case ListQuery.NeedsAHand:
                return q.Where(c => open.Select(x => (int)x.SubjectId).Contains(c.Id));
            case Automatic:
            case ByHand:
                var automatic = state == Automatic;
                return q.Where(c => c.Automatic == automatic);
            case Serving:
                return q.Where(c => db.Bindings.Any(b => b.CertificateId == c.Id && b.State == BindingState.Serving));
            case InStore:
                return q.Where(c => c.HostId != null && c.HasEdition && !db.Bindings.Any(b => b.CertificateId == c.Id));
            case HandedOut:
                return q.Where(c => c.HostId == null && c.HasEdition && c.Owner != "system");
            default:
                var kind = OpenWord<ConcernKind>.Of(state);
                return q.Where(c => open.Where(x => x.Kind == kind).Select(x => (int)x.SubjectId).Contains(c.Id));
        }
    }

    private static Task<List<int>> ByNameAsync(IQueryable<Certificate> rows, Certificate? last, int take, CancellationToken ct)
    {
        if (last is not null)
            rows = rows.Where(c => string.Compare(c.Name, last.Name) > 0);
        return rows.OrderBy(c => c.Name).Select(c => c.Id).Take(take).ToListAsync(ct);
    }

    /// <summary>What was never issued has no end, and is in no such list.</summary>
    private async Task<List<int>> ByEndAsync(IQueryable<Certificate> rows, Certificate? last, int take, CancellationToken ct)
    {
        var current = db.Editions.AsNoTracking().Where(e => e.State == EditionState.Current && e.Profile != "agent");
        if (last is not null)
        {
            var end = await current.Where(e => e.CertificateId == last.Id).Select(e => e.NotAfter).FirstOrDefaultAsync(ct);
            current = current.Where(e => e.NotAfter > end || (e.NotAfter == end && e.CertificateId > last.Id));
        }
        return await current
            .OrderBy(e => e.NotAfter)
            .ThenBy(e => e.CertificateId)
            .Where(e => rows.Any(c => c.Id == e.CertificateId))
            .Select(e => e.CertificateId)
            .Take(take)
            .ToListAsync(ct);
    }

    /// <summary>What renews nothing by itself comes in no such list.</summary>
    private static Task<List<int>> ByRenewalAsync(IQueryable<Certificate> rows, Certificate? last, int take, CancellationToken ct)
    {
        rows = rows.Where(c => c.NextActionAt != null);
        if (last is not null)
            rows = rows.Where(c => c.NextActionAt > last.NextActionAt || (c.NextActionAt == last.NextActionAt && c.Id > last.Id));
        return rows.OrderBy(c => c.NextActionAt).ThenBy(c => c.Id).Select(c => c.Id).Take(take).ToListAsync(ct);
    }

    /// <summary>Those with a concern, worst first, then the others by name.</summary>
    private async Task<List<int>> BySeverityAsync(IQueryable<Certificate> rows, Certificate? last, int take, CancellationToken ct)
    {
        var open = db.Concerns.Where(c => c.Of == ConcernSubject.Certificate);
        var worst = last is null
            ? null
            : await open.Where(c => c.SubjectId == last.Id).Select(c => (Severity?)c.Severity).FirstOrDefaultAsync(ct);
        var ids = new List<int>();
        if (last is null || worst is not null)
        {
            var concerned =
                from x in open
                join c in rows on (int)x.SubjectId equals c.Id
                select new
                {
                    c.Id,
                    c.Name,
                    x.Severity,
                };
            if (last is not null)
                concerned = concerned.Where(c => c.Severity < worst || (c.Severity == worst && string.Compare(c.Name, last.Name) > 0));
            ids = await concerned.OrderByDescending(c => c.Severity).ThenBy(c => c.Name).Select(c => c.Id).Take(take).ToListAsync(ct);
        }
        if (ids.Count < take)
            ids.AddRange(
                await ByNameAsync(
                    rows.Where(c => !open.Select(x => (int)x.SubjectId).Contains(c.Id)),
                    worst is null ? last : null,
                    take - ids.Count,
                    ct
                )
            );
        return ids;
    }
}
