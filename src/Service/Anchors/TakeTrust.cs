using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>
/// Takes over what agents say of their trust stores. A report names each store's set of anchors; a set that is not known is asked for, of one host. All of it within the transaction of
/// the report or result.
/// </summary>
public sealed class TakeTrust(BeaconDb db, AnchorBook book, AuthorityRegistry registry, WorkBell bell, Changes changes)
{
    private const int MostStores = 50,
        MostAnchors = 1000,
        MostBytes = 16 << 10,
        MostOpen = 8,
        MostText = 500,
        MostMarks = 500;
    private readonly HashSet<int> _asked = [];
    private bool _learnt,
        _touched;

    /// <summary>A set is not known, and somebody else was asked for it: the host's next report is to be taken whole, should no answer come.</summary>
    public bool IsWaiting { get; private set; }

    public async Task RunAsync(Hosts.Host host, IReadOnlyList<FoundTrustStore> found, DateTimeOffset now, CancellationToken ct)
    {
        _touched = true;
        await KnowOursAsync(ct);
        var rows = await db.TrustStores.Where(s => s.HostId == host.Id).ToListAsync(ct);
        foreach (var f in found.Where(f => f.Path.Length <= MostText).DistinctBy(f => (f.Kind, f.Path)).Take(MostStores))
        {
            var row = rows.Find(r => r.Kind == f.Kind && r.Path == f.Path);
            if (row is null)
            {
                db.TrustStores.Add(row = TrustStore.Of(host.Id, f));
                await db.SaveChangesAsync(ct);
            }
            rows.Remove(row);
            // First: an anchor that is distrusted from now on is still spoken of.
            await MarkAsync(row, f.Marks, ct);
            await MoveAsync(row, f.Digest is { Length: 64 } digest ? digest : null, f.LetsIn, ct);
            row.Described(
                f.Reader.Length <= MostText ? f.Reader : f.Reader[..MostText],
                f.LetsIn,
                f.Anchors,
                f.Problem is null ? null : JsonSerializer.Serialize(f.Problem, BeaconJson.Default.ProblemInfo)
            );
            if (row is not { SetId: null, Digest: { } unknown })
                continue;
            if (book.MayAsk(unknown))
                await AskAsync(host, row, now, ct);
            else
                IsWaiting = true;
        }
        foreach (var gone in rows)
            await RemoveAsync(gone, ct);
    }

    /// <summary>The host goes: so does what it trusts.</summary>
    public async Task ForgetAsync(int hostId, CancellationToken ct)
    {
        foreach (var row in await db.TrustStores.Where(s => s.HostId == hostId).ToListAsync(ct))
            await RemoveAsync(row, ct);
    }

    private async Task RemoveAsync(TrustStore row, CancellationToken ct)
    {
        await MarkAsync(row, [], ct);
        await MoveAsync(row, null, row.LetsIn, ct);
        db.TrustStores.Remove(row);
    }

    private async Task MoveAsync(TrustStore row, string? digest, bool letsIn, CancellationToken ct)
    {
        var isSame = row.Digest == digest && row.LetsIn == letsIn;
        if (isSame && (row.SetId is not null || digest is null))
            return;
        var set = digest is null ? null : await db.AnchorSets.FirstOrDefaultAsync(s => s.Digest == digest, ct);
        if (row.SetId is { } before)
            await LeaveAsync(before, row.LetsIn, ct);
        set?.Count(1, letsIn ? 0 : 1);
        row.Has(digest, set?.Id);
        await db.SaveChangesAsync(ct);
    }

    /// <summary>A set that nobody has any more is forgotten, and with it the anchors that nothing else speaks of: what hosts say must not fill the database.</summary>
    private async Task LeaveAsync(long setId, bool letsIn, CancellationToken ct)
    {
        var set = await db.AnchorSets.SingleAsync(s => s.Id == setId, ct);
        set.Count(-1, letsIn ? 0 : -1);
        if (set.Stores > 0)
            return;
        var left = await db.AnchorSetMembers.Where(m => m.SetId == setId).Select(m => m.AnchorId).ToListAsync(ct);
        await db.AnchorSetMembers.Where(m => m.SetId == setId).ExecuteDeleteAsync(ct);
        db.AnchorSets.Remove(set);
        foreach (var ids in left.Chunk(200))
            await ForgetUnspokenAsync(db.KnownAnchors.Where(a => ids.Contains(a.Id)), ct);
    }

