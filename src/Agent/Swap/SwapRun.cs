using System.Net;
using System.Net.Sockets;
using System.Text;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Probes;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// The transaction that puts an edition into services, or leaves everything as it was:
/// preflight → restore point → apply → take up → probe → confirm, or restore and take up again. All services of one swap together, or none.
/// </summary>
internal sealed class SwapRun(CertificateStore store, SwapJournal journal, BoundBook bounds, TimeProvider clock, Action<string> step)
{
    private static readonly TimeSpan ProbePatience = TimeSpan.FromSeconds(15);
    private static readonly TimeSpan SettlePatience = TimeSpan.FromSeconds(5);

    /// <summary>Says what a binding would change; changes nothing.</summary>
    public BindPlan Describe(IConnector connector, StoreEntry entry, string service, int? port)
    {
        connector.Test([]);
        var plan = WithUncovered(PlanOne(connector, entry, service, port), entry);
        connector.Test(plan.Edits, Instead(entry));
        CheckPorts(plan);
        return Shape(plan);
    }

    /// <summary>Says which of the service's own names the certificate lacks.</summary>
    private static ServicePlan WithUncovered(ServicePlan plan, StoreEntry entry)
    {
        var has = entry.Leaf().Names;
        var lacks = plan.Names.Where(n => HostNameMatch.Of(n.Replace("*.", "any."), has, null) != NameMatch.Fits).ToList();
        return lacks.Count == 0
            ? plan
            : plan with
            {
                Warnings =
                [
                    .. plan.Warnings,
                    $"The certificate lacks {string.Join(", ", lacks)}: clients that use such a name will refuse it.",
                ],
            };
    }

    public BindPlan DescribeRemoval(IConnector connector, string service)
    {
        connector.Test([]);
        var plan = PlanRemoval(connector, service);
        connector.Test(plan.Edits);
        return Shape(plan);
    }

    private static BindPlan Shape(ServicePlan plan) =>
        new(plan.Service, plan.Steps, [.. plan.Edits.Select(e => new FileChange(e.Path, TextDiff.Of(e.Before, e.After)))], plan.Warnings);

    /// <exception cref="BeaconProblem">Everything is as it was; the message says why.</exception>
    public async Task<IReadOnlyList<LookReport>> BindAsync(
        long order,
        IConnector connector,
        StoreEntry entry,
        IReadOnlyList<string> services,
        int? port,
        IReadOnlyList<X509> known,
        CancellationToken ct
    )
    {
        step("checking the certificate and its key");
        CheckEdition(entry, services, known);
        step("testing the configuration as it is");
        connector.Test([]);
        var plans = services.Select(s => PlanOne(connector, entry, s, port)).ToList();
        var edits = Merge(plans.SelectMany(p => p.Edits));
        foreach (var p in plans)
            CheckPorts(p);
        step("testing the configuration with the new edition");
        connector.Test(edits, Instead(entry));

        step("looking at what this server serves now");
        var neighbours = new Neighbours(clock);
        await neighbours.LookBeforeAsync(connector, ct);

        var record = journal.Open(
            order,
            connector.Kind,
            entry.File.Certificate,
            entry.File.Serial,
            store.InUseLink(entry.File.Certificate),
            store.LinkTargetFor(entry),
            edits
        );
        var began = clock.GetUtcNow();
        try
        {
            step("putting it in place");
            AtomicFiles.Link(record.Link!, record.NewTarget!);
            foreach (var e in edits)
                AtomicFiles.Replace(e.Path, Encoding.UTF8.GetBytes(e.After));
            step("the server takes it up");
            connector.TakeUp();
            await SettleAsync(connector, ct);
            step("looking at it from outside");
            var looks = await SeeAsync(connector, plans, entry.File.Serial, began, ct);
            await neighbours.ThrowIfWorseAsync(ct);
            foreach (var b in plans.Select(p => p.Bound).OfType<BoundRecord>())
                bounds.Keep(b);
            journal.Close(order);
            return looks;
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            throw await UndoAsync(connector, record, e, neighbours, ct);
        }
    }

