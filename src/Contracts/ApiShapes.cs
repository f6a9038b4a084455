namespace OrderlyBeacon.Contracts;

/// <summary>An answer of several rows, with the cursor for the next ones; null at the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);

// ---- people

/// <param name="Kind"><c>cookie</c> for the console or <c>token</c> for programs.</param>
public sealed record SignIn(string Name, string Password, string Kind);

public sealed record Session(string Name, IReadOnlyList<string> Groups, DateTimeOffset Until, string? Token)
{
    /// <summary>Whether a second administrator must consent to what outlasts a session.</summary>
    public bool SecondPerson { get; init; }
}

/// <summary>The password once more: for a few minutes it is proof enough for what outlasts a session.</summary>
public sealed record ConfirmSignIn(string Password);

/// <param name="Old">The password so far, when it is one's own; null when an administrator sets somebody else's.</param>
public sealed record NewPassword(string? Old, string New);

public sealed record NewGroups(IReadOnlyList<string> Groups);

/// <param name="Owner">A person's name, or <c>group:NAME</c>.</param>
public sealed record NewOwner(string Owner);

/// <summary>What an administrator wants to do that a second one must consent to.</summary>
/// <param name="Operation">As in the OpenAPI document.</param>
/// <param name="About">The call's address.</param>
/// <param name="Body">What goes along, without secrets.</param>
public sealed record ConsentInfo(
    long Number,
    string Operation,
    string About,
    string Body,
    string By,
    DateTimeOffset At,
    DateTimeOffset Until,
    string? ConsentedBy,
    bool Used
);

/// <summary>Has the service connect to an address and meet the host's agent there.</summary>
public sealed record MeetWish(string Address);

public sealed record NewPerson(string Name, string Password, IReadOnlyList<string> Groups);

/// <param name="Locked">Sign-ins under this name have to wait, since there were many wrong passwords.</param>
public sealed record PersonInfo(string Name, IReadOnlyList<string> Groups, bool Locked)
{
    /// <summary>Since when they may not sign in any more; the name stays theirs.</summary>
    public DateTimeOffset? Left { get; init; }
}

// ---- today and lookahead

/// <summary>Something that needs a hand: what is wrong, whom it hurts, what mends it.</summary>
/// <param name="About">What it is about, as <c>web01/booking.thistledown.example</c>.</param>
/// <param name="Kind">A short code.</param>
/// <param name="Command">The client command that does it, if one does.</param>
/// <param name="Link">The console page that does it.</param>
public sealed record Concern(
    Severity Severity,
    ConcernKind Kind,
    string About,
    string Reason,
    string Hurts,
    string Cure,
    string? Command,
    string? Link
)
{
    /// <summary>How many this tells of: one, or all of one cause.</summary>
    public int Count { get; init; } = 1;

    /// <summary>When it began; of many, the first that is named.</summary>
    public DateTimeOffset? Since { get; init; }
}

public sealed record TodayCounts(int Hosts, int HostsAway, int Services, int Certificates, int Fine, int Soon, int Now, int Failed);

public sealed record Today(DateTimeOffset At, TodayCounts Counts, IReadOnlyList<Concern> Concerns, Lookahead Lookahead);

/// <summary>One life on the time axis.</summary>
/// <param name="Kind"><c>certificate</c> for ours, <c>found</c> for one that a service serves and nobody renews, <c>authority</c> for an authority's own.</param>
/// <param name="Planned">When it will be renewed; null when nothing will.</param>
public sealed record LookaheadItem(
    string Kind,
    string Name,
    string? Host,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    DateTimeOffset? Planned,
    LifePhase Phase,
    Severity Severity,
    string State,
    string? Link
);

/// <param name="Items">Those that come first, each by its name.</param>
public sealed record Lookahead(DateTimeOffset At, IReadOnlyList<LookaheadItem> Items)
{
    /// <summary>How many of all expire between one mark and the next, the first from now on.</summary>
    public IReadOnlyList<LookaheadDensity> Density { get; init; } = [];
}

