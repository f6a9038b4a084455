using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Enrolment;

/// <summary>What is to be decided.</summary>
/// <param name="Host">The host whose agent makes the key; null for a CSR.</param>
/// <param name="Existing">The certificate that it becomes an edition of, if there is one.</param>
/// <param name="Requester">In whose name: a person, or <c>group:NAME</c>.</param>
/// <param name="Approvers">Who has approved it.</param>
public sealed record ToDecide(
    Profile Profile,
    IReadOnlyList<string> Names,
    DistinguishedName Subject,
    Hosts.Host? Host,
    Certificate? Existing,
    string Requester,
    IReadOnlyList<Approver> Approvers
);

/// <summary>Looks up the facts of this moment and has Core decide. Every path that issues in a person's name comes through here, each time it counts.</summary>
public sealed class DecideEnrolment(
    NameHolders holders,
    PeopleBook people,
    AuthorityRegistry registry,
    NameEvidence evidence,
    BeaconOptions options,
    TimeProvider clock
)
{
    public async Task<EnrolmentVerdict> RunAsync(ToDecide w, CancellationToken ct)
    {
        var domain = await evidence.GatherAsync(w.Names, w.Host, ct);
        var hostId = w.Host?.Id ?? 0;
        var otherHosts = new List<string>();
        var elsewhere = new Dictionary<string, string>();
        foreach (var text in w.Names)
        {
            if (!AlternativeName.TryParse(text, out var name, out _))
                continue;
            var others = holders.Others(name!.Value, hostId);
            if (others.IsOtherHost)
                otherHosts.Add(name.Value);
            if (others.ServedBy is { } other)
                elsewhere[name.Value] = other;
        }
        var nameFacts = new NameFacts
        {
            HostName = w.Host?.Name,
            OwnsHostName = w.Host?.Account is null || domain.Computer?.Names.Contains(w.Host.Name) == true,
            Groups = [.. await people.GroupsOfAsync(w.Requester, ct), .. domain.Computer?.Groups ?? []],
            Computer = domain.Computer,
            OtherComputers = domain.OtherComputers,
            Dns = domain.Dns,
            Reverse = domain.Reverse,
            Zones = options.Holdings.Zones,
            Networks = options.Holdings.Networks,
            MetAt = w.Host is null ? [] : w.Host.MetAt(clock.GetUtcNow()),
            OtherHosts = otherHosts,
            ServedElsewhere = elsewhere,
            ServiceNames = options.OwnNames,
            Held = w.Existing is { HasEdition: true } c ? Canonical(c.NamesJson) : [],
            ApprovedBefore = w.Existing is null ? [] : Canonical(w.Existing.ApprovedJson),
        };
        return EnrolmentDecision.Decide(
            new(
                w.Profile,
                w.Names,
                nameFacts,
                w.Subject,
                w.Requester,
                w.Approvers,
                [.. registry.All.Select(x => x.Constraints).OfType<NameConstraints>()],
                clock.GetUtcNow()
            )
        );
    }

    // Earlier versions kept addresses without their prefix; a name is the same in either spelling.
    private static HashSet<string> Canonical(string json) =>
        [.. Shapes.Strings(json).Select(n => AlternativeName.TryParse(n, out var name, out _) ? name!.ToString() : n)];
}
