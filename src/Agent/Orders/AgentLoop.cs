using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>
/// The agent's life: undo what a kill cut off, deliver results that were not taken, then ask for work by long poll, do it, report; look around regularly.
/// </summary>
internal sealed class AgentLoop
{
    private static readonly TimeSpan LongestPause = TimeSpan.FromSeconds(30),
        LongestWait = TimeSpan.FromSeconds(25),
        ShortestWait = TimeSpan.FromSeconds(1),
        AnchorsEvery = TimeSpan.FromHours(1),
        GiveEvery = TimeSpan.FromMinutes(1);
    private readonly string _state;
    private readonly AgentSettings _settings;
    private readonly TimeProvider _clock;
    private readonly Action<string> _log;
    private readonly AgentIdentity _identity;
    private readonly AgentState _kept;
    private readonly OrderBook _book;
    private readonly Instances _instances;
    private readonly TrustStores _trust;
    private DateTimeOffset _nextReport,
        _nextAnchors,
        _nextGiving;

    public AgentLoop(string state, AgentSettings settings, TimeProvider clock, Action<string> log)
    {
        (_state, _settings, _clock, _log) = (state, settings, clock, log);
        _identity = new(state);
        _kept = AgentState.Of(state);
        _book = new(state);
        _instances = Instances.Of(settings.Connectors, settings.Host);
        _trust = new(settings.Trust, _instances, _kept.Trust);
    }

    public async Task RunAsync(CancellationToken ct)
    {
        var (store, bounds) = (_kept.Store, _kept.Bounds);
        await PutBackAsync(store, bounds, ct);
        store.TakeOverEarlier();
        using var service = new ServiceClient(_identity, new Uri(_settings.Service));
        var carryOut = new CarryOut(_kept, _instances, service, _identity, new(_trust, _kept.Trust, _clock), _clock);
        var pause = TimeSpan.Zero;
        while (!ct.IsCancellationRequested)
        {
            try
            {
                foreach (var (order, result) in _book.Unsent())
                    await DeliverAsync(service, order, result, ct);
                await RefreshIdentityAsync(service, ct);
                await ReportIfDueAsync(service, bounds, ct);
                GiveBackIfDue();
                var orders = await service.WorkAsync(NextWait(), ct);
                pause = TimeSpan.Zero;
                if (orders.Orders.Count > 0)
                    _nextGiving = DateTimeOffset.MinValue;
                foreach (var order in orders.Orders.OfType<Order>())
                    await DeliverAsync(service, order.Id, await DoneAsync(carryOut, order, ct), ct);
            }
            catch (BeaconProblem p) when (!ct.IsCancellationRequested)
            {
                // Doubling pauses with some chance in them, so that a thousand agents do not come back at once.
                var doubled = pause * 2 < LongestPause ? pause * 2 : LongestPause;
                pause = pause == TimeSpan.Zero ? TimeSpan.FromMilliseconds(500) : doubled;
                _log($"{p.Message} {p.Cure}");
                await Task.Delay(pause * (0.5 + Random.Shared.NextDouble()), _clock, ct);
            }
        }
    }

    /// <summary>What a kill cut off. Where it cannot be put back now, it is tried again before anything is changed, and whoever ordered that is told; until then others see the host.</summary>
    private async Task PutBackAsync(CertificateStore store, BoundBook bounds, CancellationToken ct)
    {
        try
        {
            await new SwapRun(store, _kept.Journal, bounds, _clock, _log).RecoverAsync(_instances.Find, ct);
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            _log($"what was cut off cannot be put back now: {e.Message}{(e is BeaconProblem p ? " " + p.Cure : "")}");
        }
    }

    /// <summary>Renews its own certificate when it is time, and learns of other roots.</summary>
    private async Task RefreshIdentityAsync(ServiceClient service, CancellationToken ct)
    {
        if (_clock.GetUtcNow() >= _identity.Planned())
        {
            await _identity.RenewAsync(new Uri(_settings.Service), _settings.Host, ct);
            service.Renew();
            _log("the agent's own certificate is renewed");
        }
        if (_clock.GetUtcNow() < _nextAnchors)
            return;
        if (await _identity.RefreshAnchorsAsync(new Uri(_settings.Service), ct))
        {
            service.Renew();
            _log("the service has other roots now; they are trusted");
        }
        _nextAnchors = _clock.GetUtcNow() + AnchorsEvery;
    }

    /// <summary>After work, and now and then for what looking around leaves.</summary>
    private void GiveBackIfDue()
    {
        if (_clock.GetUtcNow() < _nextGiving)
            return;
        SpareMemory.GiveBack();
        _nextGiving = _clock.GetUtcNow() + GiveEvery;
    }

