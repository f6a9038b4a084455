using System.Text.Json;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Work;

/// <summary>What one agent shall do. Delivered until its end is reported; agents do each order once however often they get it.</summary>
public sealed class WorkOrder
{
    private const int MostSteps = 100,
        MostOfStep = 500;

    public long Id { get; private init; }
    public int HostId { get; private init; }
    public OrderKind Kind { get; private init; }
    public OrderState State { get; private set; }
    public int? CertificateId { get; private init; }
    public long? RequestId { get; private init; }

    /// <summary>The order without its number, as JSON of <see cref="Order"/>.</summary>
    public string ContentJson { get; private set; } = "";
    public string StepsJson { get; private set; } = "[]";
    public string? ResultJson { get; private set; }
    public string LooksJson { get; private set; } = "[]";
    public DateTimeOffset At { get; private init; }
    public DateTimeOffset? EndedAt { get; private set; }

    public bool IsOpen => State is OrderState.Queued or OrderState.Taken;

    public static WorkOrder Of(DateTimeOffset at, int hostId, Order content, int? certificateId, long? requestId) =>
        new()
        {
            At = at,
            HostId = hostId,
            Kind = content.Kind,
            CertificateId = certificateId,
            RequestId = requestId,
            ContentJson = JsonSerializer.Serialize(content, BeaconJson.Default.Order),
            State = OrderState.Queued,
        };

    public Order Content => JsonSerializer.Deserialize(ContentJson, BeaconJson.Default.Order)! with { Id = Id };

    public OrderResult? Result => ResultJson is null ? null : JsonSerializer.Deserialize(ResultJson, BeaconJson.Default.OrderResult);

    public IReadOnlyList<string> Steps => JsonSerializer.Deserialize(StepsJson, BeaconJson.Default.ListString)!;

    public void Take()
    {
        if (State == OrderState.Queued)
            State = OrderState.Taken;
    }

    /// <returns>Whether it is another one than the last, and there is room for it.</returns>
    public bool AddStep(string step)
    {
        var steps = (List<string>)Steps;
        var kept = Cut(step);
        if (steps.Count >= MostSteps || (steps.Count > 0 && steps[^1] == kept))
            return false;
        steps.Add(kept);
        StepsJson = JsonSerializer.Serialize(steps, BeaconJson.Default.ListString);
        return true;
    }

    private static string Cut(string step) => step.Length > MostOfStep ? step[..MostOfStep] : step;

    public void End(OrderResult result, string looksJson, DateTimeOffset at)
    {
        (State, EndedAt, LooksJson) = (result.Done ? OrderState.Done : OrderState.Failed, at, looksJson);
        StepsJson = JsonSerializer.Serialize([.. result.Steps.Take(MostSteps).Select(Cut)], BeaconJson.Default.ListString);
        // What was sealed has been read, or never will be: it need not lie here.
        if (Content is { } content && (content.Sealed ?? content.Store?.Sealed) is not null)
            ContentJson = JsonSerializer.Serialize(
                content with
                {
                    Sealed = null,
                    Store = content.Store is { } store ? store with { Sealed = null } : null,
                },
                BeaconJson.Default.Order
            );
        // What a single look met is judged by others than us as well, as long as it lies here.
        var looks = Kind == OrderKind.Look ? result.Looks : null;
        ResultJson = JsonSerializer.Serialize(result with { Looks = looks, Steps = [], Anchors = null }, BeaconJson.Default.OrderResult);
    }

    /// <summary>What was given out is with who asked: it need not lie here.</summary>
    public void ForgetGivenOut()
    {
        if (Result is { } result)
            ResultJson = JsonSerializer.Serialize(result with { Sealed = null }, BeaconJson.Default.OrderResult);
    }

    public void Cancel(DateTimeOffset at) => (State, EndedAt) = (OrderState.Cancelled, at);
}
