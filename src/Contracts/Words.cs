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
[JsonConverter(typeof(OpenWord<OrderKind>))]
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

/// <summary>
/// As <see cref="HyphenEnum{T}"/>; a word that is not known, from a newer program, is read as the member <c>Unknown</c>, so that it does not spoil what stands around it.
/// </summary>
public sealed class OpenWord<T> : JsonConverter<T>
    where T : struct, Enum
{
    private static readonly Dictionary<string, T> ByWord = Enum.GetValues<T>()
        .ToDictionary(v => JsonNamingPolicy.KebabCaseLower.ConvertName(v.ToString()));

    public static IReadOnlyCollection<string> Words => ByWord.Keys;

    public override T Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options)
    {
        var word = reader.TokenType == JsonTokenType.String ? reader.GetString() : null;
        // Whatever else stands there is passed over whole.
        reader.TrySkip();
        return Of(word ?? "");
    }

    /// <summary>A word's member; <c>Unknown</c> for one that is not known.</summary>
    public static T Of(string word) => ByWord.TryGetValue(word, out var value) ? value : Enum.Parse<T>("Unknown");

    public override void Write(Utf8JsonWriter writer, T value, JsonSerializerOptions options) =>
        writer.WriteStringValue(JsonNamingPolicy.KebabCaseLower.ConvertName(value.ToString()));
}

/// <summary>How a client comes to TLS at an endpoint.</summary>
[JsonConverter(typeof(OpenWord<ProbeProtocol>))]
public enum ProbeProtocol
{
    /// <summary>At once.</summary>
    Tls,

    /// <summary>By STARTTLS after EHLO (RFC 3207).</summary>
    Smtp,

    /// <summary>By STARTTLS (RFC 9051, section 6.2.1).</summary>
    Imap,

    /// <summary>By STLS (RFC 2595, section 4).</summary>
    Pop3,

    /// <summary>By an SSLRequest message before anything else.</summary>
    Postgresql,

    /// <summary>A way that this program does not know, from a newer one.</summary>
    Unknown,
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
[JsonConverter(typeof(OpenWord<LookOutcome>))]
public enum LookOutcome
{
    Served,
    PlainOnly,
    NoAnswer,
    HandshakeFailed,

    /// <summary>An outcome that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>How far an edition's life has gone.</summary>
[JsonConverter(typeof(HyphenEnum<LifePhase>))]
public enum LifePhase
{
    Fresh,
    Due,
    Expired,
}
