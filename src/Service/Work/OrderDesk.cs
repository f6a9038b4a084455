using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>Places orders that somebody waits for, and reads orders.</summary>
public sealed class OrderDesk(BeaconDb db, WorkBell bell, Hosts.Presence presence, TimeProvider clock)
{
    /// <summary>What is noted of an order.</summary>
    public sealed record Noted(Actor Actor, JournalAction Action, string Subject);

    /// <param name="noted">Null for an order that changes nothing.</param>
    public async Task<WorkOrder> PlaceAsync(Hosts.Host host, Order content, Noted? noted, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        var order = WorkOrder.Of(now, host.Id, content, null, null);
        db.Orders.Add(order);
        if (noted is not null)
            await db.Note(now, noted.Actor, noted.Action, noted.Subject);
        await write.CommitAsync(ct);
        bell.Ring(host.Id);
        return order;
    }

    /// <summary>Places an order that changes nothing and waits for its answer.</summary>
    /// <exception cref="BeaconProblem">What the agent reports, or <see cref="ProblemCode.HostAway"/> when it does not answer in time.</exception>
    public async Task<WorkOrder> AskAsync(Hosts.Host host, Order content, TimeSpan patience, CancellationToken ct, Noted? noted = null)
    {
        ThrowIfAway(host);
        var order = await PlaceAsync(host, content, noted, ct);
        var until = clock.GetUtcNow() + patience;
        while (true)
        {
            var end = bell.NextEnd(order.Id);
            var now = await db.Orders.AsNoTracking().SingleAsync(o => o.Id == order.Id, ct);
            if (!now.IsOpen)
                return now.Result is { Done: false, Problem: { } p }
                    ? throw new BeaconProblem(
                        Enum.TryParse<ProblemCode>(p.Code.Replace("-", ""), true, out var code) ? code : ProblemCode.Internal,
                        p.Message,
                        p.Cure
                    )
                    : now;
            var left = until - clock.GetUtcNow();
            if (left <= TimeSpan.Zero)
                break;
            try
            {
                await end.WaitAsync(left, ct);
            }
            catch (TimeoutException) { }
        }
        await using var write = await db.BeginWriteAsync(ct);
        (await db.Orders.SingleAsync(o => o.Id == order.Id, ct)).Cancel(clock.GetUtcNow());
        await write.CommitAsync(ct);
        throw new BeaconProblem(
            ProblemCode.HostAway,
            $"The agent on {host.Name} did not answer within {patience.TotalSeconds:0} seconds.",
            "See whether it runs: beacon host show " + host.Name + "."
        );
    }

    public bool IsOnline(Hosts.Host h) => presence.IsOnline(h);

    public DateTimeOffset? LastSeen(Hosts.Host h) => presence.LastSeen(h);

    public void ThrowIfAway(Hosts.Host host)
    {
        host.ThrowIfGone();
        if (!IsOnline(host))
            throw new BeaconProblem(
                ProblemCode.HostAway,
                $"{host.Name} has not been heard from{(LastSeen(host) is { } t ? $" since {t:yyyy-MM-dd HH:mm} UTC" : "")}.",
                "Start its agent, then repeat."
            );
    }

    public static async Task<List<OrderInfo>> InfosAsync(BeaconDb db, IQueryable<WorkOrder> orders, CancellationToken ct)
    {
        var rows = await (
            from o in orders.AsNoTracking()
            join h in db.Hosts on o.HostId equals h.Id
            from c in db.Certificates.Where(c => c.Id == o.CertificateId).DefaultIfEmpty()
            orderby o.Id descending
            select new
            {
                o,
                Host = h.Name,
                Certificate = c == null ? null : c.Name,
            }
        ).ToListAsync(ct);
        return
        [
            .. rows.Select(x => new OrderInfo(
                x.o.Id,
                x.o.Kind,
                x.o.State,
                x.Host,
                x.Certificate,
                x.o.Content.Services ?? [],
                x.o.At,
                x.o.EndedAt,
                x.o.Steps,
                x.o.Result?.Problem,
                x.o.Result?.Plan,
                Shapes.Looks(x.o.LooksJson)
            )
            {
                Request = x.o.RequestId,
                Device = x.o.Content.Device,
            }),
        ];
    }

    public static void MapOrders(RouteGroupBuilder api) =>
        api.MapGet(
                "/orders/{id:long}",
                async (long id, BeaconDb db, CancellationToken ct) =>
                    TypedResults.Ok(
                        (await InfosAsync(db, db.Orders.Where(o => o.Id == id), ct)).FirstOrDefault()
                            ?? throw new BeaconProblem(
                                ProblemCode.NotFound,
                                $"There is no order {id}.",
                                "Orders are shown with their request or certificate."
                            )
                    )
            )
            .Is(Operation.GetOrder)
            .WithTags("Orders");
}
