using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// Ends the use of a service without TLS, and takes that back. A client without TLS that still gets as far as before makes it a failed change, whatever the configuration says.
/// </summary>
internal sealed class TlsDemand(SwapJournal journal, BoundBook demands, TimeProvider clock, Action<string> step)
{
    private const int MostNames = 5;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15),
        Pause = TimeSpan.FromMilliseconds(100);

    /// <summary>Something that could be read before.</summary>
    /// <param name="Stays">What may be read there afterwards, by the configuration.</param>
    private sealed record Leak(EndpointInfo Endpoint, IReadOnlyList<Readable> Stays);

    private sealed record Demand(IConnector Server, FoundService Service, ChangeSet Change, IReadOnlyList<Leak> Leaks);

    public async Task<BindPlan> DescribeAsync(ServiceRef service, CancellationToken ct)
    {
        service.Instance.Test(service.Instance.Files);
        var demand = Plan(service);
        ServiceChange.Test(service.Instance, demand.Change);
        var lost = demand.Leaks.Count == 0 ? [] : await Neighbours.ThrowUnlessUsableAsync(demand.Service, clock, ct);
        var change = demand.Change with { Warnings = [.. demand.Change.Warnings, .. lost] };
        return ServiceChange.Preview(change, service.Label);
    }

    public BindPlan DescribeEnd(ServiceRef service)
    {
        service.Instance.Test(service.Instance.Files);
        var plan = PlanEnd(service);
        ServiceChange.Test(service.Instance, plan);
        return ServiceChange.Preview(plan, service.Label);
    }

    /// <returns>How it is used now, for people.</returns>
    public async Task<string> RequireAsync(long order, ServiceRef service, CancellationToken ct)
    {
        var instance = service.Instance;
        step("testing the configuration as it is");
        instance.Test(instance.Files);
        var demand = Plan(service);
        if (demand.Leaks.Count == 0)
            return "TLS is required already";
        step("looking at what this server serves now");
        await Neighbours.ThrowUnlessUsableAsync(demand.Service, clock, ct);
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync([instance], ct);
        step("requiring TLS");
        var earlier = demands.Find(service.Label);
        var memory = Bindings.After(service.Label, "", earlier, null, demand.Change.Edits, instance.Files) with
        {
            Lowest = earlier?.Lowest,
        };
        await new ServiceChange(journal, clock, step).RunAsync(
            order,
            instance,
            demand.Change,
            neighbours,
            () => SeeEndedAsync(demand, ct),
            () => demands.Keep(memory),
            ct
        );
        var stays = demand.Leaks.Where(l => l.Stays.Count > 0).Select(l => $"{Words(l.Stays)} at {At(l)}").ToList();
        return stays.Count == 0
            ? $"{service.Label} is used by TLS alone"
            : $"{service.Label} is used by TLS alone, but for {string.Join(", ", stays)}";
    }

    public async Task AllowAsync(long order, ServiceRef service, CancellationToken ct)
    {
        var instance = service.Instance;
        instance.Test(instance.Files);
        var plan = PlanEnd(service);
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync([instance], ct);
        step("putting the service back as it was");
        await new ServiceChange(journal, clock, step).RunAsync(
            order,
            instance,
            plan,
            neighbours,
            () => Task.CompletedTask,
            () => demands.Forget(service.Label),
            ct
        );
    }

    private static Demand Plan(ServiceRef service)
    {
        var before = Found(service, service.Instance.Files);
        if (!before.Endpoints.Any(e => e.Tls))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{service.Label} has no TLS yet: if it were required, nobody could use the service.",
                "Bind a certificate to it first."
            );
        var readable = before.Endpoints.Where(e => e.ClearText == true).ToList();
        if (readable.Count == 0)
            return new(
                service.Instance,
                before,
                ChangeSet.RequiringTls(service.Name, [], [$"TLS is required of {service.Label} already."]),
                []
            );
        var change = service.Instance.PlanRequireTls(service.Name, service.Instance.Files);
        var would = new Overlay(service.Instance.Files);
        would.Add(change.Edits);
        var after = Found(service, would).Endpoints;
        return new(service.Instance, before, change, [.. readable.Select(e => new Leak(e, StaysOf(e, after)))]);
    }

    private static IReadOnlyList<Readable> StaysOf(EndpointInfo e, IReadOnlyList<EndpointInfo> after) =>
        after.FirstOrDefault(a => a.Address == e.Address && a.Port == e.Port)?.Readable ?? [];

    private static FoundService Found(ServiceRef service, IFiles files)
    {
        var found = service.Instance.Discover(files);
        return found.Services.FirstOrDefault(s => s.Name == service.Name)
            ?? throw found.Problem
                ?? new BeaconProblem(ProblemCode.NotFound, $"{service.Label} is not there any more.", "See beacon service list.");
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SwapUndone"/>: something of it is still read without TLS.</exception>
    private async Task SeeEndedAsync(Demand demand, CancellationToken ct)
    {
        step("trying to use it without TLS");
        var names = demand.Service.Names.Where(n => !n.StartsWith('*')).Take(MostNames).DefaultIfEmpty(demand.Service.Name).ToList();
        await SeeEndedAsync(() => Task.FromResult(demand.Server.StillInTheClear()), ct);
        foreach (var leak in demand.Leaks)
        foreach (var name in names)
            await SeeEndedAsync(() => StillAsync(leak, name, ct), ct);
    }

    private async Task SeeEndedAsync(Func<Task<string?>> stillAsync, CancellationToken ct)
    {
        var until = clock.GetUtcNow() + Patience;
        while (await stillAsync() is { } still)
        {
            if (clock.GetUtcNow() > until)
                throw new BeaconProblem(
                    ProblemCode.SwapUndone,
                    $"Without TLS {still} all the same.",
                    "Something else in its configuration lets clients in; find it, then order it again."
                );
            await Task.Delay(Pause, clock, ct);
        }
    }

    /// <summary>What goes without TLS that should not; null when nothing does.</summary>
    private static async Task<string?> StillAsync(Leak leak, string name, CancellationToken ct)
    {
        try
        {
            var still = (await ClearText.ReadableAsync(leak.Endpoint, name, ct)).Except(leak.Stays).ToList();
            return still.Count == 0 ? null : $"{Words(still)} go at {At(leak)}";
        }
        catch (IOException e)
        {
            // Who ends the connection before anything was said gives nothing away; but an answer that is not understood is no proof.
            return e is EndOfStreamException || e.InnerException is System.Net.Sockets.SocketException
                ? null
                : $"it is not clear what goes at {At(leak)} ({e.Message}), and it may";
        }
    }

    private static string Words(IEnumerable<Readable> what) => string.Join(" and ", what.Select(r => r.ToString().ToLowerInvariant()));

    private static string At(Leak leak) => $"{leak.Endpoint.Address}:{leak.Endpoint.Port}";

    /// <summary>What comes back with the lines of before.</summary>
    private static IEnumerable<string> Returning(BoundRecord kept)
    {
        if (!kept.KeepsClearText)
            yield return "What clients send without TLS can be read on the wire again.";
        if (kept.Lowest is { } lowest)
            yield return $"Versions below {TlsVersions.NameOf(lowest)} are taken again, as they were before.";
    }

    private ChangeSet PlanEnd(ServiceRef service)
    {
        var kept =
            demands.Find(service.Label)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"TLS was not required of {service.Label} from here, so it is not known how it was before.",
                "Change its configuration by hand."
            );
        var plan = Bindings.Remove(kept, null, service.Instance.Files);
        return plan with { Warnings = [.. Returning(kept)] };
    }
}