    public async Task UnbindAsync(long order, IConnector connector, string service, CancellationToken ct)
    {
        connector.Test([]);
        var plan = PlanRemoval(connector, service);
        connector.Test(plan.Edits);
        var record = journal.Open(order, connector.Kind, null, null, null, null, plan.Edits);
        try
        {
            step("putting the service back as it was");
            foreach (var e in plan.Edits)
                AtomicFiles.Replace(e.Path, Encoding.UTF8.GetBytes(e.After));
            if (plan.Edits.Count > 0)
                connector.TakeUp();
            await SettleAsync(connector, ct);
            if (!connector.IsRunning())
                throw new BeaconProblem(ProblemCode.ServerDied, "The server did not survive the reload.", "Look into its error log.");
            bounds.Forget(service);
            journal.Close(order);
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            throw await UndoAsync(connector, record, e, new Neighbours(clock), ct);
        }
    }

    /// <summary>After a kill: whatever was not confirmed is undone, so that the order can be done again from the start.</summary>
    public async Task RecoverAsync(Func<string, IConnector?> connectorOf, CancellationToken ct)
    {
        foreach (var record in journal.Unfinished())
        {
            step($"order {record.Order} was cut off; putting everything back");
            var left = journal.Restore(record);
            if (connectorOf(record.Connector) is { } connector)
            {
                try
                {
                    connector.Test([]);
                    if (connector.IsRunning())
                        connector.TakeUp();
                    else
                        connector.Start();
                    await SettleAsync(connector, ct);
                }
                catch (BeaconProblem p)
                {
                    step($"after putting back: {p.Message}");
                }
            }
            foreach (var l in left)
                step($"{l} was changed by somebody else meanwhile and is left as it is");
            journal.Close(record.Order);
        }
    }

    private ServicePlan PlanOne(IConnector connector, StoreEntry entry, string service, int? port) =>
        connector.PlanBinding(service, entry.File.Certificate, store.FilesOf(entry.File.Certificate), port, bounds.Find(service));

