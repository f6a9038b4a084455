namespace OrderlyBeacon.Service.Domain;

/// <summary>A computer in the directory.</summary>
/// <param name="Id">What stays the same when it is renamed, and differs when it is made anew: the object's GUID, or its entry's UUID.</param>
/// <param name="Account">As <c>WEB01$</c>.</param>
/// <param name="Names">Its DNS names, lower case.</param>
/// <param name="Principals">Its service principals, as they are written there.</param>
/// <param name="Groups">Its groups, nested ones too, in lower case, without <see cref="Core.Rights.Who.DirectoryPrefix"/>.</param>
/// <param name="IsEnabled">Whether the account may be used.</param>
/// <param name="IsUsersOwn">Whether somebody without rights to do so made it, as directories allow everybody a few times: its name was nobody's decision.</param>
public sealed record DirectoryComputer(
    string Id,
    string Account,
    IReadOnlyList<string> Names,
    IReadOnlyList<string> Principals,
    IReadOnlyList<DirectoryGroup> Groups,
    bool IsEnabled,
    bool IsUsersOwn
);

/// <summary>A person in the directory.</summary>
/// <param name="Name">As <c>alice@thistledown.example</c>, lower case; with the embedded directory, the name to sign in with.</param>
public sealed record DirectoryPerson(string Id, string Name, IReadOnlyList<DirectoryGroup> Groups, bool IsEnabled);

/// <summary>A group that somebody is in, by one step or several.</summary>
/// <param name="Changed">When its members changed last, as far as the directory says; null when it does not.</param>
public sealed record DirectoryGroup(string Name, DateTimeOffset? Changed);

/// <summary>
/// Who and what is in the domain. Each call asks the directory; <see cref="DirectoryBook"/> keeps answers for a while. Every failure is a <see cref="Core.BeaconProblem"/> of
/// <see cref="Core.ProblemCode.DirectoryAway"/>: what is not known is not guessed.
/// </summary>
public interface IDirectory
{
    /// <summary>Where it is, as people read it.</summary>
    string Called { get; }

    /// <summary>The Kerberos realm of its accounts, upper case; empty when there is none.</summary>
    ValueTask<string> RealmAsync(CancellationToken ct);

    /// <summary>By its account, as <c>WEB01$</c>.</summary>
    Task<DirectoryComputer?> ComputerOfAccountAsync(string account, CancellationToken ct);

    /// <summary>All that have this DNS name: more than one is a conflict.</summary>
    Task<IReadOnlyList<DirectoryComputer>> ComputersOfNameAsync(string name, CancellationToken ct);

    /// <param name="name">As in <see cref="DirectoryPerson.Name"/>.</param>
    Task<DirectoryPerson?> PersonAsync(string name, CancellationToken ct);

    /// <summary>Puts a certificate on a computer's object and takes others away; done again, it changes nothing.</summary>
    /// <param name="account">As <c>WEB01$</c>.</param>
    Task PublishAsync(string account, byte[] certificate, IReadOnlyList<byte[]> instead, CancellationToken ct);

    /// <summary>Which accounts have these DNS names, as their own or in a service principal. Names that nobody has are missing.</summary>
    Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> OwnersAsync(IReadOnlyCollection<string> names, CancellationToken ct);
}