    private async Task ReportIfDueAsync(ServiceClient service, BoundBook bounds, CancellationToken ct)
    {
        if (_clock.GetUtcNow() < _nextReport)
            return;
        if (
            await OrNullAsync("services and certificates", () => ReportAsync(bounds, ct)) is { } report
            && await RefusedAsync(service, report, ct) is { } why
        )
            await RefusedAsync(service, ShortMessages.Of(report, why), ct);
        _nextReport = _clock.GetUtcNow() + TimeSpan.FromSeconds(Math.Max(1, _settings.ReportSeconds));
    }

    private async Task<AgentReport> ReportAsync(BoundBook bounds, CancellationToken ct)
    {
        var report = await Surroundings.DescribeAsync(_instances, _kept.Store, bounds, _clock, ct);
        return ShortMessages.WithoutOverlong(
            report with
            {
                Anchors = _identity.AnchorThumbprints(),
                SealKey = _kept.SealKey.Public(),
                Authorities = Surroundings.Authorities(_kept.Store, _identity),
                Trust = await OrNullAsync("trust stores", () => Task.FromResult(_trust.Describe())),
                Providers = await OrNullAsync("providers", () => Task.FromResult(Surroundings.Providers(_instances, _kept.Fetches))),
            }
        );
    }

    /// <summary>Whatever is odd about one part of the host, the others are told, and work goes on; the service keeps what it knew.</summary>
    private async Task<T?> OrNullAsync<T>(string what, Func<Task<T>> describe)
        where T : class
    {
        try
        {
            return await describe();
        }
        catch (Exception e) when (e is not (OperationCanceledException or OutOfMemoryException))
        {
            _log($"what the host has of {what} cannot be told: {e.Message}{(e is BeaconProblem p ? " " + p.Cure : "")}");
            return null;
        }
    }

    /// <summary>What the service does not take of its surroundings keeps no host from its work: renewals go on, and people are told.</summary>
    /// <returns>Why it will never be taken as it is; null when it was, or may be later.</returns>
    private async Task<BeaconProblem?> RefusedAsync(ServiceClient service, AgentReport report, CancellationToken ct)
    {
        try
        {
            await service.ReportAsync(report, ct);
            return null;
        }
        catch (BeaconProblem p) when (p.Code is ProblemCode.TooBusy or ProblemCode.TooLarge or ProblemCode.InputInvalid)
        {
            _log($"the service does not take the report: {p.Message} {p.Cure}");
            return p.Code == ProblemCode.TooBusy ? null : p;
        }
    }

    /// <summary>How long a poll may wait: until the next report, within what the service and the network keep open.</summary>
    private TimeSpan NextWait()
    {
        var wait = _nextReport - _clock.GetUtcNow();
        if (wait > LongestWait)
            return LongestWait;
        if (wait < ShortestWait)
            return ShortestWait;
        return wait;
    }

    /// <summary>Carries an order out, unless it was already: then what came of it is still known.</summary>
    private async Task<OrderResult> DoneAsync(CarryOut carryOut, Order order, CancellationToken ct)
    {
        if (_book.Find(order.Id) is { } known)
            return known;
        var result = await carryOut.RunAsync(order, _log, ct);
        _book.Keep(order.Id, result);
        if (order.Kind is not (OrderKind.Look or OrderKind.Plan or OrderKind.Preview or OrderKind.Sweep or OrderKind.TellTrust))
            _nextReport = DateTimeOffset.MinValue;
        return result;
    }

    private async Task DeliverAsync(ServiceClient service, long order, OrderResult result, CancellationToken ct)
    {
        if (!await IsSettledAsync(service, order, result, ct))
            // Else the order would stay open, and be handed out for ever.
            await IsSettledAsync(service, order, ShortMessages.Of(result), ct);
        _book.Sent(order);
        _log(result.Done ? $"order {order} is done" : $"order {order} failed: {result.Problem?.Message}");
    }

    /// <returns>False where this result would be refused for ever, and the order waits for one.</returns>
    private async Task<bool> IsSettledAsync(ServiceClient service, long order, OrderResult result, CancellationToken ct)
    {
        try
        {
            await service.ResultAsync(order, result, ct);
            return true;
        }
        catch (BeaconProblem p)
            when (p.Code is ProblemCode.NotFound or ProblemCode.InputInvalid or ProblemCode.TooLarge or ProblemCode.WrongState)
        {
            _log($"the service does not take the result of order {order}: {p.Message}");
            return p.Code is ProblemCode.NotFound or ProblemCode.WrongState;
        }
    }
}
