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

    /// <summary>Make a key and a CSR, and say the CSR: an authority that is not ours answers it by hand.</summary>
    Prepare,

    /// <summary>Put the answer together with the key that was prepared, and into its services.</summary>
    Complete,

    /// <summary>Learn how to get into a device, or forget it when nothing sealed comes along.</summary>
    KeepDevice,

    /// <summary>Do something with an entry of the store; <see cref="StoreAct"/> says what.</summary>
    Store,

    /// <summary>End what a service lets pass without TLS.</summary>
    RequireTls,

    /// <summary>Take such an end back.</summary>
    AllowClearText,

    /// <summary>Have a service take no version of TLS below one (<see cref="Order.Lowest"/>).</summary>
    RaiseTls,

    /// <summary>Say what an order of another kind would change (<see cref="Order.Of"/>); changes nothing.</summary>
    Preview,

    /// <summary>Look at a part of some networks (<see cref="Order.Sweep"/>).</summary>
    Sweep,

    /// <summary>Change what a trust store trusts (<see cref="Order.Trust"/>).</summary>
    Trust,

    /// <summary>Say which anchors a trust store has (<see cref="Order.Trust"/>); changes nothing.</summary>
    TellTrust,

    /// <summary>Take a provider of a federation a step further or back (<see cref="Order.Federation"/>).</summary>
    Federate,

    /// <summary>A kind that this program does not know, from a newer one: the order ends as not supported.</summary>
    Unknown,
}

/// <summary>What a listener on the wire reads of a service that is used without TLS.</summary>
[JsonConverter(typeof(OpenWord<Readable>))]
public enum Readable
{
    /// <summary>User names and passwords.</summary>
    Logins,
    Mail,

    /// <summary>Web pages and what is sent to them.</summary>
    Pages,
    Files,

    /// <summary>Questions to a database or a directory, and their answers.</summary>
    Queries,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>The lowest version of TLS that a service shall take. Those below have been given up by all (RFC 8996).</summary>
[JsonConverter(typeof(OpenWord<LowestTls>))]
public enum LowestTls
{
    Tls12,
    Tls13,

    /// <summary>A version that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>What a service does for mail.</summary>
[JsonConverter(typeof(OpenWord<MailUse>))]
public enum MailUse
{
    /// <summary>Takes mail from other organisations' servers (RFC 5321).</summary>
    ServerToServer,

    /// <summary>Takes mail from programs that send (RFC 6409).</summary>
    Submission,
    Imap,
    Pop,

    /// <summary>Mail in a browser.</summary>
    WebMail,

    /// <summary>Programs find their settings there.</summary>
    ClientSetup,

    /// <summary>Mobile devices.</summary>
    MobileSync,

    /// <summary>A use that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>How TLSA records in DNS stand to what is served.</summary>
[JsonConverter(typeof(OpenWord<RecordStanding>))]
public enum RecordStanding
{
    /// <summary>There are none.</summary>
    None,

    /// <summary>One of them means what is served, or an authority above it.</summary>
    Matches,

    /// <summary>None of them does: clients that go by them refuse it.</summary>
    Mismatch,

    /// <summary>DNS does not say, or what is served is not known here.</summary>
    NotKnown,

    /// <summary>A standing that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>What can be done with the store.</summary>
[JsonConverter(typeof(OpenWord<StoreAct>))]
public enum StoreAct
{
    /// <summary>Take in certificates, with their keys or for keys that are on the host already.</summary>
    Import,

    /// <summary>Give an entry out: its certificates, or its key too when it may leave the host.</summary>
    Export,

    /// <summary>Give an entry a label; who carried it is renamed.</summary>
    Relabel,

    /// <summary>Give a label back to who carried it before.</summary>
    UndoLabel,

    /// <summary>Lay an entry aside: its key is kept, no server can be given it.</summary>
    Archive,

    /// <summary>Take an entry out of the archive.</summary>
    Restore,

    /// <summary>Delete an entry with its key.</summary>
    Remove,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>The form in which an entry is given out.</summary>
[JsonConverter(typeof(OpenWord<ExportForm>))]
public enum ExportForm
{
    /// <summary>Certificates, leaf first, in PEM; a key as encrypted PKCS#8.</summary>
    Pem,

