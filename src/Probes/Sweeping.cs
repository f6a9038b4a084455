using System.Collections.Concurrent;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Sweeps;

namespace OrderlyBeacon.Probes;

/// <summary>Looks at a part of a sweep: many endpoints, most of which are closed. Gently: so many at a time, and so many a second.</summary>
public static class Sweeping
{
    private const int AtATime = 32,
        MostInAPart = 1024;
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(2);

    /// <returns>Those where something listens.</returns>
    /// <exception cref="BeaconProblem">The part is not usable.</exception>
    public static async Task<IReadOnlyList<LookReport>> RunAsync(SweepPart part, TimeProvider clock, CancellationToken ct)
    {
        var plan = SweepPlan.Parse(part.Networks, part.Ports);
        var (first, end) = (Math.Max(0, part.First), Math.Min(plan.Total, part.First + Math.Min(part.Count, MostInAPart)));
        var met = new ConcurrentBag<(long Number, LookReport Look)>();
        await Parallel.ForEachAsync(
            Numbers(first, end, clock, ct),
            new ParallelOptions { MaxDegreeOfParallelism = AtATime, CancellationToken = ct },
            async (number, stop) =>
            {
                var (address, port) = plan.At(number);
                var probe = new Probe(address.ToString(), port, address.ToString(), WellKnownPorts.ProtocolAt(port));
                var look = await TlsProbe.LookAsync(probe, clock, stop);
                if (look.Outcome != LookOutcome.NoAnswer)
                    met.Add((number, look));
            }
        );
        return [.. met.OrderBy(m => m.Number).Select(m => m.Look)];
    }

    private static async IAsyncEnumerable<long> Numbers(
        long first,
        long end,
        TimeProvider clock,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken ct
    )
    {
        for (var number = first; number < end; number++)
        {
            yield return number;
            await Task.Delay(Pause, clock, ct);
        }
    }
}
