using OrderlyBeacon.Agent.Devices;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>What an agent keeps in its folder, besides its own identity.</summary>
internal sealed record AgentState(
    CertificateStore Store,
    SwapJournal Journal,
    BoundBook Bounds,
    SealKey SealKey,
    DeviceBook Devices,
    TrustBook Trust,
    FetchBook Fetches
)
{
    public static AgentState Of(string folder)
    {
        var sealKey = new SealKey(folder);
        return new(
            new(Path.Combine(folder, "store")),
            new(folder),
            new(folder),
            sealKey,
            new(folder, sealKey, TimeProvider.System),
            new(folder),
            new(folder, TimeProvider.System)
        );
    }
}
