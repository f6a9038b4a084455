using System.Collections.Concurrent;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// Everything that a swap's servers serve by TLS, seen before it and again after it: what clients could use before, they can use after, the names that were swapped
/// included, or the swap is undone.
/// </summary>
internal sealed class Neighbours(TimeProvider clock)
{
    private const int AtATime = 8;

    /// <summary>A server that was just started again may be slow at first; what refuses clients is told at once.</summary>
    private const int LooksAtTheSlow = 3;

    /// <summary>More are not looked at: endpoints that hang would make a swap take minutes.</summary>
    public const int Most = 400;

    /// <summary>What a client uses.</summary>
    /// <param name="IsNamed">Clients are known to use this name, so it must be in the certificate.</param>
    private sealed record Use(Probe Probe, bool IsNamed);

    /// <summary>What a client finds at one endpoint under one name.</summary>
    /// <param name="IsLate">Nothing came in time.</param>
    private sealed record Seen(Use Use, string? Fault, bool IsLate);

    private IReadOnlyList<Use> _good = [];

    /// <summary>How many are not looked at, being too many.</summary>
    public int LeftOut { get; private set; }

    /// <param name="except">A service that shall change.</param>
    public async Task LookBeforeAsync(IEnumerable<IConnector> instances, CancellationToken ct, ServiceRef? except = null)
    {
        var all = new List<Use>();
        foreach (var c in instances)
            all.AddRange(
                Instances
                    .Discover(c)
                    .Services.Where(s => except is null || c != except.Instance || s.Name != except.Name)
                    .SelectMany(UsesOf)
            );
        var uses = all.Distinct().ToList();
        LeftOut = Math.Max(0, uses.Count - Most);
        _good = [.. (await LookAsync([.. uses.Take(Most)], ct)).Where(s => s.Fault is null).Select(s => s.Use)];
    }

    /// <summary>TLS must work before everybody is sent there: under the service's own name at least.</summary>
    /// <returns>A word for each other name that clients could not use by TLS.</returns>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongState"/>, with what clients would meet.</exception>
    public static async Task<IReadOnlyList<string>> ThrowUnlessUsableAsync(FoundService service, TimeProvider clock, CancellationToken ct)
    {
        var own = service.Names.FirstOrDefault(n => !n.StartsWith('*'));
        var faults = (await new Neighbours(clock).LookAsync([.. UsesOf(service)], ct))
            .Where(s => s.Fault is not null)
            .OrderBy(s => s.Use.Probe.Name, StringComparer.Ordinal)
            .ToList();
        if (faults.Find(s => s.Use.Probe.Name == own) is { } worst)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Clients cannot use TLS there now ({own} at {worst.Use.Probe.Address}:{worst.Use.Probe.Port}: {worst.Fault}); they would be shut out.",
                "Bind a certificate that they accept; then order it again."
            );
        return
        [
            .. faults
                .Select(s => $"Clients that call it {s.Use.Probe.Name} are refused by TLS ({s.Fault}), and lose the service.")
                .Distinct(),
        ];
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
        var worse = (await LookAsync(_good, ct)).Where(s => s.Fault is not null).ToList();
        for (var looks = 1; looks < LooksAtTheSlow && worse.Count > 0 && worse.All(s => s.IsLate); looks++)
            worse = [.. (await LookAsync([.. worse.Select(s => s.Use)], ct)).Where(s => s.Fault is not null)];
        if (worse.Count == 0)
            return null;
        worse.Sort((a, b) => string.CompareOrdinal(a.Use.Probe.Name, b.Use.Probe.Name));
        var told = worse.Take(3).Select(s => $"{s.Use.Probe.Name} at {s.Use.Probe.Address}:{s.Use.Probe.Port} ({s.Fault})");
        var more = worse.Count > 3 ? $" and {worse.Count - 3} more" : "";
        return string.Join(", ", told) + more;
    }

    private static IEnumerable<Use> UsesOf(FoundService s) =>
        from e in s.Endpoints.Where(e => e.Tls)
        from name in s.Names.Where(n => !n.StartsWith('*')).Take(s.NamesAreAssumed ? 1 : int.MaxValue)
        select new Use(new(e.Address, e.Port, name, e.Protocol), !s.NamesAreAssumed);

    private async Task<IReadOnlyCollection<Seen>> LookAsync(IReadOnlyCollection<Use> uses, CancellationToken ct)
    {
        var seen = new ConcurrentBag<Seen>();
        await Parallel.ForEachAsync(
            uses,
            new ParallelOptions { MaxDegreeOfParallelism = AtATime, CancellationToken = ct },
            async (u, stop) =>
            {
                var look = await TlsProbe.LookAsync(u.Probe, clock, stop);
                seen.Add(new(u, FaultOf(u, look), TlsProbe.RanOutOfTime(look)));
            }
        );
        return seen;
    }

    /// <summary>What every client refuses, whatever it trusts; null when there is nothing of the kind.</summary>
    private string? FaultOf(Use use, LookReport look)
    {
        if (look.Outcome != LookOutcome.Served || look.Chain.Count == 0)
            return look.Message.Length > 0 ? look.Message : "no certificate is served";
        try
        {
            var leaf = X509.Read(Convert.FromBase64String(look.Chain[0]));
            var now = clock.GetUtcNow();
            if (now > leaf.NotAfter || now < leaf.NotBefore)
                return "its certificate is not valid now";
            if (use.IsNamed && HostNameMatch.Of(use.Probe.Name, leaf.Names, null) != NameMatch.Fits)
                return $"its certificate is for {string.Join(", ", leaf.Names.Take(3))}";
            return null;
        }
        catch (BeaconProblem p)
        {
            return p.Message;
        }
    }
}
