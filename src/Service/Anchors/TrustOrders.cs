using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>What orders about trust look like.</summary>
internal static class TrustOrders
{
    public static Order Change(TrustStore store, TrustAct act, byte[] anchor) =>
        Of(OrderKind.Trust, new(store.Kind, store.Path, act, Convert.ToBase64String(anchor)));

    public static Order Tell(TrustStore store) => Of(OrderKind.TellTrust, new(store.Kind, store.Path));

    private static Order Of(OrderKind kind, TrustOrder wish) =>
        new(0, kind, null, null, null, null, null, null, null, null, null, null) { Trust = wish };
}