    /// <summary>Those that are not ours, in no set and without a mark.</summary>
    private async Task ForgetUnspokenAsync(IQueryable<KnownAnchor> anchors, CancellationToken ct)
    {
        var gone = await anchors
            .Where(a =>
                !a.Ours && !db.AnchorSetMembers.Any(m => m.AnchorId == a.Id) && !db.StoreMarks.Any(m => m.Thumbprint == a.Thumbprint)
            )
            .ExecuteDeleteAsync(ct);
        _learnt |= gone > 0;
    }

    private async Task MarkAsync(TrustStore row, IReadOnlyList<MarkedAnchor> marks, CancellationToken ct)
    {
        var said = marks
            .Where(m => m.Thumbprint.Length == 64)
            .DistinctBy(m => m.Thumbprint)
            .Take(MostMarks)
            .ToDictionary(m => m.Thumbprint, m => m.Mark);
        var unmarked = new List<string>();
        foreach (var kept in await db.StoreMarks.Where(m => m.StoreId == row.Id).ToListAsync(ct))
            if (said.TryGetValue(kept.Thumbprint, out var mark) && mark == kept.Mark)
                said.Remove(kept.Thumbprint);
            else
            {
                db.StoreMarks.Remove(kept);
                unmarked.Add(kept.Thumbprint);
            }
        await db.SaveChangesAsync(ct);
        db.StoreMarks.AddRange(
            said.Select(m => new StoreMark
            {
                StoreId = row.Id,
                Thumbprint = m.Key,
                Mark = m.Value,
            })
        );
        await db.SaveChangesAsync(ct);
        foreach (var thumbprints in unmarked.Chunk(200))
            await ForgetUnspokenAsync(db.KnownAnchors.Where(a => thumbprints.Contains(a.Thumbprint)), ct);
    }

    private async Task AskAsync(Hosts.Host host, TrustStore row, DateTimeOffset now, CancellationToken ct)
    {
        var open = await db.Orders.CountAsync(
            o => o.HostId == host.Id && o.Kind == OrderKind.TellTrust && (o.State == OrderState.Queued || o.State == OrderState.Taken),
            ct
        );
        if (open >= MostOpen)
            return;
        db.Orders.Add(WorkOrder.Of(now, host.Id, TrustOrders.Tell(row), null, null));
        await db.SaveChangesAsync(ct);
        _asked.Add(host.Id);
    }

    /// <summary>Takes the end of an order about trust.</summary>
    public async Task EndedAsync(Hosts.Host host, WorkOrder order, OrderResult result, DateTimeOffset now, CancellationToken ct)
    {
        if (order.Content.Trust is not { } wish)
            return;
        _touched = true;
        var row = await db.TrustStores.FirstOrDefaultAsync(s => s.HostId == host.Id && s.Kind == wish.Kind && s.Path == wish.Path, ct);
        if (row is null)
            return;
        if (order.Kind == OrderKind.TellTrust)
        {
            if (result is { Done: true, Anchors: { } anchors })
                await LearnAsync(row, anchors, ct);
            return;
        }
        row.Changed(result is { Done: false, Problem: { } p } ? JsonSerializer.Serialize(p, BeaconJson.Default.ProblemInfo) : null);
        await db.Note(
            now,
            Actor.Agent(host.Name),
            result.Done ? JournalAction.TrustChanged : JournalAction.TrustFailed,
            $"{host.Name} {OpenWord<TrustKind>.WordOf(wish.Kind)}={wish.Path}",
            $"order {order.Id}: {result.Problem?.Message ?? result.Steps.LastOrDefault()}"
        );
    }

    /// <summary>The agent says what it has: it counts for the set that it named, when that is what it is.</summary>
    private async Task LearnAsync(TrustStore asked, IReadOnlyList<string> anchors, CancellationToken ct)
    {
        var ders = anchors
            .Take(MostAnchors)
            .Select(Bytes)
            .OfType<byte[]>()
            .Where(d => d.Length <= MostBytes)
            .DistinctBy(d => Thumbprint.Of(d).Hex)
            .ToDictionary(d => Thumbprint.Of(d).Hex);
        var digest = AnchorDigest.Of(ders.Keys);
        book.Answered(digest);
        if (digest != asked.Digest || await db.AnchorSets.AnyAsync(s => s.Digest == digest, ct))
            return;
        var ids = await KnowAsync(ders, ct);
        var set = new AnchorSet { Digest = digest };
        db.AnchorSets.Add(set);
        await db.SaveChangesAsync(ct);
        db.AnchorSetMembers.AddRange(ids.Select(id => new AnchorSetMember { SetId = set.Id, AnchorId = id }));
        var waiting = db.TrustStores.Where(s => s.Digest == digest && s.SetId == null);
        set.Count(await waiting.CountAsync(ct), await waiting.CountAsync(s => !s.LetsIn, ct));
        await waiting.ExecuteUpdateAsync(u => u.SetProperty(s => s.SetId, set.Id), ct);
    }

