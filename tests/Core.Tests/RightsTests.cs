using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Every operation × every kind of caller × an own, another's and the system's object: said here a second time, so that a changed row shows.</summary>
public sealed class RightsTests
{
    // Columns: nobody, reader, requester, approver, administrator, agent, somebody of the directory without a role, host keeper, authority keeper, auditor.
    // In each: own, another's, the system's object; y may, - may not.
    private const string Everybody = "yyy yyy yyy yyy yyy yyy yyy yyy yyy yyy",
        SignedIn = "--- yyy yyy yyy yyy --- yyy yyy yyy yyy",
        Reading = "--- yyy yyy yyy yyy --- --- yyy yyy yyy",
        Requesting = "--- --- yyy --- yyy --- --- --- --- ---",
        Own = "--- --- y-- --- yy- --- --- --- --- ---",
        OwnRequest = "--- --- y-- --- yyy --- --- --- --- ---",
        Approving = "--- --- -yy -yy -yy --- --- --- --- ---",
        Refusing = "--- --- yyy yyy yyy --- --- --- --- ---",
        Administering = "--- --- --- --- yyy --- --- --- --- ---",
        KeepingHosts = "--- --- --- --- yyy --- --- yyy --- ---",
        KeepingOwnHosts = "--- --- --- --- yy- --- --- y-- --- ---",
        KeepingAuthorities = "--- --- --- --- yyy --- --- --- yyy ---",
        Auditing = "--- --- --- --- yyy --- --- --- --- yyy",
        AgentsOwn = "--- --- --- --- --- y-- --- --- --- ---";

    private static readonly Dictionary<string, string> Table = new()
    {
        [Everybody] = "GetWaysIn SignIn SignInByTicket GetSubordinateAnswer",
        [SignedIn] = "ConfirmSignIn GetSession SignOut ChangePassword",
        [Reading] = """
            GetToday GetLookahead ListHosts GetHost ListStore ListServices GetService GetRecords ListProfiles GetProfile
            GetProfileRevision CompareProfileRevisions ExportProfile ListRequests GetRequest ListCertificates GetCertificate ExportCertificate FindEditions
            CompareCertificates GetRequestCsr ListOutside ListSweeps GetSweep ListFindings ListAnchors GetAnchor ListTrustStores ListProviders GetProvider
            ListAuthorities GetAuthorityRequest RehearseRenewal GetHealth CheckHealth ListJournal GetOrder ListenToChanges GetMetrics GetDirectory FindInDirectory
            """,
        [Requesting] = "Look AskWhy RefreshDirectory",
        [Own] = """
            MeetHost PlanBinding BindService UnbindService PlanTls RequireTls RaiseTls AllowClearText ComposeRequest PreviewRequest SubmitRequest RenewCertificate SkipRecords ChangePolicy TakeAnswer PlanSigning SignWith GoOnSigning StepBackSigning KeepPartner
            ImportToStore RelabelEntry UndoLabel ArchiveEntry RestoreEntry RemoveEntry ExportEntry ExportKey
            """,
        [OwnRequest] = "WithdrawRequest",
        [Approving] = "ApproveRequest AmendRequest AcceptAnswer",
        [Refusing] = "RefuseRequest",
        [KeepingHosts] = "InviteHost GiveHost RemoveHost StartSweep StopSweep LookFromService",
        [KeepingOwnHosts] = "KeepDevice PlanTrust ChangeTrust",
        [KeepingAuthorities] = """
            ChangeProfile ImportProfile CopyProfile OfferProfile WithdrawProfile RevokeCertificate ReleaseCertificate RevokeMany IssueCrl InstallAuthorityAnswer
            PublishRootCrl BeginRenewal AskParent TakeUpGeneration UndoRenewal KeepOutside ForgetOutside
            """,
        [Auditing] = "ListPeople ListConsents",
        [Administering] = "AddPerson UnlockPerson RegroupPerson ResetPassword RemovePerson GiveConsent GiveCertificate TakeBackup",
        [AgentsOwn] = "AgentWork AgentReport AgentCsr AgentStep AgentResult",
    };