/// <param name="Until">The mark that ends the stretch.</param>
public sealed record LookaheadDensity(DateTimeOffset Until, int Count);

// ---- hosts and services

public sealed record HostInfo(
    string Name,
    HostState State,
    bool Online,
    DateTimeOffset? LastSeen,
    string? AgentVersion,
    IReadOnlyList<string> Addresses,
    int Services,
    DateTimeOffset? AgentCertificateEnds,
    ProblemInfo? Problem
)
{
    /// <summary>Who may order work on it.</summary>
    public string Owner
    {
        get => field ?? "";
        init;
    }
}

public sealed record HostDetail(HostInfo Host, IReadOnlyList<ServiceInfo> Services, IReadOnlyList<StoreEntryInfo> Entries);

/// <param name="Owner">Who may order work on it: a person's name, or <c>group:NAME</c>; the administrators when left out.</param>
public sealed record NewHost(string Name, string? Owner = null);

/// <param name="Code">To be typed on the host once; holds the root's fingerprint, so that the agent knows whom to trust.</param>
public sealed record HostInvitation(string Name, string Code, DateTimeOffset Until, string Command);

public sealed record LookProblemInfo(string Fault, Severity Severity, string Reason, string Hurts, string Cure);

/// <summary>A look with its judgement.</summary>
public sealed record LookInfo(
    string Address,
    int Port,
    string ServerName,
    DateTimeOffset At,
    LookOutcome Outcome,
    string? Protocol,
    bool Accepted,
    Severity Severity,
    IReadOnlyList<LookProblemInfo> Problems,
    IReadOnlyList<string> ChainSteps,
    CertificateText? Served,
    string? From
);

public sealed record ServiceInfo(
    string Host,
    string Name,
    string Connector,
    IReadOnlyList<string> Names,
    IReadOnlyList<EndpointInfo> Endpoints,
    IReadOnlyList<string> Places,
    string? CertificateFile,
    Severity Severity,
    string State,
    BindingInfo? Binding,
    LookInfo? Look,
    ProblemInfo? Problem
);

public sealed record BindingInfo(
    string Certificate,
    string Host,
    string Service,
    BindingState State,
    string? WantedSerial,
    string? SeenSerial,
    string? Message,
    DateTimeOffset? SeenAt
);

/// <param name="Certificate">Null only in a plan: what unbinding would change.</param>
public sealed record BindWish(string? Certificate, int? Port)
{
    /// <summary>Names of the service that the certificate lacks, and that shall be left out all the same: clients that use them will refuse it.</summary>
    public IReadOnlyList<string>? LeaveOut { get; init; }
}

// ---- profiles, requests

public sealed record ProfileInfo(
    string Id,
    int Revision,
    string Title,
    string Purpose,
    string Life,
    IReadOnlyList<string> Keys,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    bool Wildcards,
    bool Addresses,
    bool ForPeople,
    string Approval
)
{
    /// <summary>Whether it may be asked for now.</summary>
    public bool Offered { get; init; } = true;

    /// <summary>Whether who looks may ask for it.</summary>
    public bool ForYou { get; init; } = true;
    public int Approvals { get; init; }
    public IReadOnlyList<string> MayAsk
    {
        get => field ?? [];
        init;
    }
}

/// <summary>A profile as it is written down; the same as JSON and as YAML. Its form is /api/profile.schema.json.</summary>
/// <param name="Life">As <c>90d</c>, <c>12h</c>.</param>
/// <param name="Subject"><c>request</c>, <c>first-name</c> or <c>empty</c>.</param>
/// <param name="Fixed">Attributes that every subject gets, as <c>O=Thistledown Rail</c>.</param>
/// <param name="MayAsk">Groups; empty lets anyone allowed to request certificates.</param>
/// <param name="Approvals">0, 1 or 2 other people.</param>
/// <param name="AuthorityDepth">Makes authorities with this path length; null makes none.</param>
public sealed record ProfileDefinition(
    string Id,
    string Title,
    string Purpose,
    string Life,
    IReadOnlyList<string> Keys,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    ProfileNames Names,
    string Subject,
    string Fixed,
    IReadOnlyList<string> MayAsk,
    int Approvals,
    int? AuthorityDepth
);

