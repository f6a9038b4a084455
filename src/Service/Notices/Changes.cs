using System.Collections.Concurrent;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Threading.Channels;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Notices;

/// <summary>Tells live views what changed. Lossy by design: a view reads again what it shows.</summary>
public sealed class Changes(IHostApplicationLifetime lifetime)
{
    private readonly ConcurrentDictionary<Channel<ChangeEvent>, byte> _listeners = [];

    private long _told;

    /// <summary>How often something was told.</summary>
    public long Told => Interlocked.Read(ref _told);

    public void Tell(string noun, string id)
    {
        Interlocked.Increment(ref _told);
        foreach (var l in _listeners.Keys)
            l.Writer.TryWrite(new(noun, id));
    }

    public async IAsyncEnumerable<SseItem<ChangeEvent?>> Listen([EnumeratorCancellation] CancellationToken ct)
    {
        var channel = Channel.CreateBounded<ChangeEvent>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.DropOldest });
        _listeners[channel] = 0;
        using var both = CancellationTokenSource.CreateLinkedTokenSource(ct, lifetime.ApplicationStopping);
        try
        {
            yield return new SseItem<ChangeEvent?>(null, "hello") { ReconnectionInterval = TimeSpan.FromSeconds(2) };
            while (!both.IsCancellationRequested)
            {
                using var beat = CancellationTokenSource.CreateLinkedTokenSource(both.Token);
                beat.CancelAfter(TimeSpan.FromSeconds(15));
                ChangeEvent? e = null;
                try
                {
                    e = await channel.Reader.ReadAsync(beat.Token);
                }
                catch (OperationCanceledException)
                {
                    if (both.IsCancellationRequested)
                        yield break;
                }
                yield return e is null ? new SseItem<ChangeEvent?>(null, "beat") : new SseItem<ChangeEvent?>(e, "change");
            }
        }
        finally
        {
            _listeners.TryRemove(channel, out _);
        }
    }
}
