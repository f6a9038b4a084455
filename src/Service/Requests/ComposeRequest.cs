using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Proposes the names for a purpose, from what the host's agent found, the directory and DNS.</summary>
public sealed class ComposeRequest(BeaconDb db, NameEvidence evidence, Resolver dns)
{
    private const int MostServices = 100;

    public async Task<ComposedNames> RunAsync(ComposeWish wish, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, wish.Host, ct);
        host.ThrowIfGone();
        MayAct.ThrowUnless(Operation.ComposeRequest, caller, MayAct.Of(host));
        var computer = (await evidence.GatherAsync([], host, ct)).Computer;
        var facts = new ComposerFacts
        {
            Purpose = Word<Purpose>(wish.Purpose, "purpose"),
            Host = host.Name,
            Domain = Domain(wish.Domain),
            Functions = [.. (wish.Functions ?? []).Select(f => Word<MailFunction>(f, "function"))],
            AreChosen = wish.Services is { Count: > 0 },
            Services = await ServicesAsync(host, wish.Services ?? [], ct),
            Principals =
            [
                .. (computer?.ServiceNames ?? new Dictionary<string, string>()).Select(p =>
                    (p.Value.Split('/')[0].ToLowerInvariant(), p.Key)
                ),
            ],
        };
        var led = dns.IsThere ? await dns.NamesAsync(Composer.Candidates(facts), ct) : null;
        var exchangers = facts.Functions.Contains(MailFunction.ServerToServer) ? await dns.ExchangersAsync(facts.Domain, ct) : [];
        var composed = Composer.Compose(
            facts with
            {
                InDns = led?.Where(d => d.Value is { Problem: null, Addresses.Count: > 0 }).Select(d => d.Key).ToHashSet(),
                Exchangers = exchangers,
            }
        );
        return new(
            [.. composed.Names.Select(n => new ProposedNameInfo(n.Name, n.Uses, n.Without, n.Source, n.IsChosen))],
            composed.BindTo,
            [.. composed.Missing.Select(m => new MissingInfo(m.Field, m.Reason))],
            composed.Remarks
        );
    }

    private async Task<List<ComposedService>> ServicesAsync(Hosts.Host host, IReadOnlyList<string> chosen, CancellationToken ct)
    {
        var all = await db
            .Services.AsNoTracking()
            .Where(s => s.HostId == host.Id && (chosen.Count == 0 || chosen.Contains(s.Name)))
            .OrderBy(s => s.Name)
            .Take(MostServices)
            .ToListAsync(ct);
        if (chosen.FirstOrDefault(c => all.All(s => s.Name != c)) is { } missing)
            throw new BeaconProblem(ProblemCode.NotFound, $"There is no service \"{missing}\" on {host.Name}.", "See beacon service list.");
        return [.. all.Select(s => new ComposedService(s.Connector, s.Name, Shapes.Strings(s.NamesJson)))];
    }

    private static string Domain(string? text) => string.IsNullOrWhiteSpace(text) ? "" : DnsName.Parse(text.Trim().TrimStart('@')).Ascii;

    private static T Word<T>(string text, string what)
        where T : struct, Enum
    {
        var words = Enum.GetValues<T>().ToDictionary(v => BeaconProblem.SlugOf(v));
        return words.TryGetValue(text.Trim(), out var value)
            ? value
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{text}\" is not a {what}.",
                $"Use one of {string.Join(", ", words.Keys)}."
            );
    }
}
