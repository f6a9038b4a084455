using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// Which computers join by their account alone. An account proves that somebody made it, and directories let everybody make a few: so a group must be named in the settings, or,
/// for all of them, the account must have been made by an administrator.
/// </summary>
public sealed class MachineAccounts(DirectoryBook book, BeaconOptions options)
{
    private readonly IReadOnlyList<string> _groups =
    [
        .. options
            .DomainHosts.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
            .Select(g => g.ToLowerInvariant()),
    ];

    /// <summary>The computer of a ticket, asked for now and not from memory.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/> with the reason, or <see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async Task<DirectoryComputer> ThatMayJoinAsync(TicketHolder holder, CancellationToken ct)
    {
        if (!holder.IsComputer)
            throw No(
                $"{holder.Name} is a person; a host joins by its own account.",
                "Use the computer's keytab, usually /etc/krb5.keytab."
            );
        if (_groups.Count == 0)
            throw No(
                "No computers join by their account here.",
                "Invite the host with a code; or name the groups whose computers may: BEACON_DOMAINHOSTS."
            );
        if (!book.IsThere || await book.ComputerNowAsync(holder.Account, ct) is not { IsEnabled: true } computer)
            throw No($"The directory has no account {holder.Account} that may be used.", "See that the computer is joined to this domain.");
        if (!_groups.Any(g => computer.Groups.Any(have => have.Name == g)) && !(_groups.Contains("*") && !computer.IsUsersOwn))
            throw No(
                $"The computer {computer.Account} is in none of the groups that join by their account.",
                _groups.Contains("*")
                    ? "Its account was made by somebody without the right to join computers: have an administrator join it anew, or invite it with a code."
                    : $"Put it into {string.Join(" or ", _groups.Select(g => $"\"{g}\""))} in the directory, or invite it with a code."
            );
        if (
            computer.Names is not [var name]
            || !DnsName.TryParse(name, out var dns, out _)
            || dns!.Ascii != name
            || dns.IsWildcard
            || !name.Contains('.')
        )
            throw No($"The directory has no full DNS name for {computer.Account}.", "Set its dNSHostName there.");
        if (options.OwnNames.Contains(name))
            throw No($"{name} is a name of the service itself.", "Give the computer another name.");
        var others = (await book.OwnersAsync([name], ct)).GetValueOrDefault(name, []).Where(a => a != computer.Account).ToList();
        return others.Count == 0
            ? computer
            : throw No($"{name} is a name of {string.Join(" and ", others)} too.", "Take it from all but one of them in the directory.");
    }

    /// <summary>An agent's certificate is not renewed for a computer that is in the directory no more.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.HostGone"/> or <see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async Task ThrowIfGoneAsync(Hosts.Host host, CancellationToken ct)
    {
        if (host.Account is not { } account)
            return;
        var computer = book.IsThere ? await book.ComputerNowAsync(account, ct) : null;
        if (computer is not { IsEnabled: true } || computer.Id != host.AccountId)
            throw new BeaconProblem(
                ProblemCode.HostGone,
                $"{account}, which {host.Name} joined as, is in the directory no more, or is locked there.",
                "Join the computer to the domain again, and its agent after it; or remove the host."
            );
    }

    private static BeaconProblem No(string why, string cure) => new(ProblemCode.NotAllowed, why, cure);
}