/// <param name="Within">Zones; empty sets no bound.</param>
public sealed record ProfileNames(bool HostNames, bool Wildcards, bool Addresses, IReadOnlyList<string> Within, int Most);

public sealed record ProfileRevisionInfo(int Revision, DateTimeOffset At, string By, IReadOnlyList<ProfileDifference> Changes);

public sealed record ProfileDifference(string Field, string Before, string After);

public sealed record ProfileDetail(
    ProfileInfo Profile,
    ProfileDefinition Definition,
    IReadOnlyList<ProfileRevisionInfo> Revisions,
    long Certificates
);

public sealed record ProfileCopy(string Id, string? Title);

public sealed record ProfileText(string Yaml);

public sealed record NameVerdictInfo(string Name, Verdict Verdict, string Reason, string Evidence, string Cure);

/// <summary>What an edition was issued on.</summary>
public sealed record DecisionInfo(string Requester, DateTimeOffset At, IReadOnlyList<GrantInfo> Grants);

/// <summary>Why a name was certified, and who approved it.</summary>
public sealed record GrantInfo(string Name, string Reason, string Evidence, IReadOnlyList<string> By);

public sealed record FindingInfo(string Code, string Weight, string Subject, string Message, string Cure);

/// <summary>A wish for one edition.</summary>
/// <param name="Host">The host that makes the key; null with a CSR.</param>
/// <param name="Certificate">The name of the certificate; the first name when left out.</param>
/// <param name="Life">As <c>90d</c>, <c>12h</c>, <c>10m</c>; the profile's when left out.</param>
/// <param name="Csr">PEM or bare Base64, instead of a host.</param>
/// <param name="BindTo">Services of the host to put it into at once.</param>
/// <param name="RenewAfter">Part of the life after which it is renewed; two thirds when left out.</param>
public sealed record NewRequest(
    string? Host,
    string? Profile,
    IReadOnlyList<string>? Names,
    string? Subject,
    string? Certificate,
    string? Key,
    string? Life,
    string? Csr,
    IReadOnlyList<string>? BindTo,
    int? Port,
    double? RenewAfter,
    string? Note
)
{
    /// <summary>Names of the services in <see cref="BindTo"/> that are not asked for, and that shall be left out all the same: clients that use them will refuse it.</summary>
    public IReadOnlyList<string>? LeaveOut { get; init; }
}

/// <summary>A certificate's content in words.</summary>
public sealed record CertificateText(
    string Subject,
    IReadOnlyList<string> Names,
    string Issuer,
    string? Serial,
    string? Thumbprint,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string Key,
    IReadOnlyList<string> KeyUsage,
    IReadOnlyList<string> ExtendedKeyUsage,
    IReadOnlyList<string> Crl,
    IReadOnlyList<string> IssuerAt,
    string? LimitReason
)
{
    /// <summary>Where its OCSP responder is; empty in what was stored before there was one.</summary>
    public IReadOnlyList<string> Ocsp
    {
        get => field ?? [];
        init;
    }
}

/// <summary>What would happen: the verdicts and the certificate as it would be.</summary>
public sealed record RequestPreview(
    Verdict Overall,
    IReadOnlyList<NameVerdictInfo> Verdicts,
    IReadOnlyList<FindingInfo> Findings,
    CertificateText? Certificate,
    string CertificateName,
    DateTimeOffset? PlannedRenewal,
    IReadOnlyList<string> Warnings,
    string Outcome
)
{
    /// <summary>Names of the services to bind that would be left out: each needs a word.</summary>
    public IReadOnlyList<string> Uncovered { get; init; } = [];
}

