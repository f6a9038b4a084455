using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Sweeps;

namespace OrderlyBeacon.Service.Sweeps;

/// <summary>A look over whole networks, done by one host's agent part by part: a part is an order, and its end places the next.</summary>
public sealed class Sweep
{
    private const int PartSize = 256;

    public long Id { get; private init; }
    public int HostId { get; private init; }
    public string By { get; private init; } = "";
    public string NetworksJson { get; private init; } = "[]";
    public string PortsJson { get; private init; } = "[]";
    public SweepState State { get; private set; }
    public DateTimeOffset At { get; private init; }
    public DateTimeOffset? EndedAt { get; private set; }
    public long Total { get; private init; }
    public long Tried { get; private set; }
    public int Answering { get; private set; }
    public int Serving { get; private set; }
    public int Unmanaged { get; private set; }
    public string? ProblemJson { get; private set; }

    public static Sweep Of(int hostId, string by, SweepPlan plan, DateTimeOffset at) =>
        new()
        {
            HostId = hostId,
            By = by,
            NetworksJson = Shapes.Json(plan.Networks.Select(n => n.ToString())),
            PortsJson = Shapes.Json(plan.Ports.Select(p => p.ToString())),
            Total = plan.Total,
            At = at,
        };

    public IReadOnlyList<string> Networks => Shapes.Strings(NetworksJson);
    public IReadOnlyList<int> Ports => [.. Shapes.Strings(PortsJson).Select(int.Parse)];

    /// <summary>The order that goes on with it.</summary>
    public Order NextPart() =>
        new(0, OrderKind.Sweep, null, null, null, null, null, null, null, null, null, null)
        {
            Sweep = new(Networks, Ports, Tried, PartSize) { Number = Id },
        };

    /// <param name="count">How many endpoints the part had.</param>
    public void Took(int count, int answering, int serving, int unmanaged, DateTimeOffset now)
    {
        Tried = Math.Min(Total, Tried + count);
        (Answering, Serving, Unmanaged) = (Answering + answering, Serving + serving, Unmanaged + unmanaged);
        if (Tried == Total)
            End(SweepState.Done, now);
    }

    public void Fail(string problemJson, DateTimeOffset now)
    {
        ProblemJson = problemJson;
        End(SweepState.Failed, now);
    }

    public void Stop(DateTimeOffset now) => End(SweepState.Stopped, now);

    private void End(SweepState state, DateTimeOffset now)
    {
        if (State == SweepState.Running)
            (State, EndedAt) = (state, now);
    }
}

/// <summary>What a sweep met at one endpoint where something listens.</summary>
public sealed class SweepFinding
{
    public long Id { get; private init; }
    public long SweepId { get; init; }
    public string Address { get; init; } = "";
    public int Port { get; init; }
    public ProbeProtocol Protocol { get; init; }
    public Severity Severity { get; init; }
    public string Word { get; init; } = "";
    public string NamesJson { get; init; } = "[]";
    public string? Issuer { get; init; }
    public string? Serial { get; init; }
    public DateTimeOffset? NotAfter { get; init; }
    public string? Managed { get; init; }

    /// <summary>The host and its service that serve it, where an agent knows them and nobody looks after the certificate.</summary>
    public string? Host { get; init; }
    public string? Service { get; init; }
}
