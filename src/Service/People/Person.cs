using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;

namespace OrderlyBeacon.Service.People;

/// <summary>Somebody who signs in. Who leaves stays on record, so that nobody else ever gets the name and with it what it owns.</summary>
public sealed class Person
{
    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public string PasswordHash { get; private set; } = "";
    public string Groups { get; private set; } = "";
    public DateTimeOffset? LeftAt { get; private set; }

    public IReadOnlyList<string> GroupList => Groups.Split(',', StringSplitOptions.RemoveEmptyEntries);

    public static Person Of(string name, string passwordHash, IEnumerable<string> groups)
    {
        if (name.Length is 0 or > 64 || !name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_'))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{name}\" is not a name to sign in with.",
                "Use letters, digits, dots and hyphens."
            );
        var lower = name.ToLowerInvariant();
        if (Actor.IsReserved(lower))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{lower}\" is what the journal calls a part of the service.",
                "Choose another name."
            );
        var person = new Person { Name = lower, PasswordHash = passwordHash };
        person.Regroup(groups);
        return person;
    }

    /// <summary>Somebody whom the directory knows: no password is kept here, and their groups are asked for there.</summary>
    /// <param name="name">As <c>alice@thistledown.example</c>.</param>
    public static Person OfDirectory(string name) => new() { Name = name };

    public bool IsOfDirectory => Name.Contains('@');

    public void Regroup(IEnumerable<string> groups)
    {
        var all = groups.Select(g => g.Trim()).Where(g => g.Length > 0).Distinct().ToList();
        if (all.Find(g => g.Length > 64 || !g.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_')) is { } bad)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{bad}\" is not a group's name.",
                "Use letters, digits, dots and hyphens."
            );
        Groups = string.Join(',', all);
    }

    public void ChangePassword(string hash) => PasswordHash = hash;

    public void Leave(DateTimeOffset at) => (LeftAt, Groups, PasswordHash) = (at, "", "");
}

/// <summary>A sign-in; only the hash of its token is kept.</summary>
public sealed class SessionToken
{
    public required string Hash { get; init; }
    public required int PersonId { get; init; }
    public required DateTimeOffset Until { get; init; }

    /// <summary>When the password was given last: at the sign-in, or to confirm something since.</summary>
    public required DateTimeOffset ProvedAt { get; set; }
}