public sealed record RequestInfo(
    long Number,
    RequestState State,
    string Certificate,
    string? Host,
    string Profile,
    string Requester,
    DateTimeOffset At,
    IReadOnlyList<NameVerdictInfo> Verdicts,
    IReadOnlyList<FindingInfo> Findings,
    string Key,
    string? Serial,
    string? Reason,
    string? DecidedBy,
    IReadOnlyList<string> BindTo,
    long? OrderId,
    string? Note,
    string Cause
)
{
    /// <summary>How many people must approve it; 0 when nobody needs to.</summary>
    public int Needed { get; init; }
    public IReadOnlyList<ApprovalInfo> Approvals
    {
        get => field ?? [];
        init;
    }

    /// <summary>Names that were amended before the approval.</summary>
    public IReadOnlyList<AmendmentInfo> Amendments
    {
        get => field ?? [];
        init;
    }

    /// <summary>What is different from the certificate's edition in use; empty when there is none, or nothing is.</summary>
    public IReadOnlyList<string> Differences
    {
        get => field ?? [];
        init;
    }

    /// <summary>Where it came from: an address.</summary>
    public string? From { get; init; }
    public string Subject
    {
        get => field ?? "";
        init;
    }
    public string? Life { get; init; }
}

public sealed record ApprovalInfo(string By, DateTimeOffset At);

public sealed record AmendmentInfo(string By, DateTimeOffset At, IReadOnlyList<string> Before, IReadOnlyList<string> After, string Reason);

/// <param name="Names">The names it shall have, all of them.</param>
public sealed record Amendment(IReadOnlyList<string> Names, string Reason);

public sealed record Refusal(string Reason);

// ---- certificates

public sealed record CertificateInfo(
    string Name,
    string? Host,
    string Profile,
    IReadOnlyList<string> Names,
    string Key,
    Severity Severity,
    string State,
    string? Serial,
    DateTimeOffset? NotBefore,
    DateTimeOffset? NotAfter,
    DateTimeOffset? Planned,
    LifePhase? Phase,
    int Editions,
    IReadOnlyList<BindingInfo> Bindings,
    string? LastError,
    int Failures,
    DateTimeOffset? RetryAt,
    PolicyInfo Policy,
    long Version
)
{
    /// <summary>Whose it is: a person, <c>group:NAME</c>, <c>agent:HOST</c> or <c>system</c>.</summary>
    public string Owner
    {
        get => field ?? "";
        init;
    }
}

/// <summary>An edition as the table of all that was issued has it.</summary>
public sealed record IssuedEdition(
    string Certificate,
    string Serial,
    string Profile,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    EditionState State,
    DateTimeOffset? RevokedAt,
    string? RevocationReason
);

public sealed record PolicyInfo(double After, bool NewKey, bool Automatic);

public sealed record EditionInfo(
    string Serial,
    string Thumbprint,
    EditionState State,
    DateTimeOffset IssuedAt,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string KeyFingerprint,
    int ProfileRevision,
    long? Request,
    DateTimeOffset? RevokedAt,
    string? RevocationReason,
    string Issuer
);

public sealed record CertificateDetail(
    CertificateInfo Certificate,
    IReadOnlyList<EditionInfo> Editions,
    CertificateText? Text,
    IReadOnlyList<string> ChainSteps,
    IReadOnlyList<LookInfo> Looks,
    IReadOnlyList<OrderInfo> Orders
);

public sealed record Revocation(string Reason, string? Serial);

public sealed record HoldRelease(string? Serial);

