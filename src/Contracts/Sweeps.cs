using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

[JsonConverter(typeof(OpenWord<SweepState>))]
public enum SweepState
{
    Running,
    Done,

    /// <summary>A person stopped it; what was found until then stays.</summary>
    Stopped,

    /// <summary>It could not go on.</summary>
    Failed,

    /// <summary>A state that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <param name="Networks">Addresses and ranges, within those that an administrator permitted.</param>
/// <param name="Ports">Null: those that servers with TLS usually listen at.</param>
/// <param name="From">The host whose agent looks; null: the one that was heard of last.</param>
public sealed record SweepWish(IReadOnlyList<string> Networks, IReadOnlyList<int>? Ports, string? From);

/// <summary>A look over whole networks, with how far it is.</summary>
/// <param name="Total">Endpoints that it looks at.</param>
/// <param name="Tried">Those that it has looked at.</param>
/// <param name="Answering">Those where something listens.</param>
/// <param name="Serving">Those that serve a certificate.</param>
/// <param name="Unmanaged">Those whose certificate nobody looks after.</param>
/// <param name="Problem">Why it could not go on.</param>
public sealed record SweepInfo(
    long Number,
    SweepState State,
    IReadOnlyList<string> Networks,
    IReadOnlyList<int> Ports,
    string From,
    string By,
    DateTimeOffset At,
    DateTimeOffset? Ended,
    long Total,
    long Tried,
    int Answering,
    int Serving,
    int Unmanaged,
    ProblemInfo? Problem
);

/// <summary>What a sweep met at one endpoint.</summary>
/// <param name="State">What clients make of it, in words: <c>accepted</c>, <c>expired</c>, <c>self-signed</c> …</param>
/// <param name="Managed">The certificate of ours that it is, or the host whose store has it; null when nobody looks after it.</param>
/// <param name="Host">The host whose agent knows the server, when nobody looks after the certificate.</param>
/// <param name="Service">The service there.</param>
/// <param name="TakeOver">What to do so that it is looked after; null when it is.</param>
public sealed record SweepFindingInfo(
    string Address,
    int Port,
    ProbeProtocol Protocol,
    Severity Severity,
    string State,
    IReadOnlyList<string> Names,
    string? Issuer,
    string? Serial,
    DateTimeOffset? NotAfter,
    string? Managed,
    string? Host,
    string? Service,
    string? TakeOver
);

/// <summary>What one issuer has in a sweep that nobody looks after.</summary>
public sealed record SweepGroup(string Issuer, int Count, DateTimeOffset FirstEnd);

/// <summary>A sweep with its unmanaged certificates by issuer, the first to expire first.</summary>
public sealed record SweepDetail(SweepInfo Sweep, IReadOnlyList<SweepGroup> Groups);

/// <summary>A part of a sweep that an agent looks at in one order.</summary>
/// <param name="First">Number of its first endpoint, from 0.</param>
public sealed record SweepPart(IReadOnlyList<string> Networks, IReadOnlyList<int> Ports, long First, int Count)
{
    /// <summary>The sweep that it is of.</summary>
    public long Number { get; init; }
}

/// <summary>How clients come to TLS at well-known ports (services(5)).</summary>
public static class WellKnownPorts
{
    public static ProbeProtocol ProtocolAt(int port) =>
        port switch
        {
            25 or 587 => ProbeProtocol.Smtp,
            143 => ProbeProtocol.Imap,
            110 => ProbeProtocol.Pop3,
            5432 => ProbeProtocol.Postgresql,
            21 => ProbeProtocol.Ftp,
            389 => ProbeProtocol.Ldap,
            3306 => ProbeProtocol.Mysql,
            5222 => ProbeProtocol.Xmpp,
            _ => ProbeProtocol.Tls,
        };
}
