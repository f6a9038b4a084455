namespace OrderlyBeacon.Contracts;

/// <param name="Kind"><c>cookie</c> for the console or <c>token</c> for programs.</param>
public sealed record SignIn(string Name, string Password, string Kind);

/// <summary>By the Kerberos ticket that the call brings (HTTP Negotiate).</summary>
/// <param name="Kind"><c>cookie</c> for the console or <c>token</c> for programs.</param>
public sealed record TicketSignIn(string Kind);

/// <summary>How one can sign in here, besides a name and a password.</summary>
/// <param name="Tickets">Whether Kerberos tickets are taken.</param>
/// <param name="Domain">The domain whose accounts they are of; empty when none is known.</param>
public sealed record WaysIn(bool Tickets, string Domain);

public sealed record Session(string Name, IReadOnlyList<string> Groups, DateTimeOffset Until, string? Token)
{
    /// <summary>Whether a second administrator must consent to what outlasts a session.</summary>
    public bool SecondPerson { get; init; }

    /// <summary>What they may do with nothing at all. What belongs to others says so itself.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
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

public sealed record NewPerson(string Name, string Password, IReadOnlyList<string> Groups);

/// <param name="Locked">Sign-ins under this name have to wait, since there were many wrong passwords.</param>
public sealed record PersonInfo(string Name, IReadOnlyList<string> Groups, bool Locked)
{
    /// <summary>Since when they may not sign in any more; the name stays theirs.</summary>
    public DateTimeOffset? Left { get; init; }
}
