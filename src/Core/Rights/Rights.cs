namespace OrderlyBeacon.Core.Rights;

/// <summary>Who calls.</summary>
/// <param name="Name">The person's sign-in name; empty when nobody is signed in.</param>
/// <param name="Host">The host whose agent it is; null for people.</param>
public sealed record Who(string Name, IReadOnlyCollection<string> Groups, string? Host)
{
    public const string Administrators = "administrators";
    public const string Approvers = "approvers";

    public const string Requesters = "requesters";
    public const string HostKeepers = "host-keepers";
    public const string AuthorityKeepers = "authority-keepers";
    public const string Auditors = "auditors";
    public const string Readers = "readers";

    /// <summary>Groups whose members have a role. The directory's groups have one by the settings alone, whatever they are called.</summary>
    public static IReadOnlyList<string> RoleGroups { get; } =
    [Administrators, Approvers, Requesters, HostKeepers, AuthorityKeepers, Auditors, Readers];

    /// <summary>In front of a group of the directory, so that nobody there gets what a group here has by calling a group the same.</summary>
    public const string DirectoryPrefix = "directory:";

    /// <summary>Whether they are known by the directory, as <c>alice@thistledown.example</c>: no name here has that sign.</summary>
    public bool IsOfDirectory => Name.Contains('@');

    public bool IsPerson => Name.Length > 0 && Host is null;
    public bool IsAdministrator => IsPerson && Groups.Contains(Administrators);
}

/// <summary>What an operation is about.</summary>
/// <param name="Called">As people call it, for sentences: <c>the certificate "booking.thistledown.example"</c>.</param>
/// <param name="Owner">A person's name, <c>group:NAME</c>, or who the system is: <c>system</c>, <c>agent:HOST</c>. Of a request: who asked for it.</param>
public sealed record Thing(string Called, string Owner)
{
    public const string GroupPrefix = "group:";
    public const string SystemOwner = "system";

    /// <summary>The service's own, or an agent's own: no person acts on it.</summary>
    public bool IsSystem => Owner == SystemOwner || Owner.StartsWith("agent:", StringComparison.Ordinal);

    public bool IsOwnedBy(Who who) =>
        Owner.StartsWith(GroupPrefix, StringComparison.Ordinal)
            ? who.Groups.Contains(Owner[GroupPrefix.Length..])
            : who.IsPerson && Owner == who.Name;
}

/// <summary>Why somebody may not do something, and what to do.</summary>
public sealed record Denial(ProblemCode Code, string Reason, string Cure)
{
    public BeaconProblem Problem => new(Code, Reason, Cure);
}

/// <summary>Asks <see cref="RightsTable"/>.</summary>
public static class RightsOf
{
    /// <summary>What the role alone says; null when it allows it.</summary>
    /// <param name="holders">Groups that hold a zone or a network.</param>
    public static Denial? Role(Operation operation, Who who, IReadOnlyCollection<string> holders)
    {
        var role = RightsTable.Of(operation).Role;
        var isFit = role switch
        {
            Rights.Role.Anyone => true,
            Rights.Role.Agent => who.Host is not null,
            _ => who.IsPerson && IsFit(role, who, holders),
        };
        if (isFit)
            return null;
        if (who.Name.Length == 0 && who.Host is null)
            return new(ProblemCode.NotSignedIn, "Nobody is signed in, or the sign-in has run out.", "Sign in: beacon sign-in.");
        return role == Rights.Role.Agent
            ? new(ProblemCode.NotAllowed, "Only a host's agent may do this.", "Nothing to do.")
            : new(
                ProblemCode.NotAllowed,
                $"{Named(who)} may not do this.",
                $"It is for {Word(role)}; ask an administrator to do it or to put you into the right group."
            );
    }

    private static bool IsFit(Role role, Who who, IReadOnlyCollection<string> holders)
    {
        var isHolder = who.Groups.Any(holders.Contains);
        return who.IsAdministrator
            || role switch
            {
                Rights.Role.Person => true,
                Rights.Role.Reader => !who.IsOfDirectory || isHolder || who.Groups.Any(Who.RoleGroups.Contains),
                Rights.Role.Requester => isHolder || who.Groups.Contains(Who.Requesters),
                Rights.Role.Approver => isHolder || who.Groups.Contains(Who.Approvers),
                Rights.Role.HostKeeper => who.Groups.Contains(Who.HostKeepers),
                Rights.Role.AuthorityKeeper => who.Groups.Contains(Who.AuthorityKeepers),
                Rights.Role.Auditor => who.Groups.Contains(Who.Auditors),
                _ => false,
            };
    }

