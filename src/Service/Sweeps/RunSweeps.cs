using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Core.Sweeps;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Trust;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Sweeps;

/// <summary>Starts sweeps within the ranges that this machine's administrator permitted, and stops them.</summary>
public sealed class RunSweeps(BeaconDb db, BeaconOptions options, TimeProvider clock, WorkBell bell, Changes changes)
{
    private const int MostRunning = 4;

    /// <exception cref="BeaconProblem">A network is not permitted, the host is not there, or too many sweeps run.</exception>
    public async Task<long> StartAsync(SweepWish wish, Caller caller, CancellationToken ct)
    {
        var plan = SweepPlan.Parse(wish.Networks, wish.Ports);
        ThrowUnlessPermitted(plan);
        var host = wish.From is { Length: > 0 } from
            ? await FindHost.ByNameAsync(db, from, ct)
            : await db.Hosts.Where(h => h.State == HostState.Joined).OrderByDescending(h => h.LastSeen).FirstOrDefaultAsync(ct)
                ?? throw new BeaconProblem(
                    ProblemCode.HostAway,
                    "There is no host to look from.",
                    "Invite a host first: beacon host invite NAME."
                );
        host.ThrowIfGone();
        var now = clock.GetUtcNow();
        await using var write = await db.BeginWriteAsync(ct);
        var running = await db.Sweeps.Where(s => s.State == SweepState.Running).ToListAsync(ct);
        if (running.Count >= MostRunning || running.Exists(s => s.HostId == host.Id))
            throw new BeaconProblem(
                ProblemCode.TooBusy,
                running.Exists(s => s.HostId == host.Id)
                    ? $"{host.Name} looks over a network already."
                    : $"{running.Count} sweeps run already.",
                "Wait for its end, or stop it: beacon sweep stop NUMBER."
            );
        var sweep = Sweep.Of(host.Id, caller.Name, plan, now);
        db.Sweeps.Add(sweep);
        await db.SaveChangesAsync(ct);
        db.Orders.Add(WorkOrder.Of(now, host.Id, sweep.NextPart(), null, null));
        await db.Note(
            now,
            caller.Actor,
            JournalAction.SweepStarted,
            $"sweep {sweep.Id}",
            $"{string.Join(", ", plan.Networks)} at {plan.Ports.Count} ports, {plan.Total} endpoints, from {host.Name}"
        );
        await write.CommitAsync(ct);
        bell.Ring(host.Id);
        changes.Tell("sweep", sweep.Id.ToString());
        return sweep.Id;
    }

    private void ThrowUnlessPermitted(SweepPlan plan)
    {
        var permitted = options.SweepNetworks;
        if (plan.Outside(permitted) is not { } outside)
            return;
        throw new BeaconProblem(
            ProblemCode.NotAllowed,
            permitted.Count == 0
                ? "No network may be looked over yet."
                : $"{outside} is not within the networks that may be looked over: {string.Join(", ", permitted)}.",
            "The administrator of the service's machine permits networks by BEACON_SWEEPS, for example BEACON_SWEEPS=10.20.0.0/16."
        );
    }

    public async Task StopAsync(long number, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var sweep =
            await db.Sweeps.FirstOrDefaultAsync(s => s.Id == number, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no sweep {number}.", "See beacon sweep list.");
        if (sweep.State != SweepState.Running)
            throw new BeaconProblem(ProblemCode.WrongState, $"Sweep {number} has ended already.", "Nothing to do.");
        var now = clock.GetUtcNow();
        sweep.Stop(now);
        foreach (
            var o in await db
                .Orders.Where(o => o.HostId == sweep.HostId && o.Kind == OrderKind.Sweep && o.State == OrderState.Queued)
                .ToListAsync(ct)
        )
            o.Cancel(now);
        await db.Note(now, caller.Actor, JournalAction.SweepStopped, $"sweep {number}", $"{sweep.Tried} of {sweep.Total} endpoints");
        await write.CommitAsync(ct);
        changes.Tell("sweep", number.ToString());
    }
}

/// <summary>Takes what an agent met in one part, and places the order for the next; within the transaction that ends the order.</summary>
public sealed class TakeSweepPart(BeaconDb db, JudgeLook judge, BeaconOptions options, WorkBell bell, Changes changes)
{
    private const int MostNames = 20;

