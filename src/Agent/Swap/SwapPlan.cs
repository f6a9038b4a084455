using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>One service's part in a swap.</summary>
/// <param name="Memory">What is kept of it when the swap is confirmed.</param>
internal sealed record SwapPart(ServiceRef Service, ChangeSet Change, BoundRecord Memory);

/// <summary>All that a swap would change, worked out on a view of each server's files; nothing is touched.</summary>
internal sealed class SwapPlan
{
    private readonly Dictionary<IConnector, Overlay> _would = [];
    private readonly ReadInstead _instead;
    private readonly StoreEntry _entry;

    private SwapPlan(StoreEntry entry, ReadInstead instead) => (_entry, _instead) = (entry, instead);

    public IReadOnlyList<SwapPart> Parts { get; private set; } = [];

    /// <summary>The servers that take it up; those that end their clients' connections for it come last, when the others have taken it.</summary>
    public IReadOnlyList<IConnector> Instances => [.. _would.Keys.OrderBy(c => c.CutsOff is not null)];

    /// <summary>One edit for each file.</summary>
    public IReadOnlyList<OwnedEdit> Edits => [.. _would.SelectMany(w => w.Value.Edits.Select(e => OwnedEdit.Of(e, w.Key)))];

    /// <exception cref="BeaconProblem">A service has a form that is not changed, or two servers read one file that would change.</exception>
    public static SwapPlan Of(CertificateStore store, BoundBook bounds, StoreEntry entry, IReadOnlyList<ServiceRef> services, int? port)
    {
        var certificate = entry.File.Certificate;
        // The test must see the edition's own files, since the link is not turned yet.
        var plan = new SwapPlan(entry, new(store.InUseLink(certificate) + "/", entry.Folder + "/"));
        var names = entry.Leaf().Names.Where(n => n.Kind == NameKind.Dns && !n.Value.StartsWith('*')).Select(n => n.Value).ToList();
        var key = entry.Leaf().PublicKey.Spec.Algorithm;
        var parts = new List<SwapPart>();
        foreach (var service in services)
        {
            Preflight.CheckRelease(service, certificate, entry.File.Releasable);
            if (!plan._would.TryGetValue(service.Instance, out var would))
                plan._would[service.Instance] = would = new(service.Instance.Files);
            var files = store.FilesOf(certificate, service.Instance.Needs);
            var earlier = bounds.Find(service.Label);
            var earlierRemoval = earlier?.Earlier() is { } old
                ? service.Instance.PlanEarlierRemoval(old, service.Name, store.FilesOf(earlier.Certificate, service.Instance.Needs), would)
                : null;
            var change = service.Instance.PlanBinding(new(service.Name, files, port, names) { Key = key }, would);
            if (service.Instance.CutsOff is { } cut)
                change = change with { Warnings = [.. change.Warnings, cut] };
            var memory = Bindings.After(
                service.Label,
                certificate,
                earlier,
                earlierRemoval,
                change.Edits,
                would,
                bounds.Demands.Find(service.Label)
            );
            would.Add(change.Edits);
            parts.Add(new(service, change, memory));
        }
        plan.Parts = parts;
        if (plan.Edits.GroupBy(e => e.Edit.Path).FirstOrDefault(g => g.Count() > 1) is { } shared)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{shared.Key} is read by several servers, and would change for each of them.",
                "Give each server a file of its own, then bind again."
            );
        return plan;
    }

    /// <summary>Writes the edition in the forms that these servers need, into the store.</summary>
    public void Render(CertificateStore store)
    {
        foreach (var c in _would.Keys)
            store.Render(_entry, c.Needs);
    }

    /// <summary>Each server's own test on what would be.</summary>
    public void Test()
    {
        foreach (var (instance, would) in _would)
            instance.Test(would, _instead);
    }
}
