namespace OrderlyBeacon.Core.Rights;

/// <summary>What can be asked of the service. The names are those of the operations in its OpenAPI document; each has a row in <see cref="RightsTable"/>.</summary>
public enum Operation
{
    GetWaysIn,
    SignIn,
    SignInByTicket,
    ConfirmSignIn,
    GetSession,
    SignOut,
    ChangePassword,
    ListPeople,
    AddPerson,
    UnlockPerson,
    RegroupPerson,
    ResetPassword,
    RemovePerson,
    ListConsents,
    GiveConsent,
    GetToday,
    GetLookahead,
    Look,

    /// <summary>From the service's own machine, which sees what agents do not.</summary>
    LookFromService,
    ListHosts,
    GetHost,
    InviteHost,
    GiveHost,
    RemoveHost,
    MeetHost,
    KeepDevice,
    ListStore,
    ImportToStore,
    RelabelEntry,
    UndoLabel,
    ArchiveEntry,
    RestoreEntry,
    RemoveEntry,
    ExportEntry,
    ExportKey,
    ListServices,
    GetService,
    GetRecords,
    PlanBinding,
    BindService,
    UnbindService,
    PlanTls,
    RequireTls,
    RaiseTls,
    AllowClearText,
    ListProviders,
    GetProvider,
    PlanSigning,
    SignWith,
    GoOnSigning,
    StepBackSigning,
    KeepPartner,
    ListSweeps,
    GetSweep,
    ListFindings,
    StartSweep,
    StopSweep,
    ListAnchors,
    GetAnchor,
    ListTrustStores,
    PlanTrust,
    ChangeTrust,
    AskWhy,
    ListProfiles,
    GetProfile,
    GetProfileRevision,
    CompareProfileRevisions,
    ExportProfile,
    ChangeProfile,
    ImportProfile,
    CopyProfile,
    OfferProfile,
    WithdrawProfile,
    ComposeRequest,
    PreviewRequest,
    SubmitRequest,
    ListRequests,
    GetRequest,
    ApproveRequest,
    AmendRequest,
    RefuseRequest,
    WithdrawRequest,
    GetRequestCsr,
    TakeAnswer,
    AcceptAnswer,
    ListOutside,
    KeepOutside,
    ForgetOutside,
    ListCertificates,
    GetCertificate,
    RenewCertificate,
    SkipRecords,
    ChangePolicy,
    GiveCertificate,
    RevokeCertificate,
    ReleaseCertificate,
    ExportCertificate,
    FindEditions,
    CompareCertificates,
    RevokeMany,
    ListAuthorities,
    IssueCrl,
    GetAuthorityRequest,
    InstallAuthorityAnswer,
    PublishRootCrl,
    GetSubordinateAnswer,
    RehearseRenewal,
    BeginRenewal,
    AskParent,
    TakeUpGeneration,
    UndoRenewal,
    GetDirectory,
    FindInDirectory,
    RefreshDirectory,
    GetHealth,
    CheckHealth,
    TakeBackup,
    ListJournal,
    GetOrder,
    ListenToChanges,
    GetMetrics,
    AgentWork,
    AgentReport,
    AgentCsr,
    AgentStep,
    AgentResult,
}

/// <summary>What somebody must be, before it is asked what the thing is. Administrators are all of what people can be.</summary>
public enum Role
{
    /// <summary>Anybody who can connect.</summary>
    Anyone,

    /// <summary>Anybody who is signed in: about themselves alone.</summary>
    Person,

    /// <summary>Reads: everybody whom an administrator let in, and members of the directory whose group has any role.</summary>
    Reader,

    /// <summary>Asks for certificates: the group requesters, and members of a group that holds a zone or network.</summary>
    Requester,

    /// <summary>Approves: the group approvers; members of a group that holds a zone approve names in it.</summary>
    Approver,

    /// <summary>Lets hosts in and takes them out: the group host-keepers.</summary>
    HostKeeper,

    /// <summary>Looks after authorities and profiles, and revokes: the group authority-keepers.</summary>
    AuthorityKeeper,

    /// <summary>Sees who may do what and who consented, and changes nothing: the group auditors.</summary>
    Auditor,
    Administrator,

    /// <summary>A host's agent, by its certificate.</summary>
    Agent,
}

/// <summary>What the caller must be to the thing.</summary>
public enum Bond
{
    /// <summary>Nothing: the role decides alone.</summary>
    None,

    /// <summary>Its owner, a member of the group that owns it, or an administrator; nobody when it is the system's own.</summary>
    Owner,

    /// <summary>Whoever asked for it, or an administrator.</summary>
    Requester,

    /// <summary>Anybody but the one who asked for it.</summary>
    NotRequester,

    /// <summary>The host whose agent calls.</summary>
    OwnHost,
}
