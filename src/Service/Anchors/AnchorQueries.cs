using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>What a list of anchors is asked for. Null filters nothing.</summary>
public sealed record AnchorList
{
    /// <summary>Part of a name, or a fingerprint from its beginning.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary><c>ours</c>, <c>used</c> (a service's chain ends there) or <c>distrusted</c> (by a store at least).</summary>
    [InQuery(Name = "which")]
    public string? Which { get; init; }

    /// <summary><c>name</c> (ours first), or <c>ends</c>: the first to expire first.</summary>
    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>What a list of trust stores is asked for. Null filters nothing.</summary>
public sealed record TrustStoreList
{
    [InQuery(Name = "host")]
    public string? Host { get; init; }

    /// <summary><c>system</c>, <c>nss</c>, <c>java</c> or <c>file</c>.</summary>
    [InQuery(Name = "kind")]
    public string? Kind { get; init; }

    /// <summary>The anchor that <c>standing</c> is about: a fingerprint from its beginning, or <c>root</c>.</summary>
    [InQuery(Name = "anchor")]
    public string? Anchor { get; init; }

    /// <summary>How they stand to the anchor.</summary>
    [InQuery(Name = "standing")]
    public string? Standing { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Who trusts what: anchors with what stands on them, and stores with how they stand to an anchor; counted from sets, a page at a time.</summary>
public sealed class AnchorQueries(BeaconDb db, Trusted vouched)
{
    private const int MostServices = 20,
        ShortestPrefix = 8;
    public static readonly IReadOnlyList<string> Sorts = ["name", "ends"],
        Whiches = ["ours", "used", "distrusted"];

    /// <summary>What people call our newest root.</summary>
    public const string Root = "root";

    public async Task<Page<AnchorInfo>> PageAsync(AnchorList list, CancellationToken ct)
    {
        var (sort, take) = (ListQuery.Word("sort", list.Sort, Sorts), ListQuery.Take(list.Take));
        var rows = Narrowed(db.KnownAnchors.AsNoTracking(), list);
        if (
            long.TryParse(list.After, out var after)
            && await db.KnownAnchors.AsNoTracking().FirstOrDefaultAsync(a => a.Id == after, ct) is { } last
        )
            rows = (sort, last.Ours) switch
            {
                ("ends", _) => rows.Where(a => a.NotAfter > last.NotAfter || (a.NotAfter == last.NotAfter && a.Id > last.Id)),
                (_, true) => rows.Where(a =>
                    !a.Ours || string.Compare(a.Subject, last.Subject) > 0 || (a.Subject == last.Subject && a.Id > last.Id)
                ),
                _ => rows.Where(a =>
                    !a.Ours && (string.Compare(a.Subject, last.Subject) > 0 || (a.Subject == last.Subject && a.Id > last.Id))
                ),
            };
        var ordered =
            sort == "ends"
                ? rows.OrderBy(a => a.NotAfter).ThenBy(a => a.Id)
                : rows.OrderByDescending(a => a.Ours).ThenBy(a => a.Subject).ThenBy(a => a.Id);
        var page = await InfosAsync(ordered.Take(take), ct);
        return new(page.ConvertAll(p => p.Info), page.Count == take ? page[^1].Id.ToString() : null);
    }

    private IQueryable<KnownAnchor> Narrowed(IQueryable<KnownAnchor> rows, AnchorList list)
    {
        if (list.Search is { } search && !string.IsNullOrWhiteSpace(search))
        {
            var (part, hex) = (ListQuery.Having(search), search.Trim().Replace(":", "").ToLowerInvariant());
            rows = rows.Where(a => EF.Functions.Like(a.Subject, part, ListQuery.EscapedBy) || a.Thumbprint.StartsWith(hex));
        }
        return ListQuery.Word("filter", list.Which, Whiches) switch
        {
            "ours" => rows.Where(a => a.Ours),
            "used" => rows.Where(a => db.Services.Any(s => s.ChainEnd == a.Thumbprint)),
            "distrusted" => rows.Where(a => db.StoreMarks.Any(m => m.Thumbprint == a.Thumbprint && m.Mark == TrustMark.Distrusted)),
            _ => rows,
        };
    }

    private async Task<List<(long Id, AnchorInfo Info)>> InfosAsync(IQueryable<KnownAnchor> rows, CancellationToken ct)
    {
        var anchors = await rows.Select(a => new
            {
                a.Id,
                a.Thumbprint,
                a.Subject,
                a.NotAfter,
                a.Ours,
            })
            .ToListAsync(ct);
        var (ids, thumbprints) = (anchors.ConvertAll(a => a.Id), anchors.ConvertAll(a => a.Thumbprint));
        var trusting = await (
            from m in db.AnchorSetMembers
            where ids.Contains(m.AnchorId)
            join s in db.AnchorSets on m.SetId equals s.Id
            group s by m.AnchorId into g
            select new
            {
                g.Key,
                Stores = g.Sum(s => s.Stores),
                ForServers = g.Sum(s => s.ForServers),
            }
        ).ToDictionaryAsync(g => g.Key, ct);
        var distrusting = await db
            .StoreMarks.Where(m => thumbprints.Contains(m.Thumbprint) && m.Mark == TrustMark.Distrusted)
            .GroupBy(m => m.Thumbprint)
            .Select(g => new { g.Key, Count = g.Count() })
            .ToDictionaryAsync(g => g.Key, g => g.Count, ct);
        var services = await db
            .Services.Where(s => s.ChainEnd != null && thumbprints.Contains(s.ChainEnd))
            .GroupBy(s => s.ChainEnd!)
            .Select(g => new { g.Key, Count = g.Count() })
            .ToDictionaryAsync(g => g.Key, g => g.Count, ct);
        var all = await db.AnchorSets.SumAsync(s => s.ForServers, ct);
        return anchors.ConvertAll(a =>
        {
            var (trusted, distrusted) = (trusting.GetValueOrDefault(a.Id), distrusting.GetValueOrDefault(a.Thumbprint));
            var lacking = Math.Max(0, all - (trusted?.ForServers ?? 0) - distrusted);
            var info = new AnchorInfo(
                a.Thumbprint,
                a.Subject,
                a.NotAfter,
                a.Ours,
                vouched.Has(a.Thumbprint),
                trusted?.Stores ?? 0,
                lacking,
                distrusted,
                services.GetValueOrDefault(a.Thumbprint)
            );
            return (a.Id, info);
        });
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/> or <see cref="ProblemCode.NameAmbiguous"/>.</exception>
    public async Task<KnownAnchor> FindAsync(string called, CancellationToken ct)
    {
        var hex = called.Trim().Replace(":", "").ToLowerInvariant();
        if (hex == Root)
            return await db.KnownAnchors.AsNoTracking().Where(a => a.Ours).OrderByDescending(a => a.Id).FirstOrDefaultAsync(ct)
                ?? throw NoneCalled(called);
        if (hex.Length < ShortestPrefix || !hex.All(char.IsAsciiHexDigit))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{called}\" names no anchor.",
                $"Give the beginning of its SHA-256 fingerprint, {ShortestPrefix} digits at least, or \"{Root}\" for our own root."
            );
        var found = await db
            .KnownAnchors.AsNoTracking()
            .Where(a => a.Thumbprint.StartsWith(hex))
            .OrderBy(a => a.Id)
            .Take(2)
            .ToListAsync(ct);
        return found switch
        {
            [var one] => one,
            [] => throw NoneCalled(called),
            _ => throw new BeaconProblem(ProblemCode.NameAmbiguous, $"Several anchors' fingerprints begin with {hex}.", "Give more of it."),
        };
    }

    private static BeaconProblem NoneCalled(string called) =>
        new(ProblemCode.NotFound, $"No host and no authority of ours has an anchor \"{called}\".", "See beacon trust anchors.");

    public async Task<AnchorInfo> InfoAsync(KnownAnchor anchor, CancellationToken ct) =>
        (await InfosAsync(db.KnownAnchors.AsNoTracking().Where(a => a.Id == anchor.Id), ct))[0].Info;

    public async Task<AnchorDetail> OneAsync(string called, CancellationToken ct)
    {
        var anchor = await FindAsync(called, ct);
        var text = AnchorBook.Readable(anchor.Der) is { } x
            ? Shapes.Text(x)
            : new(anchor.Subject, [], anchor.Subject, null, anchor.Thumbprint, anchor.NotAfter, anchor.NotAfter, "", [], [], [], [], null);
        return new(await InfoAsync(anchor, ct), text, await ServicesAsync(anchor, ct));
    }

    /// <summary>The first services whose chain ends at an anchor.</summary>
    public Task<List<string>> ServicesAsync(KnownAnchor anchor, CancellationToken ct) =>
        db
            .Services.AsNoTracking()
            .Where(s => s.ChainEnd == anchor.Thumbprint)
            .Join(db.Hosts, s => s.HostId, h => h.Id, (s, h) => h.Name + "/" + s.Name)
            .OrderBy(n => n)
            .Take(MostServices)
            .ToListAsync(ct);

    public async Task<Page<TrustStoreInfo>> StoresAsync(TrustStoreList list, CancellationToken ct)
    {
        var take = ListQuery.Take(list.Take);
        var anchor = string.IsNullOrWhiteSpace(list.Anchor) ? null : await FindAsync(list.Anchor, ct);
        var stores = db.TrustStores.AsNoTracking();
        if (!string.IsNullOrWhiteSpace(list.Host))
        {
            var host = await FindHost.ByNameAsync(db, list.Host, ct);
            stores = stores.Where(s => s.HostId == host.Id);
        }
        if (ListQuery.Word("kind", list.Kind, [.. OpenWord<TrustKind>.Words]) is { } kind)
            stores = stores.Where(s => s.Kind == OpenWord<TrustKind>.Of(kind));
        if (ListQuery.Word("standing", list.Standing, [.. OpenWord<AnchorStanding>.Words]) is { } standing)
            stores = Standing(
                stores,
                anchor ?? throw new BeaconProblem(ProblemCode.InputInvalid, "A standing is to an anchor.", "Say which: --anchor."),
                OpenWord<AnchorStanding>.Of(standing)
            );
        if (long.TryParse(list.After, out var after))
            stores = stores.Where(s => s.Id > after);
        var page = await StoreInfosAsync(stores.OrderBy(s => s.Id).Take(take), anchor, ct);
        return new(page, page.Count == take ? page[^1].Id.ToString() : null);
    }

    /// <summary>Stores that stand to an anchor in a way.</summary>
    public IQueryable<TrustStore> Standing(IQueryable<TrustStore> stores, KnownAnchor anchor, AnchorStanding standing)
    {
        var (id, thumbprint) = (anchor.Id, anchor.Thumbprint);
        IQueryable<TrustStore> Marked(TrustMark mark) =>
            stores.Where(s => db.StoreMarks.Any(m => m.StoreId == s.Id && m.Thumbprint == thumbprint && m.Mark == mark));
        var unmarked = stores.Where(s => !db.StoreMarks.Any(m => m.StoreId == s.Id && m.Thumbprint == thumbprint));
        return standing switch
        {
            AnchorStanding.Pushed => Marked(TrustMark.Pushed),
            AnchorStanding.Distrusted => Marked(TrustMark.Distrusted),
            AnchorStanding.NotKnown => stores.Where(s => s.SetId == null),
            AnchorStanding.Trusted => unmarked.Where(s => db.AnchorSetMembers.Any(m => m.SetId == s.SetId && m.AnchorId == id)),
            _ => unmarked.Where(s => s.SetId != null && !db.AnchorSetMembers.Any(m => m.SetId == s.SetId && m.AnchorId == id)),
        };
    }

    public async Task<List<TrustStoreInfo>> StoreInfosAsync(IQueryable<TrustStore> stores, KnownAnchor? anchor, CancellationToken ct)
    {
        var (id, thumbprint) = (anchor?.Id ?? 0, anchor?.Thumbprint ?? "");
        var rows = await (
            from s in stores
            join h in db.Hosts on s.HostId equals h.Id
            orderby s.Id
            select new
            {
                Store = s,
                Host = h.Name,
                Has = db.AnchorSetMembers.Any(m => m.SetId == s.SetId && m.AnchorId == id),
                Mark = db
                    .StoreMarks.Where(m => m.StoreId == s.Id && m.Thumbprint == thumbprint)
                    .Select(m => (TrustMark?)m.Mark)
                    .FirstOrDefault(),
                Pushed = db.StoreMarks.Count(m => m.StoreId == s.Id && m.Mark == TrustMark.Pushed),
                Distrusted = db.StoreMarks.Count(m => m.StoreId == s.Id && m.Mark == TrustMark.Distrusted),
            }
        ).ToListAsync(ct);
        return
        [
            .. rows.Select(r => new TrustStoreInfo(
                r.Store.Id,
                r.Host,
                r.Store.Kind,
                r.Store.Path,
                r.Store.Reader,
                r.Store.LetsIn,
                r.Store.Anchors,
                r.Pushed,
                r.Distrusted,
                anchor is null ? null : StandingOf(r.Store, r.Has, r.Mark),
                Shapes.Problem(r.Store.FailureJson ?? r.Store.ProblemJson)
            )),
        ];
    }

    private static AnchorStanding StandingOf(TrustStore store, bool has, TrustMark? mark) =>
        (mark, has) switch
        {
            (TrustMark.Distrusted, _) => AnchorStanding.Distrusted,
            (TrustMark.Pushed, _) => AnchorStanding.Pushed,
            (_, true) => AnchorStanding.Trusted,
            _ => store.SetId is null ? AnchorStanding.NotKnown : AnchorStanding.Lacking,
        };
}
