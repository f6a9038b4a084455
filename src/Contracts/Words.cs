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
[JsonConverter(typeof(OrderKindWord))]
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

    /// <summary>Be met by the service at an address of the host.</summary>
    Meet,

    /// <summary>A kind that this program does not know, from a newer one: the order ends as not supported.</summary>
    Unknown,
}

/// <summary>As <see cref="HyphenEnum{T}"/>; a word that is not known is <see cref="OrderKind.Unknown"/>, so that one order does not spoil the others.</summary>
public sealed class OrderKindWord : JsonConverter<OrderKind>
{
    public override OrderKind Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options)
    {
        var word = reader.TokenType == JsonTokenType.String ? reader.GetString() : null;
        return word is not null && Enum.TryParse<OrderKind>(word, ignoreCase: true, out var kind) && char.IsAsciiLetter(word[0])
            ? kind
            : OrderKind.Unknown;
    }

    public override void Write(Utf8JsonWriter writer, OrderKind value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString().ToLowerInvariant());
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
    Expired,
}
