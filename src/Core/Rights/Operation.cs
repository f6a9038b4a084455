namespace OrderlyBeacon.Core.Rights;

/// <summary>What can be asked of the service. The names are those of the operations in its OpenAPI document; each has a row in <see cref="RightsTable"/>.</summary>
public enum Operation
{
    SignIn,
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
    ListHosts,
    GetHost,
    InviteHost,
    GiveHost,
    RemoveHost,
    MeetHost,
    ListServices,
    GetService,
    PlanBinding,
    BindService,
    UnbindService,
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
    PreviewRequest,
    SubmitRequest,
    ListRequests,
    GetRequest,
    ApproveRequest,
    AmendRequest,
    RefuseRequest,
    WithdrawRequest,
    ListCertificates,
    GetCertificate,
    RenewCertificate,
    ChangePolicy,
    GiveCertificate,
    RevokeCertificate,
    ReleaseCertificate,
    ExportCertificate,
    FindEditions,
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

/// <summary>What somebody must be, before it is asked what the thing is.</summary>
public enum Role
{
    /// <summary>Anybody who can connect.</summary>
    Anyone,

    /// <summary>Anybody who is signed in: may read.</summary>
    Person,

    /// <summary>Administrators, and members of a group that holds a zone or network.</summary>
    Requester,

    /// <summary>Administrators, and members of the group approvers.</summary>
    Approver,
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
