using OrderlyBeacon.Agent.Connectors;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>Waits until nothing from before a reload accepts any more; a server that does not say so in time is looked at all the same.</summary>
internal static class Settling
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5),
        Pause = TimeSpan.FromMilliseconds(50);

    public static async Task WaitAsync(IReadOnlyList<IConnector> instances, TimeProvider clock, CancellationToken ct)
    {
        var began = clock.GetUtcNow();
        // A reload is a signal: the server needs a moment before there is anything to see of it.
        do await Task.Delay(Pause, clock, ct);
        while (instances.Any(i => !i.IsSettled() && i.LastComplaint(began) is null) && clock.GetUtcNow() < began + Patience);
    }
}