    private ServicePlan PlanRemoval(IConnector connector, string service)
    {
        var bound =
            bounds.Find(service)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no memory of how {service} was before it was bound.",
                "Change its configuration by hand."
            );
        return connector.PlanRemoval(bound, store.FilesOf(bound.Certificate));
    }

    /// <summary>Two sites in one file are planned apart: the second plan is made on the text that the first leaves.</summary>
    private static List<FileEdit> Merge(IEnumerable<FileEdit> edits)
    {
        var merged = new Dictionary<string, FileEdit>();
        foreach (var e in edits)
            merged[e.Path] = merged.TryGetValue(e.Path, out var first)
                ? first with
                {
                    After = TextDiff.Merge(first.Before, first.After, e.After),
                }
                : e;
        return [.. merged.Values];
    }

    // The test must see the edition's own files, since the link is not turned yet.
    private (string, string) Instead(StoreEntry entry) => (store.InUseLink(entry.File.Certificate) + "/", entry.Folder + "/");

    private void CheckEdition(StoreEntry entry, IReadOnlyList<string> services, IReadOnlyList<X509> known)
    {
        var leaf = entry.Leaf();
        CertificateStore.CheckPair(File.ReadAllText(entry.KeyPath), leaf);
        var now = clock.GetUtcNow();
        if (now > leaf.NotAfter || now < leaf.NotBefore)
            throw new BeaconProblem(
                ProblemCode.SwapUndone,
                $"The edition {leaf.Serial} is not valid now ({leaf.NotBefore:yyyy-MM-dd HH:mm} to {leaf.NotAfter:yyyy-MM-dd HH:mm} UTC).",
                "Check this host's clock; else renew the certificate."
            );
        if (known.Count > 0)
        {
            var sent = Core.Formats.Armor.Read(File.ReadAllBytes(entry.ChainPath)).Blocks.Skip(1).Select(b => X509.Read(b.Der)).ToList();
            var path = PathJudge.Judge(new(leaf, sent, known, [.. known.Where(k => k.IsSelfSigned)], now) { Purpose = null });
            if (!path.IsAccepted || path.Fetched.Count > 0)
                throw new BeaconProblem(
                    ProblemCode.DataDamaged,
                    $"The edition's chain is not complete: {path.Steps[^1]}",
                    "Renew the certificate."
                );
        }
        foreach (var s in services)
            if (HostNameMatch.Of(s, leaf.Names, null) != NameMatch.Fits)
                throw new BeaconProblem(
                    ProblemCode.SwapUndone,
                    $"The certificate is for {string.Join(", ", leaf.Names)}, not for {s}; clients would refuse it.",
                    $"Request one that has the name {s}."
                );
    }

    private static void CheckPorts(ServicePlan plan)
    {
        foreach (var (address, port) in plan.NewPorts)
        {
            // What a name stands for is the server's to find out, in its own test.
            if (!IPAddress.TryParse(address, out var ip))
                continue;
            try
            {
                using var socket = new Socket(ip.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
                socket.Bind(new IPEndPoint(ip, port));
            }
            catch (SocketException e) when (e.SocketErrorCode == SocketError.AddressAlreadyInUse)
            {
                throw new BeaconProblem(
                    ProblemCode.PortTaken,
                    $"Port {port} on {address} belongs to another program already; nothing was changed.",
                    $"Stop that program (ss -ltnp 'sport = :{port}' names it), or bind with another port (--port)."
                );
            }
            catch (SocketException e) when (e.SocketErrorCode == SocketError.AccessDenied) { }
        }
    }

    /// <summary>Waits until nothing from before accepts any more; a server that does not say so in time is looked at all the same.</summary>
    private async Task SettleAsync(IConnector connector, CancellationToken ct)
    {
        var began = clock.GetUtcNow();
        // A reload is a signal: the server needs a moment before there is anything to see of it.
        do await Task.Delay(TimeSpan.FromMilliseconds(50), clock, ct);
        while (!connector.IsSettled() && connector.LastComplaint(began) is null && clock.GetUtcNow() < began + SettlePatience);
    }

    private async Task<IReadOnlyList<LookReport>> SeeAsync(
        IConnector connector,
        List<ServicePlan> plans,
        string serial,
        DateTimeOffset began,
        CancellationToken ct
    )
    {
        var looks = new List<LookReport>();
        foreach (var target in plans.SelectMany(p => p.Targets).Distinct())
        {
            var until = clock.GetUtcNow() + ProbePatience;
            while (true)
            {
                var look = await TlsProbe.LookAsync(target.Address, target.Port, target.ServerName, clock, ct);
                var seen = look.Chain.Count > 0 ? X509.Read(Convert.FromBase64String(look.Chain[0])).Serial.Hex : null;
                if (look.Outcome == LookOutcome.Served && seen == serial)
                {
                    looks.Add(look);
                    break;
                }
                if (!connector.IsRunning())
                    throw new BeaconProblem(
                        ProblemCode.ServerDied,
                        $"The server did not survive the reload. {connector.LastComplaint(began)}",
                        "Look into its error log."
                    );
                var complaint = connector.LastComplaint(began);
                if (complaint is not null || clock.GetUtcNow() > until)
                    throw new BeaconProblem(
                        ProblemCode.SwapUndone,
                        complaint is not null ? $"The server did not take it up: {complaint}."
                            : look.Outcome == LookOutcome.Served
                                ? $"{target.ServerName} at {target.Address}:{target.Port} still serves another certificate ({seen})."
                            : $"{target.ServerName} at {target.Address}:{target.Port} cannot be reached by TLS: {look.Message}.",
                        "Correct what the message names; it is tried again by itself."
                    );
                await Task.Delay(TimeSpan.FromMilliseconds(50), clock, ct);
            }
        }
        return looks;
    }

    private async Task<BeaconProblem> UndoAsync(
        IConnector connector,
        SwapRecord record,
        Exception cause,
        Neighbours neighbours,
        CancellationToken ct
    )
    {
        step("putting everything back");
        var left = journal.Restore(record);
        var died = false;
        if (connector.IsRunning())
            connector.TakeUp();
        else
        {
            died = true;
            connector.Start();
        }
        await SettleAsync(connector, ct);
        journal.Close(record.Order);
        var problem =
            cause as BeaconProblem
            ?? new BeaconProblem(ProblemCode.CannotWrite, cause.Message, "Check the disk and the permissions on the host.");
        var after =
            !connector.IsRunning() ? "The server is not running; start it by hand."
            : await neighbours.WorseAsync(ct) is { } worse
                ? $"Our changes were put back, but clients are refused still: {worse}. Its configuration was changed by somebody else and was taken up now; correct it."
            : died ? "Everything was put back and the server was started again."
            : left.Count > 0 ? $"{string.Join(", ", left)} was changed by somebody else meanwhile and is left as it is."
            : "Everything is as it was.";
        return new(problem.Code, $"{problem.Message} {after}", problem.Cure);
    }
}
