using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Does one order. Doing it again after a kill continues where it can and repeats nothing that counts: the key is made once, the edition is issued once.</summary>
internal sealed class CarryOut(
    AgentState state,
    Instances instances,
    ServiceClient beacon,
    AgentIdentity identity,
    TrustWork trust,
    TimeProvider clock
)
{
    private readonly CertificateStore _store = state.Store;
    private readonly BoundBook _bounds = state.Bounds;
    private readonly StoreWork _storeWork = new(state.Store, state.Bounds, state.SealKey, instances);
    private readonly DeviceWork _deviceWork = new(state.Devices, beacon.CsrAsync, clock);

    public async Task<OrderResult> RunAsync(Order order, Action<string> log, CancellationToken ct)
    {
        var steps = new List<string>();
        void Step(string text)
        {
            steps.Add(text);
            log($"order {order.Id}: {text}");
            // Progress is for people: a lost step costs nothing.
            if (Changes(order))
                _ = beacon.StepAsync(order.Id, text, ct).ContinueWith(t => _ = t.Exception, TaskScheduler.Default);
        }
        try
        {
            return await DoAsync(order, steps, Step, ct);
        }
        catch (BeaconProblem p) when (p.Code != ProblemCode.Unreachable)
        {
            return new(false, new(p.Slug, p.Message, p.Cure), steps, null, null);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return new(false, new("cannot-write", e.Message, "Check the disk and the permissions on the host."), steps, null, null);
        }
        // Whatever is wrong with an order ends that order: the agent has others to do.
        catch (Exception e) when (e is not (OperationCanceledException or BeaconProblem))
        {
            log($"order {order.Id} cannot be done: {e.GetType().Name} {e.Message}");
            return new(
                false,
                new("internal", "The order is damaged, or met something unexpected.", "Look into the agent's log; then order it again."),
                steps,
                null,
                null
            );
        }
    }

    private async Task<OrderResult> DoAsync(Order order, List<string> steps, Action<string> step, CancellationToken ct)
    {
        var swap = new SwapRun(_store, state.Journal, _bounds, clock, step);
        // What could not be put back at the time is put back before anything else is changed.
        if (Changes(order))
            await swap.RecoverAsync(instances.Find, ct);
        switch (order.Kind)
        {
            case OrderKind.KeepDevice:
                await _deviceWork.KeepAsync(order, step, ct);
                return Done(steps, []);
            case OrderKind.Obtain when order.Device is not null:
                return Done(steps, await _deviceWork.ObtainAsync(order, step, ct));
            case OrderKind.Obtain:
                return Done(steps, await ObtainAsync(order, swap, step, ct));
            case OrderKind.Prepare:
                TestAll(order);
                return Done(steps, []) with { Csr = Prepare(order, step) };
            case OrderKind.Complete:
                return Done(steps, await CompleteAsync(order, swap, step, ct));
            case OrderKind.Store:
                return _storeWork.Run(order);
            case OrderKind.Trust:
                return trust.Run(order, steps, step);
            case OrderKind.TellTrust:
                return trust.Tell(order);
            case OrderKind.Bind:
                return Done(steps, await PutInAsync(order, Entry(order), swap, step, ct));
            case OrderKind.Unbind:
                return Done(steps, await UnboundAsync(order, swap, step, ct));
            case OrderKind.RequireTls or OrderKind.AllowClearText or OrderKind.RaiseTls:
                return Done(steps, await DemandedAsync(order, step, ct));
            case OrderKind.Plan:
                var service = instances.Service(order.Services![0]);
                return new(
                    true,
                    null,
                    steps,
                    null,
                    order.Certificate is null ? swap.DescribeRemoval(service) : swap.Describe(Entry(order), service, order.Port)
                );
            case OrderKind.Federate when order.Federation is { } wish:
                await Federation(step).RunAsync(order.Id, instances.Find(wish.Instance), wish, Entry(order), ct);
                return Done(steps, []);
            case OrderKind.Preview:
                return new(true, null, steps, null, await PreviewedAsync(order, step, ct));
            case OrderKind.Look:
                return Done(steps, [await WholeLook.RunAsync(ProbeOf(order), clock, ct)]);
            case OrderKind.Sweep when order.Sweep is { } part:
                return Done(steps, await Sweeping.RunAsync(part, clock, ct));
            case OrderKind.Meet:
                using (var own = identity.Load())
                    await BeMet.RunAsync(order.Id, order.Address ?? "", own, text => beacon.StepAsync(order.Id, text, ct), ct);
                return Done(steps, []);
            default:
                throw NotKnown();
        }
    }

    /// <summary>Whether servers are changed by it.</summary>
    private static bool Changes(Order order) =>
        order.Kind
            is OrderKind.Obtain
                or OrderKind.Complete
                or OrderKind.Bind
                or OrderKind.Unbind
                or OrderKind.RequireTls
                or OrderKind.AllowClearText
                or OrderKind.RaiseTls
                or OrderKind.Federate;

    private TlsDemand Demand(Action<string> step) => new(state.Journal, _bounds.Demands, clock, step);

    private RaiseTls Raise(Action<string> step) => new(state.Journal, _bounds.Demands, clock, step);

    private static LowestTls LowestOf(Order order) => order.Lowest is { } l and not LowestTls.Unknown ? l : throw NotKnown();

    private FederationWork Federation(Action<string> step) => new(_store, state.Journal, clock, step);

    private async Task<BindPlan> PreviewedAsync(Order order, Action<string> step, CancellationToken ct)
    {
        if (order is { Of: OrderKind.Federate, Federation: { } wish })
            return Federation(step).Describe(instances.Find(wish.Instance), wish, Entry(order));
        var service = instances.Service(order.Services![0]);
        return order.Of switch
        {
            OrderKind.RequireTls => await Demand(step).DescribeAsync(service, ct),
            OrderKind.AllowClearText => Demand(step).DescribeEnd(service),
            OrderKind.RaiseTls => await Raise(step).DescribeAsync(service, LowestOf(order), ct),
            _ => throw NotKnown(),
        };
    }

    private static BeaconProblem NotKnown() =>
        new(ProblemCode.ConfigurationUnsupported, "This agent does not know orders of that kind.", "Update the agent.");

    private static OrderResult Done(List<string> steps, IReadOnlyList<LookReport> looks) => new(true, null, steps, looks, null);

    private async Task<IReadOnlyList<LookReport>> UnboundAsync(Order order, SwapRun swap, Action<string> step, CancellationToken ct)
    {
        var service = instances.Service(order.Services![0]);
        var bound = _bounds.Find(service.Label);
        await swap.UnbindAsync(order.Id, service, ct);
        // Whoever carried its label before has it again.
        if (
            service.Instance.Needs.Label is { } label
            && bound is not null
            && _store.InUse(bound.Certificate) is { } e
            && e.File.Label == label
        )
            foreach (var told in new Labels(_store).Undo(e))
                step(told);
        return await LookAtAsync(order.Services[0], ct);
    }

    private async Task<IReadOnlyList<LookReport>> DemandedAsync(Order order, Action<string> step, CancellationToken ct)
    {
        var service = instances.Service(order.Services![0]);
        if (order.Kind == OrderKind.RequireTls)
            step(await Demand(step).RequireAsync(order.Id, service, ct));
        else if (order.Kind == OrderKind.RaiseTls)
            step(await Raise(step).RunAsync(order.Id, service, LowestOf(order), ct));
        else
            await Demand(step).AllowAsync(order.Id, service, ct);
        return await LookAtAsync(order.Services[0], ct);
    }

    private static Probe ProbeOf(Order order) => new(order.Address!, order.Port ?? 443, order.ServerName ?? order.Address!, order.Protocol);

    private async Task<IReadOnlyList<LookReport>> ObtainAsync(Order order, SwapRun swap, Action<string> step, CancellationToken ct)
    {
        TestAll(order);
        if (_store.OfOrder(order.Id) is { } brought && IsFor(brought, order))
        {
            step("the edition is in the store already");
            return await PutInAsync(order, brought, swap, step, ct);
        }
        var csr = Prepare(order, step);
        step("the authority signs");
        var edition = await beacon.CsrAsync(order.Id, csr, ct);
        step("keeping it in the store");
        var entry = _store.Complete(order.Id, order.Certificate!, edition.Chain, order.Releasable);
        return await PutInAsync(order, entry, swap, step, ct);
    }

    private string Prepare(Order order, Action<string> step)
    {
        step("making the key and the request");
        var subject = string.IsNullOrEmpty(order.Subject) ? DistinguishedName.Empty : DistinguishedName.Parse(order.Subject);
        return _store.Prepare(order.Id, subject, [.. order.Names!.Select(AlternativeName.Parse)], KeySpec.Parse(order.Key!));
    }

    private async Task<IReadOnlyList<LookReport>> CompleteAsync(Order order, SwapRun swap, Action<string> step, CancellationToken ct)
    {
        step("keeping the answer in the store");
        var entry = _store.Complete(order.Prepared ?? 0, order.Certificate!, order.Chain!, order.Releasable);
        return await PutInAsync(order, entry, swap, step, ct);
    }

    private async Task<IReadOnlyList<LookReport>> PutInAsync(
        Order order,
        StoreEntry entry,
        SwapRun swap,
        Action<string> step,
        CancellationToken ct
    )
    {
        var services = order.Services ?? [];
        if (services.Count == 0)
        {
            AtomicFiles.Link(_store.InUseLink(entry.File.Certificate), _store.LinkTargetFor(entry));
            new Labels(_store).PassOn(entry);
            return [];
        }
        var named = instances.Named(services);
        var known = (order.Anchors ?? []).Select(a => X509.Read(Convert.FromBase64String(a))).ToList();
        var looks = await swap.BindAsync(order.Id, entry, [.. named, .. MovingAlong(entry, services)], order.Port, known, ct);
        var labels = new Labels(_store);
        labels.PassOn(entry);
        // Who finds its entry by a label has it from this one from now on.
        foreach (var label in named.Select(s => s.Instance.Needs.Label).OfType<string>().Distinct())
        foreach (var told in labels.Give(entry, label))
            step(told);
        _store.Tidy(entry.File.Certificate, clock.GetUtcNow());
        step(services.Count == 1 ? $"{services[0]} serves it" : $"{services.Count} services serve it");
        return looks;
    }

    /// <summary>Numbers of orders begin anew with another service: it is the same order only when it asks for the same, and the edition can be used.</summary>
    private bool IsFor(StoreEntry entry, Order order)
    {
        if (entry.File.Certificate != order.Certificate || entry.File.NotAfter <= clock.GetUtcNow())
            return false;
        var names = entry.Leaf().Names.ToHashSet();
        return names.SetEquals(order.Names!.Select(AlternativeName.Parse));
    }

    private StoreEntry Entry(Order order) =>
        _store.Find(order.Certificate!, order.Serial!)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"The edition {order.Serial} of \"{order.Certificate}\" is not in this host's _store.",
            "Renew the certificate; a new edition is made."
        );

    /// <summary>What cannot be put in place later is said before an edition is issued for it.</summary>
    private void TestAll(Order order)
    {
        var services = instances.Named(order.Services ?? []);
        foreach (var service in services)
            Preflight.CheckRelease(service, order.Certificate ?? "", order.Releasable);
        foreach (var instance in services.Select(s => s.Instance).Distinct())
            instance.Test(instance.Files);
    }

    /// <summary>The link is one for all services of a certificate: those that are bound to it and not named in the order move along.</summary>
    private IEnumerable<ServiceRef> MovingAlong(StoreEntry entry, IReadOnlyList<string> named)
    {
        var certificate = entry.File.Certificate;
        if (_store.InUse(certificate)?.File.Serial == entry.File.Serial)
            return [];
        var bound = _bounds.ServicesOf(certificate).Except(named).ToHashSet();
        return instances.Named([.. instances.Services().Select(s => s.Service.Name).Where(bound.Contains)]);
    }

    private async Task<IReadOnlyList<LookReport>> LookAtAsync(string label, CancellationToken ct)
    {
        var found = instances.Services().First(s => s.Service.Name == label).Service;
        return await Surroundings.LooksAsync(Surroundings.WithCertificateNames(found, _store, _bounds), clock, ct);
    }
}
