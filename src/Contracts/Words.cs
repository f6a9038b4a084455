using System.Text.Json;
using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

/// <summary>Writes enum members in lower case with hyphens, as <c>waiting-for-approval</c>.</summary>
public sealed class HyphenEnum<T>() : JsonStringEnumConverter<T>(JsonNamingPolicy.KebabCaseLower, allowIntegerValues: false)
    where T : struct, Enum;

/// <summary>How much something needs a hand.</summary>
[JsonConverter(typeof(HyphenEnum<Severity>))]
public enum Severity
{
    Fine,
    Soon,
    Now,
    Failed,
}

[JsonConverter(typeof(HyphenEnum<Verdict>))]
public enum Verdict
{
    Granted,
    NeedsApproval,
    Refused,
}

[JsonConverter(typeof(HyphenEnum<RequestState>))]
public enum RequestState
{
    Draft,
    WaitingForApproval,
    WaitingOutside,

    /// <summary>Every name is granted; the host's agent makes the key and the CSR.</summary>
    WaitingForHost,
    Issued,
    Refused,
    Withdrawn,
}

[JsonConverter(typeof(HyphenEnum<EditionState>))]
public enum EditionState
{
    Next,
    Current,
    Previous,
}

[JsonConverter(typeof(HyphenEnum<BindingState>))]
public enum BindingState
{
    Planned,
    Serving,
    Behind,
    Broken,
}

[JsonConverter(typeof(HyphenEnum<HostState>))]
public enum HostState
{
    Invited,
    Joined,
    Removed,
}

/// <summary>What an agent can be ordered to do.</summary>
[JsonConverter(typeof(HyphenEnum<OrderKind>))]
public enum OrderKind
{
    /// <summary>Make a key and a CSR, fetch the edition, keep it in the store, put it into its services.</summary>
    Obtain,

    /// <summary>Put the current edition into a service.</summary>
    Bind,

    /// <summary>Put a service back as it was before it was bound.</summary>
    Unbind,

    /// <summary>Say what a binding would change; changes nothing.</summary>
    Plan,

    /// <summary>Look at an address as a client would.</summary>
    Look,
}

[JsonConverter(typeof(HyphenEnum<OrderState>))]
public enum OrderState
{
    Queued,
    Taken,
    Done,
    Failed,
    Cancelled,
}

/// <summary>What a connection met.</summary>
[JsonConverter(typeof(HyphenEnum<LookOutcome>))]
public enum LookOutcome
{
    Served,
    PlainOnly,
    NoAnswer,
    HandshakeFailed,
}

/// <summary>How far an edition's life has gone.</summary>
[JsonConverter(typeof(HyphenEnum<LifePhase>))]
public enum LifePhase
{
    Fresh,
    Due,
    Lapsed,
}