/// <summary>Which editions to revoke: some serials, or all of a host, or all of one profile revision. Without <paramref name="Count"/> it is a preview.</summary>
/// <param name="Count">How many editions the caller expects to be meant; with another number nothing is done.</param>
public sealed record RevocationWish(
    string Reason,
    IReadOnlyList<string>? Serials,
    string? Host,
    string? Profile,
    int? Revision,
    int? Count
);

public sealed record RevocationItem(string Certificate, string Serial, DateTimeOffset NotAfter, EditionState State);

public sealed record RevocationOutcome(bool Done, int Count, IReadOnlyList<RevocationItem> Items, string? Crl);

/// <summary>What was published.</summary>
public sealed record CrlIssued(string Told);

/// <summary>An order's progress.</summary>
public sealed record OrderInfo(
    long Id,
    OrderKind Kind,
    OrderState State,
    string Host,
    string? Certificate,
    IReadOnlyList<string> Services,
    DateTimeOffset At,
    DateTimeOffset? Ended,
    IReadOnlyList<string> Steps,
    ProblemInfo? Problem,
    BindPlan? Plan,
    IReadOnlyList<LookInfo> Looks
);

public sealed record OrderAccepted(long Order);

public sealed record LookWish(string Address, string? ServerName, string? From)
{
    /// <summary>How to come to TLS; null takes what is known of the service, else what is usual at the port.</summary>
    public ProbeProtocol? Protocol { get; init; }
}

// ---- authorities, journal

/// <param name="State"><c>in-use</c>, <c>published</c> (not issuing yet), <c>past</c> or <c>withdrawn</c>.</param>
/// <param name="KeyNumber">Generations with the same key share it, and with it lists and responder.</param>
public sealed record GenerationInfo(
    int Number,
    string Subject,
    string Issuer,
    string Serial,
    string Thumbprint,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string Key,
    string CertificateAt,
    string State,
    int KeyNumber
);

public sealed record CrlInfo(long Number, DateTimeOffset ThisUpdate, DateTimeOffset NextUpdate, int Revoked, string At, long? BaseNumber);

/// <summary>Where and under which certificate OCSP questions are answered.</summary>
public sealed record ResponderInfo(string At, string Serial, DateTimeOffset NotAfter);

public sealed record AuthorityInfo(
    string Id,
    string Name,
    string Kind,
    string KeyState,
    IReadOnlyList<GenerationInfo> Generations,
    CrlInfo? Crl,
    CrlInfo? Delta,
    ResponderInfo? Responder,
    long Editions,
    string Pem,
    string? WaitsFor
)
{
    /// <summary>Keys of past generations, with what is still published for them.</summary>
    public IReadOnlyList<KeyInfo> OtherKeys
    {
        get => field ?? [];
        init;
    }

    /// <summary>Where its request lies and what was said there; null when it is carried by hand.</summary>
    public string? WaitsAt { get; init; }
}

/// <summary>A key that has a list of its own, besides the one that issues.</summary>
public sealed record KeyInfo(int KeyNumber, CrlInfo? Crl, CrlInfo? Delta, ResponderInfo? Responder);

/// <summary>What a renewal of an authority shall take.</summary>
/// <param name="NewKey">The kind of a new key, as <c>ec-p256</c>; null goes on with the same key.</param>
public sealed record RenewalWish(string? NewKey);

/// <summary>A parent service to bring an authority's request to, and who asks there.</summary>
/// <param name="Root">PEM of the root that is trusted for it.</param>
/// <param name="Profile">The profile there; <c>subordinate</c> when left out.</param>
public sealed record ParentWish(string Url, string Root, string Name, string Password, string? Profile, string? Life);

/// <summary>How a subordinate authority's request stands; once it is issued with the certificate and all above it, each in base64.</summary>
public sealed record SubordinateAnswer(RequestState State, string? Reason, IReadOnlyList<string> Files);

/// <summary>What was done, in sentences.</summary>
public sealed record Told(IReadOnlyList<string> Sentences);

