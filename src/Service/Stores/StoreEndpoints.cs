using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Stores;

/// <summary>How the stores of all hosts are searched.</summary>
internal sealed class StoreList
{
    /// <summary>The beginning of a certificate's name; or a serial, a fingerprint of a certificate or of a key, whole.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    [InQuery(Name = "host")]
    public string? Host { get; init; }

    /// <summary>The issuer's whole name, or its common name.</summary>
    [InQuery(Name = "issuer")]
    public string? Issuer { get; init; }

    /// <summary>Only those that are in use, or only those that are kept.</summary>
    [InQuery(Name = "inUse")]
    public bool? InUse { get; init; }

    [InQuery(Name = "endsBefore")]
    public DateTimeOffset? EndsBefore { get; init; }

    /// <summary>The cursor of the page before.</summary>
    [InQuery(Name = "after")]
    public long? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

internal static class StoreEndpoints
{
    /// <summary>What is sealed and in Base64 is larger than it was.</summary>
    private const long MostBody = 8 << 20;

    public static void MapStores(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/store",
                async ([AsParameters] StoreList list, BeaconDb db, CancellationToken ct) => TypedResults.Ok(await PageAsync(list, db, ct))
            )
            .WithTags("Stores")
            .Is(Operation.ListStore);
        var g = api.MapGroup("/hosts/{host}/store").WithTags("Stores");
        g.MapPost(
                "/import",
                async (string host, ImportWish body, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await work.ImportAsync(host, body, caller, ct)))
            )
            .WithMetadata(new BodyLimit(MostBody))
            .Is(Operation.ImportToStore);
        MapActs(g);
        MapExports(g);
    }

    private static void MapActs(RouteGroupBuilder g)
    {
        g.MapPut(
                "/{thumbprint}/label",
                async (string host, string thumbprint, NewLabel body, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    await ActAsync(work, host, thumbprint, StoreAct.Relabel, body.Label, JournalAction.StoreRelabelled, caller, ct)
            )
            .Is(Operation.RelabelEntry);
        g.MapDelete(
                "/{thumbprint}/label",
                async (string host, string thumbprint, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    await ActAsync(work, host, thumbprint, StoreAct.UndoLabel, null, JournalAction.StoreRelabelled, caller, ct)
            )
            .Is(Operation.UndoLabel);
        g.MapPost(
                "/{thumbprint}/archive",
                async (string host, string thumbprint, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    await ActAsync(work, host, thumbprint, StoreAct.Archive, null, JournalAction.StoreArchived, caller, ct)
            )
            .Is(Operation.ArchiveEntry);
        g.MapPost(
                "/{thumbprint}/restore",
                async (string host, string thumbprint, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    await ActAsync(work, host, thumbprint, StoreAct.Restore, null, JournalAction.StoreRestored, caller, ct)
            )
            .Is(Operation.RestoreEntry);
        g.MapDelete(
                "/{thumbprint}",
                async (string host, string thumbprint, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    await ActAsync(work, host, thumbprint, StoreAct.Remove, null, JournalAction.StoreRemoved, caller, ct)
            )
            .Is(Operation.RemoveEntry);
    }

    private static void MapExports(RouteGroupBuilder g)
    {
        g.MapPost(
                "/{thumbprint}/export",
                async (string host, string thumbprint, ExportWish body, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await work.ExportAsync(host, thumbprint, body, withKey: false, caller, ct))
            )
            .Is(Operation.ExportEntry)
            .AnswersSecret();
        g.MapPost(
                "/{thumbprint}/export-key",
                async (string host, string thumbprint, ExportWish body, OrderStoreWork work, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await work.ExportAsync(host, thumbprint, body, withKey: true, caller, ct))
            )
            .Is(Operation.ExportKey)
            .AnswersSecret();
    }

    private static async Task<Microsoft.AspNetCore.Http.HttpResults.Ok<OrderAccepted>> ActAsync(
        OrderStoreWork work,
        string host,
        string thumbprint,
        StoreAct act,
        string? label,
        JournalAction action,
        Caller caller,
        CancellationToken ct
    )
    {
        var operation = act switch
        {
            StoreAct.Relabel => Operation.RelabelEntry,
            StoreAct.UndoLabel => Operation.UndoLabel,
            StoreAct.Archive => Operation.ArchiveEntry,
            StoreAct.Restore => Operation.RestoreEntry,
            _ => Operation.RemoveEntry,
        };
        return TypedResults.Ok(new OrderAccepted(await work.ActAsync(host, thumbprint, act, label, operation, action, caller, ct)));
    }

    private static async Task<Page<StoredEntryInfo>> PageAsync(StoreList list, BeaconDb db, CancellationToken ct)
    {
        var q = Searched(db.StoredEntries.AsNoTracking(), list.Search);
        if (!string.IsNullOrWhiteSpace(list.Host))
        {
            var host = await FindHost.ByNameAsync(db, list.Host, ct);
            q = q.Where(e => e.HostId == host.Id);
        }
        if (!string.IsNullOrWhiteSpace(list.Issuer))
        {
            var (whole, common) = (list.Issuer.Trim(), $"CN={list.Issuer.Trim()},");
            var alone = $"CN={whole}";
            q = q.Where(e =>
                e.Issuer == whole
                || e.Issuer == alone
                || (string.Compare(e.Issuer, common) >= 0 && string.Compare(e.Issuer, common + "\uffff") < 0)
            );
        }
        if (list.InUse is { } inUse)
            q = q.Where(e => e.InUse == inUse);
        if (list.EndsBefore is { } before)
            q = q.Where(e => e.NotAfter < before);
        if (list.After is { } after)
            q = q.Where(e => e.Id > after);
        var take = ListQuery.Take(list.Take);
        var rows = await q.OrderBy(e => e.Id)
            .Take(take)
            .Join(db.Hosts, e => e.HostId, h => h.Id, (e, h) => new { Entry = e, h.Name })
            .OrderBy(x => x.Entry.Id)
            .ToListAsync(ct);
        var bound = await BoundAsync([.. rows.Where(x => x.Entry.InUse).Select(x => x.Entry)], db, ct);
        return new(
            [.. rows.Select(x => Info(x.Entry, x.Name, bound[(x.Entry.HostId, x.Entry.Certificate)]))],
            rows.Count == take ? rows[^1].Entry.Id.ToString() : null
        );
    }

    /// <summary>Each way is an index: a fingerprint or serial whole, a name from its beginning.</summary>
    private static IQueryable<StoredEntry> Searched(IQueryable<StoredEntry> q, string? search)
    {
        if (string.IsNullOrWhiteSpace(search))
            return q;
        var text = search.Trim().ToLowerInvariant();
        var hex = text.Replace(":", "");
        if (hex.Length == 64 && hex.All(char.IsAsciiHexDigit))
            return q.Where(e => e.Thumbprint == hex || e.Key == hex);
        if (hex.Length >= 16 && SerialNumber.TryParse(text, out var serial))
            return q.Where(e => e.Serial == serial.Hex);
        return text.Length <= 253
            ? q.Where(e => string.Compare(e.Certificate, text) >= 0 && string.Compare(e.Certificate, text + "\uffff") < 0)
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "That is longer than any name.",
                "Give the beginning of a name, a serial or a fingerprint."
            );
    }

    /// <summary>What a page's entries are bound to.</summary>
    private static async Task<ILookup<(int, string), string>> BoundAsync(List<StoredEntry> entries, BeaconDb db, CancellationToken ct)
    {
        var names = entries.Select(e => e.Certificate).Distinct().ToList();
        var rows = await (
            from c in db.Certificates.AsNoTracking()
            where names.Contains(c.Name) && c.HostId != null
            join b in db.Bindings on c.Id equals b.CertificateId
            join s in db.Services on b.ServiceId equals s.Id
            orderby s.Name
            select new
            {
                HostId = c.HostId!.Value,
                c.Name,
                Service = s.Name,
            }
        ).ToListAsync(ct);
        return rows.ToLookup(r => (r.HostId, r.Name), r => r.Service);
    }

    private static StoredEntryInfo Info(StoredEntry e, string host, IEnumerable<string> bound) =>
        new(host, e.Certificate, e.Serial, e.Thumbprint, e.Key, e.Issuer, e.NotAfter, e.InUse)
        {
            Label = e.Label,
            Releasable = e.Releasable,
            Archived = e.Archived,
            BoundTo = e.InUse ? [.. bound] : [],
        };
}