    /// <summary>Whether somebody may decide a request: any approver, or who holds a zone of one of its names that wait.</summary>
    /// <param name="holders">Of the names that wait: the groups that may approve each; empty for any approver.</param>
    public static Denial? Decide(Who who, string called, IReadOnlyList<IReadOnlyList<string>> holders)
    {
        if (who.IsAdministrator || who.Groups.Contains(Who.Approvers) || holders.Any(h => h.Any(who.Groups.Contains)))
            return null;
        var groups = holders.SelectMany(h => h).Distinct().Prepend(Who.Approvers).ToList();
        return new(
            ProblemCode.NotAllowed,
            $"{Capital(called)} has no name that waits in a zone of your groups.",
            $"Ask a member of {string.Join(" or ", groups)}."
        );
    }

    /// <summary>What the thing's owner says; null when it allows it.</summary>
    public static Denial? Thing(Operation operation, Who who, Thing thing) =>
        RightsTable.Of(operation).Bond switch
        {
            Bond.Owner => Owner(who, thing),
            Bond.Requester when !who.IsAdministrator && thing.Owner != who.Name => new(
                ProblemCode.NotAllowed,
                $"{Capital(thing.Called)} is {thing.Owner}'s.",
                "Ask them or an administrator to do it."
            ),
            Bond.NotRequester when thing.Owner == who.Name => new(
                ProblemCode.OwnRequest,
                $"{Capital(thing.Called)} is your own; somebody else must decide it.",
                "Ask a member of the group approvers."
            ),
            Bond.OwnHost when thing.Owner != "agent:" + who.Host => new(
                ProblemCode.NotFound,
                $"{Capital(thing.Called)} is not this host's.",
                "Poll for work again."
            ),
            _ => null,
        };

    /// <summary>Which of some operations are denied, those that are for the same reason together.</summary>
    /// <param name="thing">Null asks for the role alone.</param>
    public static IReadOnlyList<(Denial Denial, IReadOnlyList<Operation> Operations)> Denied(
        IEnumerable<Operation> operations,
        Who who,
        IReadOnlyCollection<string> holders,
        Thing? thing
    ) =>
        [
            .. operations
                .Select(o => (Operation: o, Denial: Role(o, who, holders) ?? (thing is null ? null : Thing(o, who, thing))))
                .Where(d => d.Denial is not null)
                .GroupBy(d => d.Denial!)
                .Select(g => (g.Key, (IReadOnlyList<Operation>)[.. g.Select(d => d.Operation)])),
        ];

    private static Denial? Owner(Who who, Thing thing)
    {
        if (thing.IsSystem)
            return new(ProblemCode.NotAllowed, $"{Capital(thing.Called)} is the system's own; it looks after itself.", "Nothing to do.");
        return who.IsAdministrator || thing.IsOwnedBy(who)
            ? null
            : new(
                ProblemCode.NotAllowed,
                $"{Capital(thing.Called)} belongs to {OwnerWord(thing.Owner)}.",
                "Ask its owner or an administrator to do it, or an administrator to give it to you or your group."
            );
    }

    private static string OwnerWord(string owner) =>
        owner.StartsWith(Rights.Thing.GroupPrefix, StringComparison.Ordinal)
            ? $"the group {owner[Rights.Thing.GroupPrefix.Length..]}"
            : owner;

    private static string Named(Who who) => who.Host is { } host ? $"The agent of {host}" : who.Name;

    private static string Capital(string text) => char.ToUpperInvariant(text[0]) + text[1..];

    /// <summary>Who has a role, as people read it.</summary>
    public static string Word(Role role) =>
        role switch
        {
            Rights.Role.Anyone => "anyone",
            Rights.Role.Agent => "a host's agent",
            Rights.Role.Reader => "people whom an administrator let in, and members of the directory whose group has a role here",
            Rights.Role.Requester => "administrators, requesters, and members of a group that holds a zone",
            Rights.Role.Approver => "administrators, approvers, and members of a group that holds a zone",
            Rights.Role.HostKeeper => "administrators and host-keepers",
            Rights.Role.AuthorityKeeper => "administrators and authority-keepers",
            Rights.Role.Auditor => "administrators and auditors",
            Rights.Role.Administrator => "administrators",
            _ => "people who are signed in",
        };
}
