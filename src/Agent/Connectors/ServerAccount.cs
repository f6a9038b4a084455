using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>An account of this machine that a server runs as.</summary>
internal sealed record ServerAccount(string Name, uint User, uint Group)
{
    /// <summary>The account that owns a file or folder; null when it is the agent's own.</summary>
    public static ServerAccount? OwnerOf(string path)
    {
        var owner = SafeFolder.OwnerOf(path);
        return owner is not { } o || o.User == SafeFolder.Own(0).User ? null : new(NameOf(o.User), o.User, GroupOf(o.User));
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public static ServerAccount Of(string name) =>
        File.ReadLines("/etc/passwd").Select(l => l.Split(':')).FirstOrDefault(f => f.Length > 3 && f[0] == name) is { } e
        && uint.TryParse(e[2], out var user)
        && uint.TryParse(e[3], out var group)
            ? new(name, user, group)
            : throw new BeaconProblem(ProblemCode.NotFound, $"This machine has no account {name}.", "Correct \"account\" in agent.json.");

    private static string NameOf(uint user) => Entry(user)?[0] ?? user.ToString();

    // passwd(5): name, password, user, group.
    private static uint GroupOf(uint user) =>
        Entry(user) is { } e && uint.TryParse(e[3], out var group)
            ? group
            : throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"The account {user} that a server's files belong to is not known on this machine.",
                "Give the server's files to the account that it runs as."
            );

    private static string[]? Entry(uint user) =>
        File.ReadLines("/etc/passwd").Select(l => l.Split(':')).FirstOrDefault(f => f.Length > 3 && f[2] == user.ToString());

    /// <summary>Whether the account itself could read an open file.</summary>
    public bool CanRead(SafeFileHandle file)
    {
        const uint userRead = 0x100,
            groupRead = 0x20,
            othersRead = 0x4;
        var owner = SafeFolder.OwnerOf(file);
        var unowned = owner.Group == Group ? groupRead : othersRead;
        var bit = owner.User == User ? userRead : unowned;
        return (owner.Mode & bit) != 0;
    }

    /// <summary>The first folder on the way to a path that the account cannot enter; null when it can enter all.</summary>
    public string? FirstClosedFolder(string path)
    {
        const uint userEnter = 0x40,
            groupEnter = 0x8,
            othersEnter = 0x1;
        var way = new Stack<string>();
        for (var folder = Path.GetDirectoryName(Path.GetFullPath(path)); folder is not null; folder = Path.GetDirectoryName(folder))
            way.Push(folder);
        return way.FirstOrDefault(folder =>
        {
            if (SafeFolder.OwnerOf(folder) is not { } owner)
                return false;
            var unowned = owner.Group == Group ? groupEnter : othersEnter;
            var bit = owner.User == User ? userEnter : unowned;
            return (owner.Mode & bit) == 0;
        });
    }

    /// <summary>A program with its arguments, run as this account by the agent.</summary>
    public string[] Command(params string[] command) =>
        ["setpriv", "--reuid", User.ToString(), "--regid", Group.ToString(), "--init-groups", "--inh-caps=-all", "--", .. command];
}