    /// <summary>The leaf alone, DER.</summary>
    Der,

    /// <summary>Certificates in a certs-only PKCS#7.</summary>
    Pkcs7,

    /// <summary>PKCS#12 with AES-256.</summary>
    Pkcs12,

    /// <summary>PKCS#12 with Triple-DES and SHA-1, for old programs.</summary>
    Pkcs12Legacy,

    /// <summary>A Java keystore: PKCS#12, its label the alias.</summary>
    JavaKeystore,

    /// <summary>A form that this program does not know, from a newer one.</summary>
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

    public static string WordOf(T value) => ByMember[value];

    private static readonly Dictionary<T, string> ByMember = ByWord.ToDictionary(w => w.Value, w => w.Key);

    public override void Write(Utf8JsonWriter writer, T value, JsonSerializerOptions options) => writer.WriteStringValue(WordOf(value));
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

    /// <summary>By AUTH TLS (RFC 4217, section 4).</summary>
    Ftp,

    /// <summary>By the StartTLS operation (RFC 4511, section 4.14).</summary>
    Ldap,

    /// <summary>By an SSLRequest packet that answers the server's greeting.</summary>
    Mysql,

    /// <summary>By STARTTLS in a client's stream (RFC 6120, section 5).</summary>
    Xmpp,

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

/// <summary>Of what a concern is.</summary>
[JsonConverter(typeof(OpenWord<ConcernSubject>))]
public enum ConcernSubject
{
    /// <summary>One certificate of ours.</summary>
    Certificate,

    /// <summary>One service on a host.</summary>
    Service,

    /// <summary>One host.</summary>
    Host,

    /// <summary>One request.</summary>
    Request,

    /// <summary>The service itself, its authorities and what they publish.</summary>
    House,

    /// <summary>Of something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>Why something needs a hand.</summary>
[JsonConverter(typeof(OpenWord<ConcernKind>))]
public enum ConcernKind
{
    /// <summary>The service answers in the clear only.</summary>
    PlainOnly,

    /// <summary>Nothing answered.</summary>
    NoAnswer,

    /// <summary>Something answered, but no TLS handshake came about.</summary>
    HandshakeFailed,

    /// <summary>A certificate, or a list, is past its end.</summary>
    Expired,

    /// <summary>The certificate's life has not begun.</summary>
    NotYetValid,

    /// <summary>It is on the authority's revocation list.</summary>
    Revoked,

    /// <summary>It signed itself.</summary>
    SelfSigned,

    /// <summary>Its issuer is not trusted.</summary>
    UnknownIssuer,

    /// <summary>An intermediate certificate is not sent along.</summary>
    IntermediateMissing,

    /// <summary>The name asked for is in the common name only.</summary>
    CommonNameOnly,

    /// <summary>The name asked for is not in it.</summary>
    NameMissing,

    /// <summary>It is not meant for servers.</summary>
    WrongPurpose,

    /// <summary>Key or signature is too weak.</summary>
    Weak,

    /// <summary>An authority in its chain is past its end.</summary>
    IssuerExpired,

    /// <summary>The life of an authority in its chain has not begun.</summary>
    IssuerNotYetValid,

    /// <summary>An authority in its chain was revoked.</summary>
    IssuerRevoked,

    /// <summary>An authority in its chain may not certify one of its names.</summary>
    OutOfBounds,

    /// <summary>A part of it cannot be read, or must be understood and is not.</summary>
    Malformed,

    /// <summary>Its chain does not hold together.</summary>
    BrokenChain,

    /// <summary>What a service serves ends soon, and nothing of ours renews it.</summary>
    EndsSoon,

    /// <summary>It still takes a version of TLS that nobody should (RFC 8996).</summary>
    OldVersion,

    /// <summary>The certificates of its chain do not follow upon each other.</summary>
    OutOfOrder,

    /// <summary>Names and passwords go there without TLS.</summary>
    LoginsInTheClear,

    /// <summary>Its certificate demands a stapled answer, and there is none (RFC 7633).</summary>
    StapleMissing,

