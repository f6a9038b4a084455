using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Trust;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>Has a host look at a server, and judges what it met by each of the host's trust stores: the first cause, and the cure.</summary>
public sealed class WhyRefused(BeaconDb db, LookFromHost look, JudgeLook judge, AnchorQueries anchors, AnchorBook book)
{
    private const int MostStores = 50;

    public async Task<WhyAnswer> RunAsync(WhyWish wish, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, wish.Host, ct);
        var stores = db.TrustStores.AsNoTracking().Where(s => s.HostId == host.Id && !s.LetsIn);
        if (wish.Store is { } number)
            stores = stores.Where(s => s.Id == number);
        var infos = await anchors.StoreInfosAsync(stores.OrderBy(s => s.Id).Take(MostStores), null, ct);
        if (infos.Count == 0)
            throw new BeaconProblem(
                ProblemCode.NotFound,
                wish.Store is null
                    ? $"The agent of {host.Name} has told of no trust store."
                    : $"{host.Name} has no trust store {wish.Store}.",
                $"See beacon trust list --host {host.Name.Split('.')[0]}."
            );
        var (met, report) = await look.RawAsync(new(wish.Address, wish.ServerName, host.Name) { Protocol = wish.Protocol }, caller, ct);
        var verdicts = new List<StoreVerdict>();
        foreach (var store in infos)
            verdicts.Add(await JudgeAsync(store, report, met, ct));
        return new(met, [.. verdicts.OrderBy(v => v.Accepted)]);
    }

    private async Task<StoreVerdict> JudgeAsync(TrustStoreInfo store, LookReport? report, LookInfo met, CancellationToken ct)
    {
        if (report is null || met.Served is null)
            return new(store, false, met.Problems.FirstOrDefault()?.Reason, met.Problems.FirstOrDefault()?.Cure);
        var row = await db.TrustStores.AsNoTracking().SingleAsync(s => s.Id == store.Id, ct);
        if (row.SetId is null)
            return new(
                store,
                false,
                "It is not known what this store has.",
                "Wait a moment, then ask again; see beacon trust list for what its agent says."
            );
        var ders = await (
            from m in db.AnchorSetMembers
            where m.SetId == row.SetId
            join a in db.KnownAnchors on m.AnchorId equals a.Id
            select a.Der
        ).ToListAsync(ct);
        var verdict = judge.By(report, [.. ders.Select(AnchorBook.Readable).OfType<X509>()]);
        if (verdict.Problems.FirstOrDefault(p => p.Fault != Core.Paths.LookFault.EndsSoon) is not { } first)
            return new(store, true, null, null);
        return first.Fault is Core.Paths.LookFault.UnknownIssuer or Core.Paths.LookFault.SelfSigned
            ? await UnknownAsync(row, store, verdict, first, ct)
            : new(store, false, first.Reason, first.Cure);
    }

    /// <summary>The chain ends at something that this store does not trust: was that said by an order, is it ours, or somebody else's?</summary>
    private async Task<StoreVerdict> UnknownAsync(
        TrustStore row,
        TrustStoreInfo store,
        LookVerdict verdict,
        LookProblem problem,
        CancellationToken ct
    )
    {
        var end = book.EndOf(verdict.Path);
        if (end is null || await db.KnownAnchors.AsNoTracking().FirstOrDefaultAsync(a => a.Thumbprint == end, ct) is not { } anchor)
            return new(store, false, problem.Reason, problem.Cure);
        var host = store.Host.Split('.')[0];
        var isDistrusted = await db.StoreMarks.AnyAsync(
            m => m.StoreId == row.Id && m.Thumbprint == end && m.Mark == TrustMark.Distrusted,
            ct
        );
        if (isDistrusted)
            return Refused(
                $"The store was told to distrust {anchor.Subject}, where the chain ends.",
                $"Trust it again: beacon trust again {end[..16]} --store {row.Id}."
            );
        if (anchor.Ours)
            return Refused(
                $"The store lacks our root {anchor.Subject}.",
                $"Push it there: beacon trust push {end[..16]} --store {row.Id}."
            );
        var browsers = row.Kind == TrustKind.Nss ? " Whether the browser brings it along is not known here." : "";
        return Refused(
            $"The store lacks {anchor.Subject}, where the chain ends.{browsers}",
            $"Request a certificate of our authority for that server, or have its root trusted on {host}."
        );

        StoreVerdict Refused(string cause, string cure) => new(store, false, cause, cure) { Anchor = end };
    }
}
