using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Domain;

/// <summary>What directory and DNS know about a request's names.</summary>
public sealed record DomainFacts(
    ComputerFacts? Computer,
    IReadOnlyDictionary<string, string> OtherComputers,
    IReadOnlyDictionary<string, DnsFacts> Dns,
    IReadOnlyDictionary<string, ReverseFacts> Reverse
)
{
    public static DomainFacts None { get; } =
        new(null, new Dictionary<string, string>(), new Dictionary<string, DnsFacts>(), new Dictionary<string, ReverseFacts>());
}

/// <summary>
/// Asks directory and DNS about the names of a request. Both keep their answers for a while: who will decide inside a transaction asks here once before it, so that nothing
/// waits for a network while others wait for the database.
/// </summary>
public sealed class NameEvidence(DirectoryBook book, Resolver dns, DomainGroups groups)
{
    /// <param name="host">The host that the certificate is for; null for a CSR.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async Task<DomainFacts> GatherAsync(IReadOnlyList<string> names, Hosts.Host? host, CancellationToken ct)
    {
        if (!book.IsThere && !dns.IsThere)
            return DomainFacts.None;
        IReadOnlyList<AlternativeName> asked =
        [
            .. names.Select(n => AlternativeName.TryParse(n, out var name, out _) ? name : null).OfType<AlternativeName>().Distinct(),
        ];
        var plain = asked
            .Where(n => n.Kind == NameKind.Dns && !n.Value.StartsWith("*.", StringComparison.Ordinal))
            .Select(n => n.Value)
            .ToList();
        var led = dns.NamesAsync(plain, ct);
        var reverse = dns.AddressesAsync(asked.Where(n => n.Kind == NameKind.Ip).Select(n => n.ToString()), ct);
        var computer = book.IsThere && host is not null ? await ComputerAsync(host, ct) : null;
        var others = book.IsThere ? await OthersAsync(plain, computer?.Account, ct) : DomainFacts.None.OtherComputers;
        return new(computer, others, await led, await reverse);
    }

    /// <summary>Memberships that came after the directory was asked last: they did not count yet, and count from now on.</summary>
    /// <param name="requester">A person, as they are called here.</param>
    public async Task<IReadOnlyList<string>> NewMembershipsAsync(string requester, Hosts.Host? host, CancellationToken ct)
    {
        if (!book.IsThere)
            return [];
        var accounts = new List<string>();
        if (requester.Contains('@') || book.IsFile)
            accounts.Add(requester);
        if (host is not null && (await FindAsync(host, ct)).Value is { } computer)
            accounts.Add(computer.Account);
        var said = new List<string>();
        foreach (var account in accounts)
        foreach (var group in await book.JoinedSinceAsync(account, ct))
            said.Add(
                $"{account} joined \"{group.Name}\"{(group.Changed is { } at ? $" (changed {at:HH:mm} UTC)" : "")} after the directory was asked last: look at the preview again to use it."
            );
        return said;
    }

    /// <summary>Its account in the directory; null when it has none that may be used.</summary>
    public async Task<string?> AccountOfAsync(Hosts.Host host, CancellationToken ct) =>
        (await FindAsync(host, ct)).Value is { IsEnabled: true } c ? c.Account : null;

    private async Task<ComputerFacts?> ComputerAsync(Hosts.Host host, CancellationToken ct)
    {
        var known = await FindAsync(host, ct);
        return known.Value is { IsEnabled: true } c
            ? new(c.Account, [.. c.Names], DirectoryBook.ServiceNames(c), groups.Here(c.Groups), known.AsOf)
            : null;
    }

    /// <summary>The account that its agent joined with, as long as it is the same account; else the one that has its name, if there is exactly one.</summary>
    private async Task<Known<DirectoryComputer?>> FindAsync(Hosts.Host host, CancellationToken ct)
    {
        if (host.Account is { } account)
        {
            var known = await book.ComputerOfAccountAsync(account, ct);
            return known.Value?.Id == host.AccountId ? known : known with { Value = null };
        }
        var named = await book.ComputersOfNameAsync(host.Name, ct);
        return new(named.Value is [{ IsUsersOwn: false } one] ? one : null, named.AsOf);
    }

    private async Task<IReadOnlyDictionary<string, string>> OthersAsync(IReadOnlyList<string> names, string? own, CancellationToken ct)
    {
        var owners = await book.OwnersAsync(names, ct);
        return owners
            .Select(o => (Name: o.Key, Other: o.Value.FirstOrDefault(a => !a.Equals(own, StringComparison.OrdinalIgnoreCase))))
            .Where(o => o.Other is not null)
            .ToDictionary(o => o.Name, o => o.Other!);
    }
}
