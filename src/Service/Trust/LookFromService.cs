using OrderlyBeacon.Contracts;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Looks at an address from the service's own machine: what is served far from any agent, or while there is none.</summary>
public sealed class LookFromService(FindDoor find, JudgeLook judge, TimeProvider clock)
{
    /// <summary>What stands where a host's name would; no host is called so.</summary>
    public const string Itself = "the service";

    public async Task<LookInfo> RunAsync(LookWish wish, CancellationToken ct)
    {
        var door = await find.RunAsync(wish, ct);
        var report = await WholeLook.RunAsync(new(door.Address, door.Port, door.ServerName, door.Protocol), clock, ct);
        return judge.Run(report, Itself);
    }
}
