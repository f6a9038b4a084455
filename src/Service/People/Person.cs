using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.People;

/// <summary>Somebody who signs in. Wrong passwords lock for a while: five in a row, then a minute, doubling up to an hour.</summary>
public sealed class Person
{
    public const string Administrators = "administrators";
    public const string Approvers = "approvers";
    private const int FreeTries = 5;

    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public string PasswordHash { get; private set; } = "";
    public string Groups { get; private init; } = "";
    public int Failures { get; private set; }
    public DateTimeOffset? LockedUntil { get; private set; }

    public IReadOnlyList<string> GroupList => Groups.Split(',', StringSplitOptions.RemoveEmptyEntries);

    public static Person Of(string name, string passwordHash, IEnumerable<string> groups)
    {
        if (name.Length is 0 or > 64 || !name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_'))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{name}\" is not a name to sign in with.",
                "Use letters, digits, dots and hyphens."
            );
        return new()
        {
            Name = name.ToLowerInvariant(),
            PasswordHash = passwordHash,
            Groups = string.Join(',', groups.Select(g => g.Trim()).Where(g => g.Length > 0)),
        };
    }

    public void ThrowIfLocked(DateTimeOffset now)
    {
        if (LockedUntil > now)
            throw new BeaconProblem(
                ProblemCode.LockedOut,
                "There were too many wrong passwords.",
                $"Wait until {LockedUntil:HH:mm:ss} UTC and try again."
            );
    }

    public void NoteFailure(DateTimeOffset now)
    {
        Failures++;
        if (Failures >= FreeTries)
            LockedUntil = now + TimeSpan.FromMinutes(Math.Min(60, Math.Pow(2, Failures - FreeTries)));
    }

    public void NoteSuccess(string? betterHash)
    {
        (Failures, LockedUntil) = (0, null);
        if (betterHash is not null)
            PasswordHash = betterHash;
    }
}

/// <summary>A sign-in; only the hash of its token is kept.</summary>
public sealed class SessionToken
{
    public required string Hash { get; init; }
    public required int PersonId { get; init; }
    public required DateTimeOffset Until { get; init; }
}
