using System.Collections.Concurrent;

namespace OrderlyBeacon.Service.Work;

/// <summary>Wakes agents' long polls and callers that wait for an order's end. Losing a ring costs a poll's time, nothing else.</summary>
public sealed class WorkBell
{
    private readonly ConcurrentDictionary<int, TaskCompletionSource> _hosts = [];
    private readonly ConcurrentDictionary<long, TaskCompletionSource> _orders = [];

    public void Ring(int hostId)
    {
        if (_hosts.TryRemove(hostId, out var s))
            s.TrySetResult();
    }

    /// <summary>Take the task before looking into the database, so that no ring is missed.</summary>
    public Task NextRing(int hostId) => _hosts.GetOrAdd(hostId, _ => New()).Task;

    public void Ended(long orderId)
    {
        if (_orders.TryRemove(orderId, out var s))
            s.TrySetResult();
    }

    public Task NextEnd(long orderId) => _orders.GetOrAdd(orderId, _ => New()).Task;

    private static TaskCompletionSource New() => new(TaskCreationOptions.RunContinuationsAsynchronously);
}