    /// <summary>The stapled answer is out of date, of somebody else, or about another certificate.</summary>
    StapleUnusable,

    /// <summary>A service that has a certificate of ours serves none.</summary>
    BindingBroken,

    /// <summary>A service serves another edition than the one it was bound to.</summary>
    BindingBehind,

    /// <summary>What a service sends as its certificate cannot be read.</summary>
    CertificateMalformed,

    /// <summary>A service is described in a way that nothing can be bound to.</summary>
    ServiceProblem,

    /// <summary>The last try to renew a certificate failed; it is tried again.</summary>
    RenewalFailed,

    /// <summary>A server could not be put back after a swap; nothing is tried until somebody orders it again.</summary>
    Stuck,

    /// <summary>The edition in use is on hold.</summary>
    OnHold,

    /// <summary>A certificate was granted and never issued.</summary>
    NotIssuedYet,

    /// <summary>A certificate's next key waits for TLSA records that are not in DNS yet.</summary>
    RecordsToAdd,

    /// <summary>DNS still has TLSA records of a key that is used no more.</summary>
    RecordsToRemove,

    /// <summary>Partners of a federation have not learnt of the next signing certificate.</summary>
    PartnersToLearn,

    /// <summary>A provider's step to its next signing certificate failed.</summary>
    SigningFailed,

    /// <summary>A host's agent has not been heard from.</summary>
    HostAway,

    /// <summary>An agent says that something on its host keeps it from working.</summary>
    HostProblem,

    /// <summary>Somebody waits for an approval.</summary>
    WaitingForApproval,

    /// <summary>A CSR has to be carried to an authority that is not ours, or its answer back.</summary>
    WaitingOutside,

    /// <summary>Granted requests wait for the authority's key.</summary>
    AuthorityAway,

    /// <summary>What is published could not be brought to a further point.</summary>
    PushFailed,

    /// <summary>The root's list expires, or there is none.</summary>
    RootCrl,

    /// <summary>The root's key still lies on this machine.</summary>
    TakeAway,

    /// <summary>A zone of the settings is not allowed by the authority's own certificate.</summary>
    ZoneOutOfBounds,

    /// <summary>No backup can be taken, since there is no key to seal it to.</summary>
    NoRecoveryKey,

    /// <summary>Somebody tried what they may not do.</summary>
    Attempt,

    /// <summary>Two hosts say that they serve one name.</summary>
    ClaimedElsewhere,

    /// <summary>Nothing answers at an address that stands in certificates.</summary>
    Unreachable,

    /// <summary>It did not answer in time.</summary>
    TimedOut,

    /// <summary>The server there has no such file.</summary>
    Missing,

    /// <summary>The server there answers with an error.</summary>
    ServerError,

    /// <summary>It sends clients elsewhere, where many do not go.</summary>
    Redirected,

    /// <summary>What comes is larger than anything that belongs there.</summary>
    TooLarge,

    /// <summary>Something else than the kind of file that belongs there.</summary>
    WrongType,

    /// <summary>It belongs to another generation of the same authority.</summary>
    WrongGeneration,

    /// <summary>It belongs to somebody else.</summary>
    WrongIssuer,

    /// <summary>Its signature does not hold.</summary>
    BadSignature,

    /// <summary>An older file than the one that was published last.</summary>
    Stale,

    /// <summary>A certificate, or a list, expires before long, and nothing replaces it.</summary>
    ExpiresSoon,

    /// <summary>The responder's own certificate has ended.</summary>
    ResponderExpired,

    /// <summary>The responder does not answer for this issuer.</summary>
    ResponderRefuses,

    /// <summary>What it says of a certificate is not what is on record.</summary>
    WrongAnswer,

    /// <summary>A clock is wrong, there or here.</summary>
    ClockSkew,

    /// <summary>An authority's key cannot be used.</summary>
    KeyUnusable,

    /// <summary>An authority's certificate ends before a certificate issued now would live out its life.</summary>
    AuthorityEnds,

    /// <summary>An authority waits for its certificate.</summary>
    AuthorityWaits,

    /// <summary>A cause that this program does not know, from a newer one.</summary>
    Unknown,
}