    public async Task RunAsync(Hosts.Host host, WorkOrder order, OrderResult result, DateTimeOffset now, CancellationToken ct)
    {
        if (order.Content.Sweep is not { } part || await db.Sweeps.FirstOrDefaultAsync(s => s.Id == part.Number, ct) is not { } sweep)
            return;
        // A part that was under way when its sweep was stopped, or that was taken already, changes nothing.
        if (sweep.State != SweepState.Running || sweep.HostId != host.Id || sweep.Tried != part.First)
            return;
        if (!result.Done)
            sweep.Fail(
                JsonSerializer.Serialize(
                    result.Problem ?? new("internal", "The agent could not look.", "Look into its log."),
                    BeaconJson.Default.ProblemInfo
                ),
                now
            );
        else
        {
            var plan = SweepPlan.Parse(sweep.Networks, sweep.Ports);
            var findings = new List<SweepFinding>();
            foreach (var look in (result.Looks ?? []).Take(part.Count).Where(l => IsOf(plan, l)))
                findings.Add(await FindingAsync(sweep.Id, host, look, ct));
            db.SweepFindings.AddRange(findings);
            var serving = findings.Where(f => f.Serial is not null).ToList();
            sweep.Took(part.Count, findings.Count, serving.Count, serving.Count(f => f.Managed is null), now);
            if (sweep.State == SweepState.Running)
            {
                db.Orders.Add(WorkOrder.Of(now, host.Id, sweep.NextPart(), null, null));
                bell.Ring(host.Id);
            }
        }
        changes.Tell("sweep", sweep.Id.ToString());
    }

    /// <summary>An agent says what it met where it was sent, and nowhere else.</summary>
    private static bool IsOf(SweepPlan plan, LookReport look) =>
        plan.Ports.Contains(look.Port)
        && System.Net.IPAddress.TryParse(look.Address, out var address)
        && plan.Networks.Any(n => n.Contains(address));

    private async Task<SweepFinding> FindingAsync(long sweep, Hosts.Host host, LookReport look, CancellationToken ct)
    {
        var leaf = LeafOf(look);
        var names = leaf?.Names.Where(n => n.Kind is NameKind.Dns or NameKind.Ip).Select(n => n.Value).Take(MostNames).ToList() ?? [];
        // Nobody knows what clients call it: its own name is what they would have to.
        var called = names.Find(n => !n.StartsWith('*')) ?? look.ServerName;
        var judged = judge.Run(look with { ServerName = called }, host.Name);
        var managed = leaf is null ? null : await KeeperAsync(leaf, ct);
        var known = leaf is null || managed is not null ? null : await KnownAtAsync(leaf, ct);
        var endsSoon = judged.Accepted && managed is null && leaf?.NotAfter < look.At.AddDays(options.SoonDays);
        return new()
        {
            SweepId = sweep,
            Address = look.Address,
            Port = look.Port,
            Protocol = WellKnownPorts.ProtocolAt(look.Port),
            Severity = endsSoon ? Severity.Soon : judged.Severity,
            Word = endsSoon ? ServiceQueries.Word("ends-soon") : WordOf(judged),
            NamesJson = Shapes.Json(names),
            Issuer = leaf?.Issuer.ToString(),
            Serial = leaf?.Serial.Hex,
            NotAfter = leaf?.NotAfter,
            Managed = managed,
            Host = known?.Host,
            Service = known?.Service,
        };
    }

    private static string WordOf(LookInfo judged) => judged.Problems.FirstOrDefault() is { } p ? ServiceQueries.Word(p.Fault) : "accepted";

    private static X509? LeafOf(LookReport look)
    {
        try
        {
            return look.Chain.Count == 0 ? null : X509.Read(Convert.FromBase64String(look.Chain[0]));
        }
        catch (Exception e) when (e is BeaconProblem or FormatException)
        {
            return null;
        }
    }

    /// <summary>The certificate of ours that it is an edition of, or the host in whose store it lies.</summary>
    private async Task<string?> KeeperAsync(X509 leaf, CancellationToken ct)
    {
        var (serial, thumbprint) = (leaf.Serial.Hex, leaf.Thumbprint.Hex);
        var edition = await (
            from e in db.Editions.AsNoTracking()
            where e.Serial == serial
            join c in db.Certificates on e.CertificateId equals c.Id
            select new { c.Name, e.Der }
        ).FirstOrDefaultAsync(ct);
        if (edition is not null && X509.Read(edition.Der).Thumbprint.Hex == thumbprint)
            return edition.Name;
        var stored = await (
            from e in db.StoredEntries.AsNoTracking()
            where e.Thumbprint == thumbprint
            join h in db.Hosts on e.HostId equals h.Id
            select h.Name + ": " + e.Certificate
        ).FirstOrDefaultAsync(ct);
        return stored;
    }

    /// <summary>The service of a host of ours that serves it; null where no agent knows one.</summary>
    private async Task<(string Host, string Service)?> KnownAtAsync(X509 leaf, CancellationToken ct)
    {
        var serial = leaf.Serial.Hex;
        var known = await (
            from s in db.Services.AsNoTracking()
            where s.ServedSerial == serial
            join h in db.Hosts on s.HostId equals h.Id
            where h.State == HostState.Joined
            select new { Host = h.Name, Service = s.Name }
        ).FirstOrDefaultAsync(ct);
        return known is null ? null : (known.Host, known.Service);
    }
}
