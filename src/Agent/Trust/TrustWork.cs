using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>
/// Does orders about trust stores. A change: keep what takes it back, do it, read the store again; what did not come about is taken back. The same order again changes nothing. What
/// the host has of itself is never deleted, only distrusted; what was pushed is withdrawn, by us alone.
/// </summary>
internal sealed class TrustWork(TrustStores stores, TrustBook book, TimeProvider clock)
{
    public OrderResult Run(Order order, List<string> steps, Action<string> step)
    {
        if (order.Trust is not { Act: { } act, Anchor: { } der } wish)
            throw NotKnown();
        var store = stores.Find(wish.Kind, wish.Path);
        var anchor = Read(der, act);
        step(store.Told(act));
        step(Change(store, act, anchor));
        return new(true, null, steps, null, null);
    }

    /// <summary>All that a store has.</summary>
    public OrderResult Tell(Order order)
    {
        var store = order.Trust is { } wish ? stores.Find(wish.Kind, wish.Path) : throw NotKnown();
        return new(true, null, [], null, null)
        {
            Anchors = [.. store.Read().Anchors.DistinctBy(a => a.Thumbprint).Select(a => Convert.ToBase64String(a.Der.Span))],
        };
    }

    private static BeaconProblem NotKnown() =>
        new(ProblemCode.ConfigurationUnsupported, "This agent does not know such an order about trust.", "Update the agent.");

    /// <summary>What is pushed is decided again here: nobody is trusted who is no authority, or has expired.</summary>
    private Anchor Read(string base64, TrustAct act)
    {
        var bytes = Convert.FromBase64String(base64);
        if (act != TrustAct.Push)
            return new(bytes);
        var certificate = X509.Read(bytes);
        if (!certificate.IsAuthority)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"{certificate.Subject} is no authority: as an anchor it would vouch for nobody.",
                "Push the root that its chain ends at."
            );
        if (certificate.NotAfter <= clock.GetUtcNow())
            throw new BeaconProblem(ProblemCode.InputInvalid, $"{certificate.Subject} has expired.", "Push the one that followed it.");
        return new(bytes);
    }

    private string Change(ITrustStore store, TrustAct act, Anchor anchor)
    {
        var (place, thumbprint) = (store.Place, anchor.Thumbprint);
        var record = book.Find(place, thumbprint);
        store.ThrowUnlessReady();
        var content = store.Read();
        switch (act)
        {
            case TrustAct.Push when record?.Act == TrustAct.Distrust:
                throw Wrong("It is distrusted there by an order.", "Take that back: beacon trust again.");
            case TrustAct.Push when record is null && content.Has(thumbprint):
                return "the store has it already, and not from us: nothing is changed";
            case TrustAct.Distrust when record?.Act == TrustAct.Push:
                throw Wrong("It is trusted there by an order.", "Withdraw it: beacon trust withdraw.");
            case TrustAct.Distrust when record is null && content.Distrusted.Contains(thumbprint):
                return "the store distrusts it already, and not by us: nothing is changed";
            case TrustAct.Distrust when record is null && !content.Has(thumbprint) && place.Kind != TrustKind.Nss:
                return "the store does not have it: nothing is changed";
            case TrustAct.Push or TrustAct.Distrust:
                record ??= Kept(store, act, anchor);
                Make(store, record, act, anchor);
                return act == TrustAct.Push ? "the store trusts it" : "the store trusts it no more";
            case TrustAct.Withdraw when record?.Act == TrustAct.Push:
                Make(store, record, act, anchor);
                book.Forget(place, thumbprint);
                return "what was pushed is taken out";
            case TrustAct.TrustAgain when record?.Act == TrustAct.Distrust:
                Make(store, record, act, anchor);
                book.Forget(place, thumbprint);
                return "the store trusts it as before";
            case TrustAct.Withdraw when !content.Has(thumbprint):
                return "the store does not have it: nothing is changed";
            case TrustAct.Withdraw:
                throw Wrong("It was not pushed by an order: the host has it of its own.", "Distrust it: beacon trust distrust.");
            case TrustAct.TrustAgain when content.Distrusted.Contains(thumbprint):
                throw Wrong(
                    "It is distrusted there by a mark of its own, which no order made.",
                    "Who made the mark takes it out on the host: certutil -D, or certutil -M -t."
                );
            case TrustAct.TrustAgain:
                return "it is not distrusted there by an order: nothing is changed";
            default:
                throw NotKnown();
        }
    }

    private TrustRecord Kept(ITrustStore store, TrustAct act, Anchor anchor)
    {
        var record = new TrustRecord(
            store.Place.Kind,
            store.Place.Path,
            anchor.Thumbprint,
            act,
            Convert.ToBase64String(anchor.Der.Span),
            store.Memo(act, anchor)
        );
        book.Keep(store.Place, record);
        return record;
    }

    private void Make(ITrustStore store, TrustRecord record, TrustAct act, Anchor anchor)
    {
        try
        {
            store.Do(act, anchor, record.Memo);
            if (!HasCome(store, act, anchor.Thumbprint))
                throw Wrong(
                    "The store was changed, and does not say so afterwards.",
                    "Look at it on the host: somebody else may have changed it at the same time."
                );
        }
        catch (BeaconProblem p)
        {
            TakeBack(store, record, act, anchor, p);
            throw new BeaconProblem(ProblemCode.SwapUndone, $"{p.Message} The trust store is as it was.", p.Cure, p);
        }
    }

    private static bool HasCome(ITrustStore store, TrustAct act, string thumbprint)
    {
        var content = store.Read();
        return act switch
        {
            TrustAct.Push => content.Has(thumbprint),
            TrustAct.Distrust or TrustAct.Withdraw => !content.Has(thumbprint),
            // A browser has its own roots besides: what was never in the database is trusted by having no mark there.
            _ => !content.Distrusted.Contains(thumbprint) && (store.Place.Kind == TrustKind.Nss || content.Has(thumbprint)),
        };
    }

    /// <summary>The first cause is never lost to a second.</summary>
    private void TakeBack(ITrustStore store, TrustRecord record, TrustAct act, Anchor anchor, BeaconProblem cause)
    {
        var back = act switch
        {
            TrustAct.Push => TrustAct.Withdraw,
            TrustAct.Withdraw => TrustAct.Push,
            TrustAct.Distrust => TrustAct.TrustAgain,
            _ => TrustAct.Distrust,
        };
        try
        {
            store.Do(back, anchor, record.Memo);
            if (act is TrustAct.Push or TrustAct.Distrust)
                book.Forget(store.Place, anchor.Thumbprint);
        }
        catch (BeaconProblem second)
        {
            throw new BeaconProblem(
                ProblemCode.SwapStuck,
                $"{cause.Message} And it could not be taken back: {second.Message}",
                second.Cure,
                cause
            );
        }
    }

    private static BeaconProblem Wrong(string message, string cure) => new(ProblemCode.WrongState, message, cure);
}
