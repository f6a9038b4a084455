namespace OrderlyBeacon.Core.Rights;

/// <summary>One row: who may do an operation.</summary>
/// <param name="Fresh">The caller must have proved who they are a short while ago, and by setting a second administrator must consent: what outlasts a stolen session.</param>
public sealed record Right(Role Role, Bond Bond = Bond.None, bool Fresh = false);

/// <summary>Who may do what: the whole of it, in one place. An operation without a row cannot be called.</summary>
public static class RightsTable
{
    private static readonly Right Read = new(Role.Person);
    private static readonly Right OwnThing = new(Role.Requester, Bond.Owner);
    private static readonly Right Guarded = new(Role.Administrator, Fresh: true);
    private static readonly Right Administer = new(Role.Administrator);
    private static readonly Right OwnAgent = new(Role.Agent, Bond.OwnHost);

    private static readonly Dictionary<Operation, Right> Rows = new()
    {
        [Operation.SignIn] = new(Role.Anyone),
        [Operation.ConfirmSignIn] = Read,
        [Operation.GetSession] = Read,
        [Operation.SignOut] = Read,
        [Operation.ChangePassword] = Read,
        [Operation.ListPeople] = Administer,
        [Operation.AddPerson] = Guarded,
        [Operation.UnlockPerson] = Administer,
        [Operation.RegroupPerson] = Guarded,
        [Operation.ResetPassword] = Guarded,
        [Operation.RemovePerson] = Guarded,
        [Operation.ListConsents] = Administer,
        [Operation.GiveConsent] = Guarded,
        [Operation.GetToday] = Read,
        [Operation.GetLookahead] = Read,
        [Operation.Look] = new(Role.Requester),
        [Operation.ListHosts] = Read,
        [Operation.GetHost] = Read,
        [Operation.InviteHost] = Administer,
        [Operation.GiveHost] = Guarded,
        [Operation.RemoveHost] = Administer,
        [Operation.MeetHost] = OwnThing,
        [Operation.ListServices] = Read,
        [Operation.GetService] = Read,
        [Operation.PlanBinding] = OwnThing,
        [Operation.BindService] = OwnThing,
        [Operation.UnbindService] = OwnThing,
        [Operation.ListProfiles] = Read,
        [Operation.GetProfile] = Read,
        [Operation.GetProfileRevision] = Read,
        [Operation.CompareProfileRevisions] = Read,
        [Operation.ExportProfile] = Read,
        [Operation.ChangeProfile] = Guarded,
        [Operation.ImportProfile] = Guarded,
        [Operation.CopyProfile] = Guarded,
        [Operation.OfferProfile] = Guarded,
        [Operation.WithdrawProfile] = Guarded,
        [Operation.PreviewRequest] = OwnThing,
        [Operation.SubmitRequest] = OwnThing,
        [Operation.ListRequests] = Read,
        [Operation.GetRequest] = Read,
        [Operation.ApproveRequest] = new(Role.Approver, Bond.NotRequester),
        [Operation.AmendRequest] = new(Role.Approver, Bond.NotRequester),
        [Operation.RefuseRequest] = new(Role.Approver),
        [Operation.WithdrawRequest] = new(Role.Requester, Bond.Requester),
        [Operation.ListCertificates] = Read,
        [Operation.GetCertificate] = Read,
        [Operation.RenewCertificate] = OwnThing,
        [Operation.ChangePolicy] = OwnThing,
        [Operation.GiveCertificate] = Guarded,
        [Operation.RevokeCertificate] = Administer,
        [Operation.ReleaseCertificate] = Administer,
        [Operation.ExportCertificate] = Read,
        [Operation.FindEditions] = Read,
        [Operation.RevokeMany] = Guarded,
        [Operation.ListAuthorities] = Read,
        [Operation.IssueCrl] = Administer,
        [Operation.GetAuthorityRequest] = Read,
        [Operation.InstallAuthorityAnswer] = Guarded,
        [Operation.PublishRootCrl] = Guarded,
        [Operation.GetSubordinateAnswer] = new(Role.Anyone),
        [Operation.RehearseRenewal] = Read,
        [Operation.BeginRenewal] = Guarded,
        [Operation.AskParent] = Guarded,
        [Operation.TakeUpGeneration] = Guarded,
        [Operation.UndoRenewal] = Guarded,
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
