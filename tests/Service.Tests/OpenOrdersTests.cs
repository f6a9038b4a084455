using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A poll of an idle service asks nothing, and misses nothing.</summary>
public sealed class OpenOrdersTests
{
    [Fact]
    public async Task A_poll_that_is_woken_while_the_write_is_still_open_finds_the_order()
    {
        await using var s = await TimedService.StartAsync();
        var ct = TestContext.Current.CancellationToken;
        var open = s.Get<OpenOrders>();
        Task<List<Order>> PollAsync() => s.InAsync<BeaconDb, List<Order>>(db => open.TakeAsync(db, 1, ct));
        Assert.Empty(await PollAsync());
        Assert.Empty(await PollAsync());
        Task<List<Order>>? woken = null;
        await s.InAsync<BeaconDb>(async db =>
        {
            await using var write = await db.BeginWriteAsync(ct);
            var look = new Order(0, OrderKind.Look, null, null, null, null, null, null, 443, "127.0.0.1", TimedService.Shop, null);
            db.Orders.Add(WorkOrder.Of(s.Clock.GetUtcNow(), 1, look, null, null));
            await write.CommitAsync(ct);
            // As the bell rings: before the one who wrote has left.
            woken = PollAsync();
        });
        Assert.Equal(OrderKind.Look, Assert.Single(await woken!).Kind);
    }
}