    private static byte[]? Bytes(string base64)
    {
        var bytes = new byte[base64.Length];
        return Convert.TryFromBase64String(base64, bytes, out var length) ? bytes[..length] : null;
    }

    /// <returns>The rows' numbers.</returns>
    private async Task<List<long>> KnowAsync(Dictionary<string, byte[]> ders, CancellationToken ct)
    {
        var ids = new List<long>();
        foreach (var part in ders.Chunk(200))
        {
            var thumbprints = part.Select(p => p.Key).ToList();
            var known = await db.KnownAnchors.Where(a => thumbprints.Contains(a.Thumbprint)).ToListAsync(ct);
            var made = part.Where(p => !known.Exists(k => k.Thumbprint == p.Key)).Select(p => Row(p.Key, p.Value)).ToList();
            db.KnownAnchors.AddRange(made);
            _learnt |= made.Count > 0;
            await db.SaveChangesAsync(ct);
            ids.AddRange(known.Concat(made).Select(a => a.Id));
        }
        return ids;
    }

    private static KnownAnchor Row(string thumbprint, byte[] der)
    {
        var (subject, notAfter) = AnchorBook.Readable(der) is { } x ? (x.Subject.ToString(), x.NotAfter) : ReadLoosely(der);
        return new()
        {
            Thumbprint = thumbprint,
            Subject = subject,
            NotAfter = notAfter,
            Der = der,
        };
    }

    private static (string, DateTimeOffset) ReadLoosely(byte[] der)
    {
        try
        {
            using var x = X509CertificateLoader.LoadCertificate(der);
            return (x.Subject, x.NotAfter.ToUniversalTime());
        }
        catch (CryptographicException)
        {
            return ("not readable", DateTimeOffset.UnixEpoch);
        }
    }

    /// <summary>Our roots are known whether a store has them or not: who lacks them is what is asked most.</summary>
    public async Task KnowOursAsync(CancellationToken ct)
    {
        var roots = registry
            .All.Where(x => x.IsSelfSigned)
            .DistinctBy(x => x.Thumbprint)
            .ToDictionary(x => x.Thumbprint.Hex, x => x.Der.ToArray());
        var thumbprints = roots.Keys.ToList();
        if (await db.KnownAnchors.CountAsync(a => a.Ours && thumbprints.Contains(a.Thumbprint), ct) == roots.Count)
            return;
        await KnowAsync(roots, ct);
        foreach (var a in await db.KnownAnchors.Where(a => thumbprints.Contains(a.Thumbprint)).ToListAsync(ct))
            a.IsOurs(true);
        await db.SaveChangesAsync(ct);
    }

    /// <summary>Anchors that may be pushed are known, whether a store has them or not. In a transaction of its own, when there is something new.</summary>
    public async Task KnowAllowedAsync(IEnumerable<Core.Issuing.X509> allowed, CancellationToken ct)
    {
        var ders = allowed.DistinctBy(x => x.Thumbprint).ToDictionary(x => x.Thumbprint.Hex, x => x.Der.ToArray());
        var thumbprints = ders.Keys.ToList();
        if (await db.KnownAnchors.CountAsync(a => thumbprints.Contains(a.Thumbprint), ct) == ders.Count)
            return;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            await KnowOursAsync(ct);
            await KnowAsync(ders, ct);
            await write.CommitAsync(ct);
        }
        await SettledAsync(ct);
    }

    /// <summary>After the commit.</summary>
    public async Task SettledAsync(CancellationToken ct)
    {
        foreach (var host in _asked)
            bell.Ring(host);
        if (_learnt)
            await book.LoadAsync(db, ct);
        if (_touched)
            changes.Tell("trust", "");
    }
}
