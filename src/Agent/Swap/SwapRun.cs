using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// The transaction that puts an edition into services of one or several servers, or leaves everything as it was:
/// preflight → restore point → apply → take up → look → confirm, or restore and take up again. All services of one swap together, or none.
/// </summary>
internal sealed class SwapRun(CertificateStore store, SwapJournal journal, BoundBook bounds, TimeProvider clock, Action<string> step)
{
    private readonly Undoing _undoing = new(journal, clock, step);

    /// <summary>Says what a binding would change; changes no server's file.</summary>
    public BindPlan Describe(StoreEntry entry, ServiceRef service, int? port)
    {
        service.Instance.Test(service.Instance.Files);
        var plan = SwapPlan.Of(store, bounds, entry, [service], port);
        plan.Render(store);
        plan.Test();
        foreach (var p in plan.Parts)
            Preflight.CheckPorts(p.Change);
        return ServiceChange.Preview(Preflight.WithUncovered(plan.Parts[0].Change, entry.Leaf()), service.Label);
    }

    public BindPlan DescribeRemoval(ServiceRef service)
    {
        service.Instance.Test(service.Instance.Files);
        var plan = PlanRemoval(service);
        ServiceChange.Test(service.Instance, plan);
        return ServiceChange.Preview(
            service.Instance.UnbindingWarning(plan) is { } w ? plan with { Warnings = [.. plan.Warnings, w] } : plan,
            service.Label
        );
    }

    /// <summary>Puts an edition into services; those that are bound to its certificate already and are not named move along with it.</summary>
    /// <exception cref="BeaconProblem">Everything is as it was, or <see cref="ProblemCode.SwapStuck"/>; the message says why.</exception>
    public async Task<IReadOnlyList<LookReport>> BindAsync(
        long order,
        StoreEntry entry,
        IReadOnlyList<ServiceRef> services,
        int? port,
        IReadOnlyList<X509> known,
        CancellationToken ct
    )
    {
        var plan = Prepared(entry, services, port, known);
        step(plan.Instances.Count == 1 ? "looking at what this server serves now" : "looking at what these servers serve now");
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync(plan.Instances, ct);
        if (neighbours.LeftOut > 0)
            step($"{neighbours.LeftOut} of their names are not looked at: {Neighbours.Most} are, at most");

        var record = Opened(order, entry, plan);
        var began = clock.GetUtcNow();
        try
        {
            step("putting it in place");
            AtomicFiles.Link(record.Link!, record.NewTarget!);
            ServiceChange.Apply(plan.Edits);
            foreach (var c in plan.Instances)
            {
                step(plan.Instances.Count == 1 ? "the server takes it up" : $"{c.Id.Name} takes it up");
                c.TakeUp();
            }
            await Settling.WaitAsync(plan.Instances, clock, ct);
            step("looking at it from outside");
            var looks = await SeeNew.RunAsync(plan, entry.File.Serial, began, clock, ct);
            await neighbours.ThrowIfWorseAsync(ct);
            foreach (var p in plan.Parts)
                bounds.Keep(p.Memory);
            journal.Close(order);
            return looks;
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            throw await _undoing.RunAsync(plan.Instances, record, e, neighbours, ct);
        }
    }

    /// <summary>The plan, after everything that can be known beforehand was tried: nothing of the servers' is changed yet.</summary>
    private SwapPlan Prepared(StoreEntry entry, IReadOnlyList<ServiceRef> services, int? port, IReadOnlyList<X509> known)
    {
        step("checking the certificate and its key");
        Preflight.CheckEdition(entry, known, clock.GetUtcNow());
        step("testing the configuration as it is");
        foreach (var c in services.Select(s => s.Instance).Distinct())
            c.Test(c.Files);
        var plan = SwapPlan.Of(store, bounds, entry, services, port);
        foreach (var p in plan.Parts)
        {
            Preflight.CheckName(p.Change, entry.Leaf());
            Preflight.CheckPorts(p.Change);
        }
        step("testing the configuration with the new edition");
        plan.Render(store);
        plan.Test();
        return plan;
    }

    private SwapRecord Opened(long order, StoreEntry entry, SwapPlan plan) =>
        journal.Open(
            new(
                order,
                null,
                entry.File.Certificate,
                entry.File.Serial,
                store.InUseLink(entry.File.Certificate),
                null,
                store.LinkTargetFor(entry),
                []
            )
            {
                Instances = [.. plan.Instances.Select(i => i.Id.Name)],
            },
            plan.Edits
        );

    public async Task UnbindAsync(long order, ServiceRef service, CancellationToken ct)
    {
        var instance = service.Instance;
        instance.Test(instance.Files);
        var plan = PlanRemoval(service);
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync([instance], ct, except: service);
        step("putting the service back as it was");
        await new ServiceChange(journal, clock, step).RunAsync(
            order,
            instance,
            plan,
            neighbours,
            () => Task.CompletedTask,
            () => bounds.Forget(service.Label),
            ct
        );
    }

    /// <summary>After a kill: whatever was not confirmed is undone, so that the order can be done again from the start.</summary>
    public Task RecoverAsync(Func<string, IConnector?> instanceOf, CancellationToken ct) => _undoing.RecoverAsync(instanceOf, ct);

    private ChangeSet PlanRemoval(ServiceRef service)
    {
        if (bounds.Demands.Find(service.Label) is { KeepsClearText: true })
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The lowest version of TLS was set for {service.Label} from here, after its certificate was bound.",
                "Allow old versions again first (beacon require-tls HOST/SERVICE --undo); then unbind it."
            );
        if (bounds.Demands.Find(service.Label) is not null)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"TLS is required of {service.Label}: without its certificate nobody could use it.",
                "Allow clear text again first (beacon require-tls HOST/SERVICE --undo); then unbind it."
            );
        var bound =
            bounds.Find(service.Label)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no memory of how {service.Label} was before it was bound.",
                "Change its configuration by hand."
            );
        var used = store.FilesOf(bound.Certificate, service.Instance.Needs);
        return bound.Earlier() is { } earlier
            ? service.Instance.PlanEarlierRemoval(earlier, service.Name, used, service.Instance.Files)!
            : Bindings.Remove(bound, used, service.Instance.Files);
    }
}
