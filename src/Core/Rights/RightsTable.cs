namespace OrderlyBeacon.Core.Rights;

/// <summary>One row: who may do an operation.</summary>
/// <param name="Fresh">The caller must have proved who they are a short while ago, and by setting a second administrator must consent: what outlasts a stolen session.</param>
public sealed record Right(Role Role, Bond Bond = Bond.None, bool Fresh = false);

/// <summary>Who may do what: the whole of it, in one place. An operation without a row cannot be called.</summary>
public static class RightsTable
{
    private static readonly Right Own = new(Role.Person);
    private static readonly Right Read = new(Role.Reader);
    private static readonly Right Audit = new(Role.Auditor);
    private static readonly Right KeepHosts = new(Role.HostKeeper);
    private static readonly Right KeepAuthorities = new(Role.AuthorityKeeper);
    private static readonly Right GuardAuthorities = new(Role.AuthorityKeeper, Fresh: true);
    private static readonly Right OwnThing = new(Role.Requester, Bond.Owner);
    private static readonly Right Guarded = new(Role.Administrator, Fresh: true);
    private static readonly Right Administer = new(Role.Administrator);
    private static readonly Right OwnAgent = new(Role.Agent, Bond.OwnHost);

    private static readonly Dictionary<Operation, Right> Rows = new()
    {
        [Operation.GetWaysIn] = new(Role.Anyone),
        [Operation.SignIn] = new(Role.Anyone),
        [Operation.SignInByTicket] = new(Role.Anyone),
        [Operation.ConfirmSignIn] = Own,
        [Operation.GetSession] = Own,
        [Operation.SignOut] = Own,
        [Operation.ChangePassword] = Own,
        [Operation.ListPeople] = Audit,
        [Operation.AddPerson] = Guarded,
        [Operation.UnlockPerson] = Administer,
        [Operation.RegroupPerson] = Guarded,
        [Operation.ResetPassword] = Guarded,
        [Operation.RemovePerson] = Guarded,
        [Operation.ListConsents] = Audit,
        [Operation.GiveConsent] = Guarded,
        [Operation.GetToday] = Read,
        [Operation.GetLookahead] = Read,
        [Operation.Look] = new(Role.Requester),
        [Operation.ListHosts] = Read,
        [Operation.GetHost] = Read,
        [Operation.InviteHost] = KeepHosts,
        [Operation.GiveHost] = new(Role.HostKeeper, Fresh: true),
        [Operation.RemoveHost] = KeepHosts,
        [Operation.MeetHost] = OwnThing,
        [Operation.KeepDevice] = new(Role.HostKeeper, Bond.Owner),
        [Operation.ListStore] = Read,
        [Operation.ImportToStore] = OwnThing,
        [Operation.RelabelEntry] = OwnThing,
        [Operation.UndoLabel] = OwnThing,
        [Operation.ArchiveEntry] = OwnThing,
        [Operation.RestoreEntry] = OwnThing,
        [Operation.RemoveEntry] = OwnThing,
        [Operation.ExportEntry] = OwnThing,
        [Operation.ExportKey] = new(Role.Requester, Bond.Owner, Fresh: true),
        [Operation.ListServices] = Read,
        [Operation.GetService] = Read,
        [Operation.GetRecords] = Read,
        [Operation.PlanBinding] = OwnThing,
        [Operation.BindService] = OwnThing,
        [Operation.UnbindService] = OwnThing,
        [Operation.PlanTls] = OwnThing,
        [Operation.RequireTls] = OwnThing,
        [Operation.AllowClearText] = OwnThing,
        [Operation.ListSweeps] = Read,
        [Operation.GetSweep] = Read,
        [Operation.ListFindings] = Read,
        [Operation.StartSweep] = KeepHosts,
        [Operation.StopSweep] = KeepHosts,
        [Operation.ListAnchors] = Read,
        [Operation.GetAnchor] = Read,
        [Operation.ListTrustStores] = Read,
        [Operation.PlanTrust] = new(Role.HostKeeper, Bond.Owner),
        [Operation.ChangeTrust] = new(Role.HostKeeper, Bond.Owner, Fresh: true),
        [Operation.AskWhy] = new(Role.Requester),
        [Operation.ListProfiles] = Read,
        [Operation.GetProfile] = Read,
        [Operation.GetProfileRevision] = Read,
        [Operation.CompareProfileRevisions] = Read,
        [Operation.ExportProfile] = Read,
        [Operation.ChangeProfile] = GuardAuthorities,
        [Operation.ImportProfile] = GuardAuthorities,
        [Operation.CopyProfile] = GuardAuthorities,
        [Operation.OfferProfile] = GuardAuthorities,
        [Operation.WithdrawProfile] = GuardAuthorities,
        [Operation.ComposeRequest] = OwnThing,
        [Operation.PreviewRequest] = OwnThing,
        [Operation.SubmitRequest] = OwnThing,
        [Operation.ListRequests] = Read,
        [Operation.GetRequest] = Read,
        [Operation.ApproveRequest] = new(Role.Approver, Bond.NotRequester),
        [Operation.AmendRequest] = new(Role.Approver, Bond.NotRequester),
        [Operation.RefuseRequest] = new(Role.Approver),
        [Operation.WithdrawRequest] = new(Role.Requester, Bond.Requester),
        [Operation.GetRequestCsr] = Read,
        [Operation.TakeAnswer] = OwnThing,
        [Operation.AcceptAnswer] = new(Role.Approver, Bond.NotRequester),
        [Operation.ListOutside] = Read,
        [Operation.KeepOutside] = GuardAuthorities,
        [Operation.ForgetOutside] = GuardAuthorities,
        [Operation.ListCertificates] = Read,
        [Operation.GetCertificate] = Read,
        [Operation.RenewCertificate] = OwnThing,
        [Operation.ChangePolicy] = OwnThing,
        [Operation.GiveCertificate] = Guarded,
        [Operation.RevokeCertificate] = KeepAuthorities,
        [Operation.ReleaseCertificate] = KeepAuthorities,
        [Operation.ExportCertificate] = Read,
        [Operation.FindEditions] = Read,
        [Operation.CompareCertificates] = Read,
        [Operation.RevokeMany] = GuardAuthorities,
        [Operation.ListAuthorities] = Read,
        [Operation.IssueCrl] = KeepAuthorities,
        [Operation.GetAuthorityRequest] = Read,
        [Operation.InstallAuthorityAnswer] = GuardAuthorities,
        [Operation.PublishRootCrl] = GuardAuthorities,
        [Operation.GetSubordinateAnswer] = new(Role.Anyone),
        [Operation.RehearseRenewal] = Read,
        [Operation.BeginRenewal] = GuardAuthorities,
        [Operation.AskParent] = GuardAuthorities,
        [Operation.TakeUpGeneration] = GuardAuthorities,
        [Operation.UndoRenewal] = GuardAuthorities,
        [Operation.GetDirectory] = Read,
        [Operation.FindInDirectory] = Read,
        [Operation.RefreshDirectory] = new(Role.Requester),
        [Operation.GetHealth] = Read,
        [Operation.CheckHealth] = Read,
        [Operation.TakeBackup] = Guarded,
        [Operation.ListJournal] = Read,
        [Operation.GetOrder] = Read,
        [Operation.ListenToChanges] = Read,
        [Operation.GetMetrics] = Read,
        [Operation.AgentWork] = OwnAgent,
        [Operation.AgentReport] = OwnAgent,
        [Operation.AgentCsr] = OwnAgent,
        [Operation.AgentStep] = OwnAgent,
        [Operation.AgentResult] = OwnAgent,
    };

    public static IReadOnlyDictionary<Operation, Right> All => Rows;

    public static Right Of(Operation operation) => Rows[operation];
}
