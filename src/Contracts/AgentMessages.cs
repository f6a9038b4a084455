namespace OrderlyBeacon.Contracts;

/// <summary>Where a service answers.</summary>
/// <param name="Tls">Whether clients can have TLS there.</param>
public sealed record EndpointInfo(string Address, int Port, bool Tls)
{
    /// <summary>How clients come to it.</summary>
    public ProbeProtocol Protocol { get; init; }

    /// <summary>Whether clients can use it without TLS; null from agents that do not say.</summary>
    public bool? ClearText { get; init; }

    /// <summary>What is read on the wire of clients that use it so; empty when nothing is; null from agents that do not say.</summary>
    public IReadOnlyList<Readable>? Readable { get; init; }
}

/// <summary>What one connection met, raw: the service judges it.</summary>
/// <param name="Chain">DER certificates in Base64, leaf first.</param>
public sealed record LookReport(
    string Address,
    int Port,
    string ServerName,
    DateTimeOffset At,
    LookOutcome Outcome,
    string Message,
    string? Protocol,
    IReadOnlyList<string> Chain
)
{
    /// <summary>The service that was looked at, as its host names it; null when an address was.</summary>
    public string? Service { get; init; }

    /// <summary>The versions of TLS that it takes, oldest first, as <c>TLS 1.2</c>; null when it was not asked, or did not say.</summary>
    public IReadOnlyList<string>? Versions { get; init; }

    /// <summary>The answer about its certificate that it staples (RFC 6066, section 8), Base64 of its DER; empty when it sends none; null when it was not asked, or takes no TLS 1.2.</summary>
    public string? Staple { get; init; }

    /// <summary>What can be read of clients that do without TLS there; null when it was not tried, or is not clear.</summary>
    public IReadOnlyList<Readable>? Readable { get; init; }

    /// <summary>More certificates are neither sent nor judged; clients follow 16 at most.</summary>
    public const int MostCertificates = 24;
}

/// <summary>A problem as it travels between agent and service.</summary>
public sealed record ProblemInfo(string Code, string Message, string Cure);

/// <summary>A service that a connector found.</summary>
/// <param name="Name">Its name on its host, which no other service there has: the first server name, or the kind of server.</param>
/// <param name="Places">Files and lines where it is configured.</param>
/// <param name="Problem">Why this service cannot be changed now, if so.</param>
public sealed record FoundService(
    string Connector,
    string Name,
    IReadOnlyList<string> Names,
    IReadOnlyList<EndpointInfo> Endpoints,
    IReadOnlyList<string> Places,
    string? CertificateFile,
    ProblemInfo? Problem,
    IReadOnlyList<LookReport> Looks
)
{
    /// <summary>Its configuration does not say what clients call it: the names are its certificate's, or its host's.</summary>
    public bool NamesAreAssumed { get; init; }

    /// <summary>Its agent has ended its use without TLS, and knows what was there before.</summary>
    public bool RequiresTls { get; init; }

    /// <summary>The lowest version of TLS that its agent has set, knowing what was there before; null when it has set none.</summary>
    public LowestTls? Lowest { get; init; }
}

/// <summary>A keyed entry of the host's store.</summary>
public sealed record StoreEntryInfo(string Certificate, string Serial, string Thumbprint, DateTimeOffset NotAfter, bool Live)
{
    /// <summary>SHA-256 over the public key, lower-case hexadecimal; null from agents that do not say.</summary>
    public string? Key { get; init; }

    /// <summary>The issuer's name, RFC 4514.</summary>
    public string? Issuer { get; init; }

    /// <summary>What a person called it; on one host one entry has it.</summary>
    public string? Label { get; init; }

    /// <summary>Whether the key may leave the host: it was said when the key was made or brought, and cannot be changed.</summary>
    public bool Releasable { get; init; }

    /// <summary>Laid aside: its key is kept, no server can be given it.</summary>
    public bool Archived { get; init; }
}

/// <summary>An authority's certificate that the host has: sent along with its own ones, or trusted.</summary>
/// <param name="Kind"><c>intermediate</c> or <c>anchor</c>.</param>
/// <param name="Thumbprint">SHA-256 over the whole certificate, lower-case hexadecimal.</param>
public sealed record StoreAuthorityInfo(string Kind, string Subject, string Issuer, string Thumbprint, DateTimeOffset NotAfter);

/// <summary>All that an agent knows about its host, sent at start, after changes and regularly.</summary>
/// <param name="Addresses">Addresses its services listen on.</param>
public sealed record AgentReport(
    string AgentVersion,
    DateTimeOffset At,
    IReadOnlyList<string> Addresses,
    IReadOnlyList<FoundService> Services,
    IReadOnlyList<StoreEntryInfo> Entries,
    ProblemInfo? Problem
)
{
    /// <summary>A text with more characters is not taken, nor the report that has it.</summary>
    public const int MostText = 16 << 10;

    /// <summary>Thumbprints of the roots that the agent trusts for this service; null from agents that do not say.</summary>
    public IReadOnlyList<string>? Anchors { get; init; }

    /// <summary>The public key that what only this agent may read is sealed to (RFC 9180), Base64; null from agents that have none.</summary>
    public string? SealKey { get; init; }

    /// <summary>Intermediates and anchors; null from agents that do not say.</summary>
    public IReadOnlyList<StoreAuthorityInfo>? Authorities { get; init; }

    /// <summary>What its clients and servers trust; null from agents that do not say.</summary>
    public IReadOnlyList<FoundTrustStore>? Trust { get; init; }

    /// <summary>Who signs for a federation there; null from agents that do not say.</summary>
    public IReadOnlyList<FoundProvider>? Providers { get; init; }
}

