using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// What groups of the directory mean here. They count as <c>directory:NAME</c>, in the settings and in what they own; a role comes by <c>BEACON_ROLES</c> alone
/// (<c>approvers=cert-officers;host-keepers=server-team</c>), whatever a group there is called.
/// </summary>
public sealed class DomainGroups(DirectoryBook book, BeaconOptions options)
{
    private readonly ILookup<string, string> _roles = Read(options.Roles);

    /// <summary>Whether the settings give some group of the directory a role.</summary>
    public bool Grants(string role) => _roles.Any(r => r.Contains(role));

    /// <summary>The groups of a person by the directory: none when there is no directory or it does not know them.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async ValueTask<IReadOnlyList<string>> OfPersonAsync(string name, CancellationToken ct)
    {
        // Who signs in with a password kept here is a person of the file, never of a directory where somebody else may have that name.
        var isLocal = !name.Contains('@');
        if (!book.IsThere || isLocal != book.IsFile)
            return [];
        try
        {
            return (await book.PersonAsync(name, ct)).Value is { IsEnabled: true } person ? Here(person.Groups) : [];
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.DirectoryAway && isLocal)
        {
            // An administrator must be able to come in and correct the file; what it gives is not there meanwhile.
            return [];
        }
    }

    /// <summary>As they are called here, with the roles that they give.</summary>
    public IReadOnlyList<string> Here(IEnumerable<DirectoryGroup> groups)
    {
        var names = groups.Select(g => g.Name).ToList();
        return [.. names.SelectMany(n => _roles[n]).Concat(names.Select(n => Who.DirectoryPrefix + n)).Distinct()];
    }

    /// <summary>Role groups by the directory's group.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    internal static ILookup<string, string> Read(string text) =>
        text.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
            .Select(entry =>
                entry.Split('=', 2, StringSplitOptions.TrimEntries) is [var role, { Length: > 0 } group] && Who.RoleGroups.Contains(role)
                    ? (Role: role, Group: group.ToLowerInvariant())
                    : throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"BEACON_ROLES has \"{entry}\".",
                        $"Write role=group of the directory;role=group; roles are {string.Join(", ", Who.RoleGroups)}."
                    )
            )
            .ToLookup(x => x.Group, x => x.Role);
}