/// <summary>What a renewal would change, before anything is done.</summary>
/// <param name="Steps">What will be done, in order, and by whom.</param>
/// <param name="Chains">The chain that each generation's editions follow then.</param>
/// <param name="Points">What each address will hold.</param>
/// <param name="Lists">How revocation is published, for which key, until when.</param>
/// <param name="Hosts">Hosts whose agents do not have the newest root yet.</param>
/// <param name="Warnings">What to know before beginning.</param>
public sealed record Rehearsal(
    string Authority,
    int Generation,
    bool NewKey,
    string Key,
    IReadOnlyList<string> Steps,
    IReadOnlyList<RehearsedChain> Chains,
    IReadOnlyList<RehearsedPoint> Points,
    IReadOnlyList<string> Lists,
    IReadOnlyList<string> Hosts,
    DateTimeOffset? SideBySideUntil,
    IReadOnlyList<string> Warnings
);

public sealed record RehearsedChain(string Who, long Editions, DateTimeOffset? LastEnds, IReadOnlyList<string> Chain);

public sealed record RehearsedPoint(string At, string Holds, bool Changes);

// ---- health of the hierarchy

/// <param name="Fault">As <c>missing</c>, <c>stale</c>, <c>wrong-generation</c>; see docs/guide/authority.md.</param>
/// <param name="Causes">Likely causes, the likeliest first.</param>
public sealed record HealthFinding(string Fault, Severity Severity, string Reason, IReadOnlyList<string> Causes, string Hurts, string Cure);

/// <summary>An address that stands in certificates, as a client finds it.</summary>
/// <param name="Kind"><c>issuer-certificate</c>, <c>crl</c>, <c>delta-crl</c> or <c>ocsp</c>.</param>
/// <param name="WrittenIn">Which certificates name it.</param>
public sealed record HealthPoint(
    string Kind,
    string Uri,
    string WrittenIn,
    Severity Severity,
    string Told,
    HealthFinding? Finding,
    DateTimeOffset? FreshUntil
);

public sealed record HealthGeneration(
    int Number,
    int KeyNumber,
    string State,
    string Serial,
    string Key,
    string KeyState,
    DateTimeOffset? NotBefore,
    DateTimeOffset? NotAfter,
    Severity Severity,
    IReadOnlyList<HealthFinding> Findings,
    IReadOnlyList<HealthPoint> Points,
    long Editions,
    DateTimeOffset? LastEditionEnds
)
{
    /// <summary>The authority and the number of the generation that signed it; null when it signed itself or waits.</summary>
    public HealthLink? SignedBy { get; init; }
}

public sealed record HealthLink(string Authority, int Generation);

public sealed record HealthAuthority(string Id, string Name, string Kind, Severity Severity, IReadOnlyList<HealthGeneration> Generations);

/// <summary>The whole hierarchy as clients see it.</summary>
public sealed record HealthReport(
    DateTimeOffset At,
    Severity Severity,
    int Points,
    int Findings,
    IReadOnlyList<HealthAuthority> Authorities
)
{
    /// <summary>Further points that lists are brought to.</summary>
    public IReadOnlyList<HealthPush> Pushes
    {
        get => field ?? [];
        init;
    }
}

public sealed record HealthPush(string Target, bool Good, string Told, DateTimeOffset At);

/// <summary>Files that a person carries, each as its bytes in base64; what they are is seen from their content.</summary>
public sealed record CarriedFiles(IReadOnlyList<string> Files);

public sealed record JournalEntryInfo(
    long Sequence,
    DateTimeOffset At,
    string Actor,
    string Action,
    string Subject,
    string Detail,
    string Previous,
    string Hash
);

/// <summary>What changed, for live views: the noun and its name.</summary>
public sealed record ChangeEvent(string Noun, string Id);

/// <summary>RFC 9457, with our code and cure.</summary>
public sealed record Problem(string? Type, string? Title, int? Status, string? Detail, string? Code, string? Cure);
