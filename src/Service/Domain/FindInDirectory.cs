using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Service.Domain;

/// <summary>All that directory and DNS say about one name or address, for who wants to know why it was decided as it was.</summary>
public sealed class FindInDirectory(DirectoryBook book, Resolver dns, BeaconOptions options)
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/> or <see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async Task<NameInDirectory> RunAsync(string text, CancellationToken ct)
    {
        var name = AlternativeName.Parse(text);
        if (name.Kind == NameKind.Ip)
            return await AddressAsync(name, ct);
        var dnsName = DnsName.Parse(name.Value);
        var owners = book.IsThere ? (await book.OwnersAsync([name.Value], ct)).GetValueOrDefault(name.Value, []) : [];
        var computers = new List<ComputerInfo>();
        foreach (var account in owners.Take(5))
            if (await book.ComputerOfAccountAsync(account, ct) is { Value: { } c, AsOf: var at })
                computers.Add(new(c.Account, c.Names, c.Principals, [.. c.Groups.Select(g => g.Name)], c.IsEnabled, at));
        var answer = dnsName.IsWildcard ? null : (await dns.NamesAsync([name.Value], ct)).GetValueOrDefault(name.Value);
        return new(name.ToString(), computers, answer?.Text(name.Value), [.. ZonesOf(dnsName)]);
    }

    private async Task<NameInDirectory> AddressAsync(AlternativeName name, CancellationToken ct)
    {
        var answer = (await dns.AddressesAsync([name.ToString()], ct)).GetValueOrDefault(name.ToString());
        var said = answer switch
        {
            null => null,
            { Problem: { } problem } => $"DNS: {problem}.",
            _ =>
                $"DNS: {string.Join(", ", answer.Names)}{(answer.Confirmed.Count > 0 ? "; back to the address lead " + string.Join(", ", answer.Confirmed) : "; none leads back to the address")}.",
        };
        return new(name.ToString(), [], said, []);
    }

    private IEnumerable<string> ZonesOf(DnsName name)
    {
        var plain = name.IsWildcard ? DnsName.Parse(name.Ascii[2..]) : name;
        return options.Holdings.Zones.Where(z => plain.IsWithin(z.Zone)).Select(z => $"{z.Zone} is held by {z.Group}");
    }
}
