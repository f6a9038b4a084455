using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>What agents call, each with its own client certificate.</summary>
internal static class AgentEndpoints
{
    /// <summary>Of a report, octets: five thousand services with what each of them serves.</summary>
    private const long MostReport = 32 << 20;

    public static void MapAgents(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/agent").WithTags("Agent");

        g.MapGet(
                "/work",
                async (
                    int? wait,
                    Caller caller,
                    BeaconDb db,
                    WorkBell bell,
                    OpenOrders open,
                    Presence presence,
                    TimeProvider clock,
                    IHostApplicationLifetime lifetime,
                    CancellationToken ct
                ) =>
                {
                    using var both = CancellationTokenSource.CreateLinkedTokenSource(ct, lifetime.ApplicationStopping);
                    var host = caller.HostId ?? (await FindAsync(db, caller, ct)).Id;
                    var until = clock.GetUtcNow() + TimeSpan.FromSeconds(Math.Clamp(wait ?? 0, 0, 60));
                    presence.Saw(host);
                    while (true)
                    {
                        var ring = bell.NextRing(host);
                        var orders = await open.TakeAsync(db, host, ct);
                        var left = until - clock.GetUtcNow();
                        if (orders.Count > 0 || left <= TimeSpan.Zero || both.IsCancellationRequested)
                            return TypedResults.Ok(new OrderList(orders));
                        try
                        {
                            await ring.WaitAsync(left, both.Token);
                        }
                        catch (Exception e) when (e is TimeoutException or OperationCanceledException) { }
                    }
                }
            )
            .Is(Operation.AgentWork);

        g.MapPost(
                "/report",
                async (AgentReport report, Caller caller, BeaconDb db, TakeReport take, CancellationToken ct) =>
                {
                    await take.RunAsync(caller.HostId ?? (await FindAsync(db, caller, ct)).Id, report, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.AgentReport)
            .WithMetadata(new BodyLimit(MostReport));

        MapOrders(g);
    }

    private static void MapOrders(RouteGroupBuilder g)
    {
        g.MapPost(
                "/orders/{id:long}/csr",
                async (long id, OrderCsr body, Caller caller, BeaconDb db, AnswerCsr answer, CancellationToken ct) =>
                    TypedResults.Ok(await answer.RunAsync(await FindAsync(db, caller, ct), id, body.Csr, ct))
            )
            .Is(Operation.AgentCsr);

        g.MapPost(
                "/orders/{id:long}/step",
                async (long id, OrderStep body, Caller caller, BeaconDb db, Changes changes, CancellationToken ct) =>
                {
                    var host = await FindAsync(db, caller, ct);
                    if (await AddStepAsync(db, host.Id, id, body.Step, ct))
                        changes.Tell("order", id.ToString());
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.AgentStep);

        g.MapPost(
                "/orders/{id:long}/result",
                async (long id, OrderResult result, Caller caller, BeaconDb db, TakeResult take, CancellationToken ct) =>
                {
                    await take.RunAsync(await FindAsync(db, caller, ct), id, result, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.AgentResult);
    }

    /// <summary>A step of an order that has ended comes late: nothing is written.</summary>
    private static async Task<bool> AddStepAsync(BeaconDb db, int hostId, long id, string step, CancellationToken ct)
    {
        var own = db.Orders.Where(o => o.Id == id && o.HostId == hostId);
        if (await own.AsNoTracking().FirstOrDefaultAsync(ct) is not { IsOpen: true } known || !known.AddStep(step))
            return false;
        await using var write = await db.BeginWriteAsync(ct);
        if (await own.FirstOrDefaultAsync(ct) is not { IsOpen: true } order)
            return false;
        order.AddStep(step);
        await write.CommitAsync(ct);
        return true;
    }

    private static async Task<Hosts.Host> FindAsync(BeaconDb db, Caller caller, CancellationToken ct)
    {
        var host =
            await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Id == caller.HostId, ct)
            ?? throw new BeaconProblem(ProblemCode.HostGone, $"The host {caller.Host} is not known.", "Invite it again.");
        host.ThrowIfGone();
        return host;
    }
}
