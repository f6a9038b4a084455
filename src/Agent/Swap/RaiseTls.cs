using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// Has a service take no version of TLS below one. Which versions it takes is asked of the server itself, before and after: one that is still taken makes it a failed change,
/// whatever the configuration says. It is remembered with what ends clear text, and taken back with it.
/// </summary>
internal sealed class RaiseTls(SwapJournal journal, BoundBook demands, TimeProvider clock, Action<string> step)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15),
        Pause = TimeSpan.FromMilliseconds(100);

    private sealed record Raise(IConnector Server, LowestTls Lowest, ChangeSet Change, IReadOnlyList<Probe> Doors)
    {
        public bool IsDone => Doors.Count == 0;
    }

    public async Task<BindPlan> DescribeAsync(ServiceRef service, LowestTls lowest, CancellationToken ct)
    {
        service.Instance.Test(service.Instance.Files);
        var raise = await PlanAsync(service, lowest, ct);
        ServiceChange.Test(service.Instance, raise.Change);
        return ServiceChange.Preview(raise.Change, service.Label);
    }

    /// <returns>How it is used now, for people.</returns>
    public async Task<string> RunAsync(long order, ServiceRef service, LowestTls lowest, CancellationToken ct)
    {
        var instance = service.Instance;
        step("testing the configuration as it is");
        instance.Test(instance.Files);
        step("asking which versions it takes");
        var raise = await PlanAsync(service, lowest, ct);
        if (raise.IsDone)
            return raise.Change.Steps[0];
        step("looking at what this server serves now");
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync([instance], ct);
        step($"raising the lowest version to {TlsVersions.NameOf(lowest)}");
        var earlier = demands.Find(service.Label);
        var memory = Bindings.After(service.Label, "", earlier, null, raise.Change.Edits, instance.Files) with
        {
            Lowest = lowest,
            KeepsClearText = earlier?.KeepsClearText ?? true,
        };
        await new ServiceChange(journal, clock, step).RunAsync(
            order,
            instance,
            raise.Change,
            neighbours,
            () => SeeRaisedAsync(raise, ct),
            () => demands.Keep(memory),
            ct
        );
        return $"{service.Label} takes no version below {TlsVersions.NameOf(lowest)}";
    }

    private static async Task<Raise> PlanAsync(ServiceRef service, LowestTls lowest, CancellationToken ct)
    {
        var found = service.Instance.Discover(service.Instance.Files);
        var one =
            found.Services.FirstOrDefault(s => s.Name == service.Name)
            ?? throw found.Problem
                ?? new BeaconProblem(ProblemCode.NotFound, $"{service.Label} is not there any more.", "See beacon service list.");
        var name = one.Names.FirstOrDefault(n => !n.StartsWith('*')) ?? one.Name;
        var doors = one.Endpoints.Where(e => e.Tls).Select(e => new Probe(e.Address, e.Port, name, e.Protocol)).ToList();
        if (doors.Count == 0)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{service.Label} has no TLS yet, so no version of it either.",
                "Bind a certificate to it first."
            );
        var taken = new List<string>();
        foreach (var door in doors)
            taken.AddRange(await TakenAsync(door, service.Label, ct));
        var below = TlsVersions.Below(lowest, taken);
        if (below.Count == 0)
            return new(
                service.Instance,
                lowest,
                ChangeSet.RequiringTls(service.Name, [], [$"{service.Label} takes no version below {TlsVersions.NameOf(lowest)} already."]),
                []
            );
        if (service.Instance is not ILimitsVersions server)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{service.Instance.Id.Kind} has no setting for the lowest version of TLS.",
                "Set it for all programs of the host, in the settings of its TLS library (MinProtocol in openssl.cnf)."
            );
        var change = server.PlanLowest(service.Name, lowest, service.Instance.Files);
        string[] told =
        [
            $"Clients that know nothing newer than {below[^1]} lose it.",
            .. taken.TrueForAll(below.Contains)
                ? new[] { $"It takes {taken[^1]} at most now. Where it has nothing newer, everything is put back." }
                : [],
            .. Others(found, one),
        ];
        return new(service.Instance, lowest, change with { Warnings = [.. change.Warnings, .. told] }, doors);
    }

    // Many servers settle on a version before they have read the name that a client asks for.
    private static IEnumerable<string> Others(Discovery all, FoundService one)
    {
        var doors = one.Endpoints.Where(e => e.Tls).Select(e => (e.Address, e.Port)).ToHashSet();
        var others = all
            .Services.Where(s => s.Name != one.Name && s.Endpoints.Any(e => doors.Contains((e.Address, e.Port))))
            .Select(s => s.Name)
            .ToList();
        if (others.Count > 0)
            yield return $"What shares its port may change along with it: {string.Join(", ", others.Take(5))}{(others.Count > 5 ? " …" : "")}.";
    }

    private static async Task<IReadOnlyList<string>> TakenAsync(Probe door, string label, CancellationToken ct)
    {
        // A busy server may miss one of the greetings.
        const int times = 3;
        for (var i = 0; i < times; i++)
            if (await VersionsTaken.AskAsync(door, ct) is { } taken)
                return taken;
        throw new BeaconProblem(
            ProblemCode.Unreachable,
            $"{label} does not say at {door.Address}:{door.Port} which versions of TLS it takes.",
            "See that it runs and answers there (beacon look), then order it again."
        );
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SwapUndone"/>: a version below is still taken, or none is.</exception>
    private async Task SeeRaisedAsync(Raise raise, CancellationToken ct)
    {
        step("asking again which versions it takes");
        var until = clock.GetUtcNow() + Patience;
        foreach (var door in raise.Doors)
            while (await StillAsync(door, raise.Lowest, ct) is { } still)
            {
                if (clock.GetUtcNow() > until)
                    throw new BeaconProblem(
                        ProblemCode.SwapUndone,
                        $"At {door.Address}:{door.Port} {still} all the same.",
                        "Another part of its configuration decides there (with several sites at a port, often the first of them); set it there, or order it for that site."
                    );
                await Task.Delay(Pause, clock, ct);
            }
    }

    private static async Task<string?> StillAsync(Probe door, LowestTls lowest, CancellationToken ct) =>
        await VersionsTaken.AskAsync(door, ct) switch
        {
            null or [] => "no version of TLS is taken",
            var taken when TlsVersions.Below(lowest, taken) is [.., var last] => $"{last} is taken",
            _ => null,
        };
}
