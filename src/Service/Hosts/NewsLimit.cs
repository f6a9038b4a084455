using System.Threading.RateLimiting;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>
/// How much that is new one host may report: each such report is a write that those of all others wait for, and the longer the more it describes. Who holds one host must not
/// keep the others from renewing.
/// </summary>
public sealed class NewsLimit
{
    private const int AtOnce = 240,
        EverySixSeconds = 6,
        Each = 100;

    private readonly PerCaller _hosts = new(() =>
        new TokenBucketRateLimiter(
            new()
            {
                TokenLimit = AtOnce,
                TokensPerPeriod = EverySixSeconds,
                ReplenishmentPeriod = TimeSpan.FromSeconds(6),
                AutoReplenishment = false,
            }
        )
    );

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooBusy"/>: it is to come again later; nothing was read or changed.</exception>
    public void ThrowIfTooMuch(int host, AgentReport report)
    {
        var weight = Math.Min(AtOnce, 1 + (report.Services.Count + report.Entries.Count) / Each);
        using var lease = _hosts.Enter($"host {host}", weight);
        if (!lease.IsAcquired)
            throw new BeaconProblem(
                ProblemCode.TooBusy,
                "This host reports something new too often.",
                "See what changes there all the time; the agent reports again by itself."
            );
    }
}
