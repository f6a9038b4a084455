using System.Collections.Concurrent;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Probes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// Everything that one server serves by TLS, seen before a swap and again after it: what clients could use before, they can use after, the names that were swapped
/// included, or the swap is undone.
/// </summary>
internal sealed class Neighbours(TimeProvider clock)
{
    private const int AtATime = 8;

    /// <summary>What a client finds at one endpoint under one name.</summary>
    private sealed record Seen(ProbeTarget Target, string? Fault);

    private IReadOnlyList<ProbeTarget> _good = [];

    public async Task LookBeforeAsync(IConnector connector, CancellationToken ct)
    {
        var all = connector.Discover().Services.SelectMany(TargetsOf).Distinct().ToList();
        _good = [.. (await LookAsync(all, ct)).Where(s => s.Fault is null).Select(s => s.Target)];
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SwapUndone"/>, with what clients would meet.</exception>
    public async Task ThrowIfWorseAsync(CancellationToken ct)
    {
        if (await WorseAsync(ct) is { } worse)
            throw new BeaconProblem(
                ProblemCode.SwapUndone,
                $"Clients that were served before would be refused: {worse}.",
                "Request a certificate that has these names too, or give each site its own lines; then bind again."
            );
    }

    /// <summary>What clients could use before and cannot use now, in words; null when there is nothing.</summary>
    public async Task<string?> WorseAsync(CancellationToken ct)
    {
        var worse = (await LookAsync(_good, ct))
            .Where(s => s.Fault is not null)
            .OrderBy(s => s.Target.ServerName, StringComparer.Ordinal)
            .ToList();
        if (worse.Count == 0)
            return null;
        var told = worse.Take(3).Select(s => $"{s.Target.ServerName} at {s.Target.Address}:{s.Target.Port} ({s.Fault})");
        var more = worse.Count > 3 ? $" and {worse.Count - 3} more" : "";
        return string.Join(", ", told) + more;
    }

    private static IEnumerable<ProbeTarget> TargetsOf(FoundService s) =>
        from e in s.Endpoints.Where(e => e.Tls)
        from name in s.Names.Where(n => !n.StartsWith('*'))
        select new ProbeTarget(e.Address, e.Port, name);

    private async Task<IReadOnlyCollection<Seen>> LookAsync(IReadOnlyCollection<ProbeTarget> targets, CancellationToken ct)
    {
        var seen = new ConcurrentBag<Seen>();
        await Parallel.ForEachAsync(
            targets,
            new ParallelOptions { MaxDegreeOfParallelism = AtATime, CancellationToken = ct },
            async (t, stop) => seen.Add(new(t, FaultOf(t, await TlsProbe.LookAsync(t.Address, t.Port, t.ServerName, clock, stop))))
        );
        return seen;
    }

    /// <summary>What every client refuses, whatever it trusts; null when there is nothing of the kind.</summary>
    private string? FaultOf(ProbeTarget target, LookReport look)
    {
        if (look.Outcome != LookOutcome.Served || look.Chain.Count == 0)
            return look.Message.Length > 0 ? look.Message : "no certificate is served";
        try
        {
            var leaf = X509.Read(Convert.FromBase64String(look.Chain[0]));
            var now = clock.GetUtcNow();
            return now > leaf.NotAfter || now < leaf.NotBefore ? "its certificate is not valid now"
                : HostNameMatch.Of(target.ServerName, leaf.Names, null) != NameMatch.Fits
                    ? $"its certificate is for {string.Join(", ", leaf.Names.Take(3))}"
                : null;
        }
        catch (BeaconProblem p)
        {
            return p.Message;
        }
    }
}
