using Microsoft.AspNetCore.Mvc;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Stores;

/// <summary>How the stores of all hosts are searched.</summary>
internal sealed class StoreList
{
    /// <summary>The beginning of a certificate's name; or a serial, a fingerprint of a certificate or of a key, whole.</summary>
    [FromQuery(Name = "search")]
    public string? Search { get; init; }

    [FromQuery(Name = "host")]
    public string? Host { get; init; }

    /// <summary>The issuer's whole name, or its common name.</summary>
    [FromQuery(Name = "issuer")]
    public string? Issuer { get; init; }

    /// <summary>Only those that are in use, or only those that are kept.</summary>
    [FromQuery(Name = "inUse")]
    public bool? InUse { get; init; }

    [FromQuery(Name = "endsBefore")]
    public DateTimeOffset? EndsBefore { get; init; }

    /// <summary>The cursor of the page before.</summary>
    [FromQuery(Name = "after")]
    public long? After { get; init; }

    [FromQuery(Name = "take")]
    public int? Take { get; init; }
}

internal static class StoreEndpoints
{
    public static void MapStores(this RouteGroupBuilder api) =>
        api.MapGet(
                "/store",
                async ([AsParameters] StoreList list, BeaconDb db, CancellationToken ct) => TypedResults.Ok(await PageAsync(list, db, ct))
            )
            .WithTags("Stores")
            .Is(Operation.ListStore);

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
        return new([.. rows.Select(x => Info(x.Entry, x.Name))], rows.Count == take ? rows[^1].Entry.Id.ToString() : null);
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

    private static StoredEntryInfo Info(StoredEntry e, string host) =>
        new(host, e.Certificate, e.Serial, e.Thumbprint, e.Key, e.Issuer, e.NotAfter, e.InUse);
}
