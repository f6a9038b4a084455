using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Federation;

/// <summary>
/// Takes each provider a step further when its time has come, from what its agent last said that it signs with and publishes: publish the next, wait until its partners know it,
/// sign with it, wait until what the old one signed is gone, retire that. Whatever was cut off, or done by hand, goes on from where it is.
/// </summary>
public sealed class RollProviders(BeaconDb db, ProviderBook book, WorkBell bell, Changes changes, TimeProvider clock)
{
    private const int AtOnce = 20;
    private static readonly TimeSpan Later = TimeSpan.FromMinutes(1);

    public async Task RunAsync(CancellationToken ct)
    {
        foreach (var id in book.Due(AtOnce))
        {
            book.At(id, clock.GetUtcNow() + Later);
            if (await db.Providers.FirstOrDefaultAsync(p => p.Id == id, ct) is { } provider)
                await OneAsync(provider, ct);
            else
                book.Rests(id);
            db.ChangeTracker.Clear();
        }
    }

    /// <summary>What to do now, and what it is called while that is so.</summary>
    /// <param name="Next">When to look again; null: when something is heard of it.</param>
    private sealed record Decision(FederationStep Step, FederationAct? Act = null, Edition? Edition = null, DateTimeOffset? Next = null);

    private async Task OneAsync(Provider p, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        await db.Entry(p).ReloadAsync(ct);
        if (p.OrderId is { } open && await IsOpenAsync(open, ct))
        {
            book.Rests(p.Id);
            return;
        }
        p.OrderIsGone();
        var before = p.Step;
        var decision = await DecideAsync(p, ct);
        WorkOrder? order = null;
        // What has just ended is not judged by what was heard before.
        if (decision is { Act: { } act, Edition: { } edition } && !p.IsStale && MayTry(p) && IsGood(act, edition))
            order = await OrderAsync(p, act, edition, decision.Step, ct);
        else
            p.Stands(decision.Step);
        if (db.ChangeTracker.HasChanges())
            await write.CommitAsync(ct);
        if (order is not null)
            bell.Ring(order.HostId);
        if ((p.IsFailed ? p.RetryAt : decision.Next) is { } next)
            book.At(p.Id, next);
        else
            book.Rests(p.Id);
        if (p.Step != before || order is not null)
            changes.Tell("federation", p.Id.ToString());
    }

    private Task<bool> IsOpenAsync(long order, CancellationToken ct) =>
        db.Orders.AnyAsync(o => o.Id == order && (o.State == OrderState.Queued || o.State == OrderState.Taken), ct);

    /// <summary>What was revoked is taken out, and put in nowhere.</summary>
    private static bool IsGood(FederationAct act, Edition edition) =>
        edition.RevokedAt is null || act is FederationAct.Retire or FederationAct.Withdraw;

    private bool MayTry(Provider p) => !p.IsFailed || p.RetryAt <= clock.GetUtcNow();

    private async Task<Decision> DecideAsync(Provider p, CancellationToken ct)
    {
        if (p.CertificateId is not { } certificate)
            return new(FederationStep.Unmanaged);
        var current = await db.Editions.FirstOrDefaultAsync(e => e.CertificateId == certificate && e.State == EditionState.Current, ct);
        if (current is null || p.Signs is not { } signs)
            return new(FederationStep.Unmanaged);
        var (isNew, also) = (signs.Thumbprint == current.Thumbprint, p.Also?.Thumbprint);
        if (p.IsHeld)
            return new(FederationStep.Held);
        if (also is null)
            return isNew ? new(FederationStep.Steady) : new(FederationStep.Publishing, FederationAct.Publish, current);
        if (also == current.Thumbprint)
            return await WaitAsync(p, current, ct);
        var beside = await OwnAsync(certificate, also, ct);
        var own = isNew ? current : await OwnAsync(certificate, signs.Thumbprint, ct);
        // What it signs with is ours, and something from before is published still: by a step of ours, or somebody's by hand.
        if (own is not null && (beside is null || beside.Id < own.Id))
            return Fade(p, own);
        // A newer edition came while the one before it was on its way.
        return beside is not null
            ? new(FederationStep.Publishing, FederationAct.Withdraw, beside)
            : new(FederationStep.Publishing, FederationAct.Publish, current);
    }

    private Task<Edition?> OwnAsync(int certificate, string thumbprint, CancellationToken ct) =>
        db.Editions.FirstOrDefaultAsync(e => e.CertificateId == certificate && e.Thumbprint == thumbprint, ct);

    private async Task<Decision> WaitAsync(Provider p, Edition next, CancellationToken ct)
    {
        var partners = await db.Partners.AsNoTracking().Where(x => x.ProviderId == p.Id).ToListAsync(ct);
        var allKnow = partners.Count > 0 && partners.TrueForAll(x => x.Info.Knows);
        var isTime = p.GoOnAt is { } at && at <= clock.GetUtcNow();
        return allKnow || isTime ? new(FederationStep.Switching, FederationAct.Sign, next) : new(FederationStep.Waiting, Next: p.GoOnAt);
    }

    /// <summary>What the old key signed is good as long as it says, and clocks may differ by as much again.</summary>
    public static DateTimeOffset? FadesUntil(Provider p) => p.SwitchedAt?.AddSeconds(2 * p.AssertionSeconds);

    private Decision Fade(Provider p, Edition signs)
    {
        p.Switched(clock.GetUtcNow());
        var until = FadesUntil(p)!.Value;
        return until <= clock.GetUtcNow()
            ? new(FederationStep.Retiring, FederationAct.Retire, signs)
            : new(FederationStep.Fading, Next: until);
    }

    private async Task<WorkOrder> OrderAsync(Provider p, FederationAct act, Edition edition, FederationStep step, CancellationToken ct)
    {
        var name = await db.Certificates.Where(c => c.Id == edition.CertificateId).Select(c => c.Name).SingleAsync(ct);
        var now = clock.GetUtcNow();
        var order = WorkOrder.Of(now, p.HostId, ProviderOrders.Of(OrderKind.Federate, p, act, name, edition.Serial), null, null);
        db.Orders.Add(order);
        await db.SaveChangesAsync(ct);
        p.Ordered(step, order.Id);
        await db.Note(
            now,
            Actor.System,
            JournalAction.FederationOrdered,
            p.Entity,
            $"{OpenWord<FederationAct>.WordOf(act)} \"{name}\" {edition.Serial}, order {order.Id}"
        );
        return order;
    }
}

/// <summary>What orders about providers look like.</summary>
internal static class ProviderOrders
{
    public static Order Of(OrderKind kind, Provider p, FederationAct act, string certificate, string serial) =>
        new(0, kind, certificate, null, null, null, serial, null, null, null, null, null) { Federation = new(p.Instance, p.Entity, act) };
}