    /// <summary>What outlasts a session: a stolen one is not enough for any of these.</summary>
    private const string Fresh = """
        AddPerson RegroupPerson ResetPassword RemovePerson GiveConsent GiveHost ChangeProfile ImportProfile CopyProfile OfferProfile WithdrawProfile GiveCertificate
        RevokeMany InstallAuthorityAnswer PublishRootCrl BeginRenewal AskParent TakeUpGeneration UndoRenewal TakeBackup
        KeepOutside ForgetOutside ExportKey ChangeTrust
        """;

    private static readonly Who[] Callers =
    [
        new("", [], null),
        new("finch", ["others"], null),
        new("jay", ["web"], null),
        new("wren", [Who.Approvers], null),
        new("robin", [Who.Administrators], null),
        new("", [], "web01.thistledown.example"),
        // A group of the directory that is called like one of ours gives nothing.
        new("crow@thistledown.example", ["directory:administrators", "directory:web"], null),
        new("rook@thistledown.example", [Who.HostKeepers], null),
        new("lark@thistledown.example", [Who.AuthorityKeepers], null),
        new("owl@thistledown.example", [Who.Auditors], null),
    ];

    private static HashSet<Operation> Read(string text) =>
        [.. text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries).Select(Enum.Parse<Operation>)];

    [Fact]
    public void Every_operation_has_its_row_here_and_there()
    {
        var here = Table.Values.SelectMany(Read).ToList();
        Assert.Equal(here.Count, here.Distinct().Count());
        Assert.Equal(Enum.GetValues<Operation>().Order(), here.Order());
        Assert.Equal(Enum.GetValues<Operation>().Order(), RightsTable.All.Keys.Order());
    }

    [Fact]
    public void The_table_is_what_it_is_meant_to_be()
    {
        foreach (var (rows, operations) in Table)
        foreach (var operation in Read(operations))
        foreach (var (who, may) in Callers.Zip(rows.Split(' ')))
        {
            string[] owners = [Own(who), Other(operation, who), Thing.SystemOwner];
            foreach (var (owner, expected) in owners.Zip(may))
            {
                var denial = RightsOf.Role(operation, who, ["web"]) ?? RightsOf.Thing(operation, who, new("the thing", owner));
                Assert.True(
                    denial is null == (expected == 'y'),
                    $"{operation} by {(who.Host ?? who.Name)} on {owner}'s: {denial?.Reason ?? "allowed"}"
                );
            }
        }

        static string Own(Who who) => who.Host is { } host ? "agent:" + host : who.Name;
        static string Other(Operation operation, Who who) => who.Host is null ? "magpie" : "agent:web02.thistledown.example";
    }

    [Fact]
    public void What_outlasts_a_session_wants_a_fresh_proof()
    {
        var fresh = Read(Fresh);
        foreach (var (operation, right) in RightsTable.All)
            Assert.True(right.Fresh == fresh.Contains(operation), operation.ToString());
        // Only those who look after something are asked, so nobody else can be worn down by the question.
        Assert.All(
            // A key that has left its host cannot be called back: whoever may take it is asked.
            RightsTable.All.Where(r => r.Value.Fresh && r.Key != Operation.ExportKey),
            r => Assert.Contains(r.Value.Role, new[] { Role.Administrator, Role.HostKeeper, Role.AuthorityKeeper })
        );
    }

    [Fact]
    public void Groups_own_and_the_system_belongs_to_nobody()
    {
        var thing = new Thing("the certificate \"a\"", "group:web");
        Assert.Null(RightsOf.Thing(Operation.RenewCertificate, Callers[2], thing));
        Assert.Equal(ProblemCode.NotAllowed, RightsOf.Thing(Operation.RenewCertificate, Callers[1], thing)!.Code);
        // A person may be called as a group is: a name is no membership.
        Assert.NotNull(RightsOf.Thing(Operation.RenewCertificate, new("group:web", [], null), thing));
        foreach (var owner in new[] { "system", "agent:web01.thistledown.example" })
            Assert.All(Callers, c => Assert.NotNull(RightsOf.Thing(Operation.RenewCertificate, c, new("the certificate \"a\"", owner))));
        // An agent is nobody's namesake.
        Assert.NotNull(RightsOf.Role(Operation.GetToday, Callers[5], []));
        Assert.Equal(ProblemCode.NotAllowed, RightsOf.Role(Operation.AgentWork, Callers[4], [])!.Code);
        Assert.Equal(ProblemCode.NotSignedIn, RightsOf.Role(Operation.GetToday, Callers[0], [])!.Code);
    }
}