/// <summary>One order. Fields that its kind does not use are null.</summary>
/// <param name="Certificate">The certificate's name.</param>
/// <param name="Subject">The subject the CSR shall have.</param>
/// <param name="Names">The alternative names the CSR shall have.</param>
/// <param name="Serial">The edition to bind.</param>
/// <param name="Services">Names of services on this host.</param>
/// <param name="Anchors">Trust anchors and known intermediates, DER in Base64: what the new edition is judged by after the swap.</param>
public sealed record Order(
    long Id,
    OrderKind Kind,
    string? Certificate,
    string? Subject,
    IReadOnlyList<string>? Names,
    string? Key,
    string? Serial,
    IReadOnlyList<string>? Services,
    int? Port,
    string? Address,
    string? ServerName,
    IReadOnlyList<string>? Anchors
)
{
    /// <summary>How to come to TLS when looking at an address.</summary>
    public ProbeProtocol Protocol { get; init; }

    /// <summary>Of an answer from outside: the order that prepared its key.</summary>
    public long? Prepared { get; init; }

    /// <summary>Of an answer from outside: its certificates, PEM, leaf first.</summary>
    public string? Chain { get; init; }

    /// <summary>Whether the key that is made may leave the host.</summary>
    public bool Releasable { get; init; }

    /// <summary>What to do with the store.</summary>
    public StoreOrder? Store { get; init; }

    /// <summary>The device that it is about, by its full name; null for the agent's own host.</summary>
    public string? Device { get; init; }

    /// <summary>Of <see cref="OrderKind.Sweep"/>: what to look at.</summary>
    public SweepPart? Sweep { get; init; }

    /// <summary>Of <see cref="OrderKind.Trust"/> and <see cref="OrderKind.TellTrust"/>: the store, and what to do.</summary>
    public TrustOrder? Trust { get; init; }

    /// <summary>Of <see cref="OrderKind.Federate"/>: the provider, and what to do.</summary>
    public FederationOrder? Federation { get; init; }

    /// <summary>Of <see cref="OrderKind.RaiseTls"/>: the version.</summary>
    public LowestTls? Lowest { get; init; }

    /// <summary>Of a preview: the kind of order that it describes.</summary>
    public OrderKind? Of { get; init; }

    /// <summary>Of <see cref="OrderKind.KeepDevice"/>: a <see cref="DeviceAccess"/>, sealed to this agent, Base64.</summary>
    public string? Sealed { get; init; }
}

/// <summary>Something to do with the store.</summary>
/// <param name="Thumbprint">The entry; null for an import.</param>
/// <param name="Sealed">What only the agent reads, sealed to its key (RFC 9180), Base64: <see cref="ImportContent"/>, or the passphrase of an export.</param>
/// <param name="ReplyTo">The public key that what is given out is sealed to, Base64.</param>
public sealed record StoreOrder(
    StoreAct Act,
    string? Thumbprint = null,
    string? Label = null,
    ExportForm? Form = null,
    bool WithKey = false,
    string? Sealed = null,
    string? ReplyTo = null
);

/// <summary>What is brought into a store; it travels sealed.</summary>
public sealed record ImportContent(IReadOnlyList<FilePart> Files, string? Passphrase, bool Releasable);

/// <param name="Content">Base64.</param>
public sealed record FilePart(string Name, string Content);

/// <summary>What things are sealed for: opened for another purpose, they do not open.</summary>
public static class SealPurpose
{
    public const string Import = "orderly-beacon import",
        Passphrase = "orderly-beacon passphrase",
        Export = "orderly-beacon export",
        Device = "orderly-beacon device";
}

/// <summary>An entry that an import made.</summary>
/// <param name="Chain">PEM, leaf first.</param>
public sealed record TakenEntry(string Certificate, string Chain);

public sealed record OrderList(IReadOnlyList<Order> Orders);

/// <summary>A CSR for an order, PEM.</summary>
public sealed record OrderCsr(string Csr);

/// <summary>The edition issued for an order's CSR: PEM, leaf first, without the root.</summary>
public sealed record OrderEdition(string Serial, string Chain);

/// <summary>One thing a plan would change.</summary>
/// <param name="Diff">Unified text, lines starting with a blank, + or -.</param>
public sealed record FileChange(string Path, string Diff);

/// <summary>What a binding would change, shown before it is made.</summary>
public sealed record BindPlan(
    string Service,
    IReadOnlyList<string> Steps,
    IReadOnlyList<FileChange> Changes,
    IReadOnlyList<string> Warnings
)
{
    /// <summary>Names of the service that the certificate lacks: each needs a word before it is bound. The service adds them.</summary>
    public IReadOnlyList<string> Uncovered { get; init; } = [];
}

/// <summary>How an order ended; reported once, and again with the same content if the answer was lost.</summary>
public sealed record OrderResult(
    bool Done,
    ProblemInfo? Problem,
    IReadOnlyList<string> Steps,
    IReadOnlyList<LookReport>? Looks,
    BindPlan? Plan
)
{
    /// <summary>Of a prepared request: its CSR, PEM.</summary>
    public string? Csr { get; init; }

    /// <summary>Of an import: what it made.</summary>
    public IReadOnlyList<TakenEntry>? Taken { get; init; }

    /// <summary>Of an export: a <see cref="FilePart"/>, sealed to who asked, Base64.</summary>
    public string? Sealed { get; init; }

    /// <summary>Of a trust store that was asked for: all its anchors, DER in Base64.</summary>
    public IReadOnlyList<string>? Anchors { get; init; }
}

/// <summary>A step of an order's progress while it runs.</summary>
public sealed record OrderStep(string Step);

/// <summary>What agent and service say to each other when they meet at an address.</summary>
public static class MeetingWords
{
    /// <summary>The beginning of the agent's step; its port follows.</summary>
    public const string Waiting = "waiting to be met at port ";
}
