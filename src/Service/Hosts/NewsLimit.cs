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
        Each = 100,
        AtATime = 6;

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

    private readonly SemaphoreSlim _turns = new(AtATime, AtATime);

    /// <summary>
    /// Waits until few others take a report. After a restart ten thousand hosts have news; they wait here for each other, so that whoever else writes waits for a few of them and
    /// not for all.
    /// </summary>
    /// <returns>To be disposed of when the report is taken.</returns>
    public async Task<IDisposable> TurnAsync(CancellationToken ct)
    {
        await _turns.WaitAsync(ct);
        return new Turn(_turns);
    }

    private sealed class Turn(SemaphoreSlim turns) : IDisposable
    {
        public void Dispose() => turns.Release();
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooBusy"/>: it is to come again later; nothing was read or changed.</exception>
    public void ThrowIfTooMuch(int host, AgentReport report)
    {
        var looks = report.Services.Sum(s => s.Looks.Count);
        var weight = Math.Min(AtOnce, 1 + (report.Services.Count + looks + report.Entries.Count) / Each);
        using var lease = _hosts.Enter($"host {host}", weight);
        if (lease.IsAcquired)
            return;
        Lanes.Count(Lanes.News);
        throw new BeaconProblem(
            ProblemCode.TooBusy,
            "This host reports something new too often.",
            "See what changes there all the time; the agent reports again by itself."
        );
    }
}
