using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>Everything that an enrolment is decided on, looked up at this moment.</summary>
/// <param name="Names">As they were asked for.</param>
/// <param name="Subject">As <see cref="SubjectDecision"/> has it.</param>
/// <param name="Requester">In whose name it is asked for.</param>
/// <param name="Approvers">People who have approved it, the requester never among them.</param>
/// <param name="Bounds">Name constraints of the authorities in the chain.</param>
public sealed record EnrolmentFacts(
    Profile Profile,
    IReadOnlyList<string> Names,
    NameFacts NameFacts,
    DistinguishedName Subject,
    string Requester,
    IReadOnlyList<Approver> Approvers,
    IReadOnlyCollection<NameConstraints> Bounds,
    DateTimeOffset Now
);

/// <summary>Somebody who has approved, with their groups of this moment.</summary>
public sealed record Approver(string Name, IReadOnlyCollection<string> Groups)
{
    private bool IsAdministrator => Groups.Contains(Who.Administrators);

    /// <summary>Whether they may approve what needs no holder of a zone.</summary>
    public bool IsGeneral => IsAdministrator || Groups.Contains(Who.Approvers);

    /// <summary>Whether their word is enough for the name.</summary>
    public bool Covers(NameVerdict v) => v.Holders.Count == 0 ? IsGeneral : IsAdministrator || v.Holders.Any(Groups.Contains);
}

/// <summary>What was decided.</summary>
/// <param name="PeopleNeeded">How many other people must approve it in all, at least; 0 when nobody needs to.</param>
/// <param name="Granted">Set when it may be issued now.</param>
public sealed record EnrolmentVerdict(Verdict Overall, IReadOnlyList<NameVerdict> Verdicts, int PeopleNeeded, GrantedDecision? Granted);

/// <summary>Decides an enrolment in the name of a person: whatever protocol it came by, a renewal too. Decided again at each moment that counts, with the facts of that moment.</summary>
public static class EnrolmentDecision
{
    public static EnrolmentVerdict Decide(EnrolmentFacts f)
    {
        var verdicts = NameDecision.Decide(f.Names, f.Profile, f.NameFacts, f.Bounds);
        // An authority is known by its subject: it has no names that could be judged, and people must approve it.
        var isAuthority = f.Profile.AuthorityDepth is not null;
        var ofNames = verdicts.Count == 0 && isAuthority ? Verdict.Granted : NameDecision.Overall(verdicts);
        var needed = Math.Max(f.Profile.Approvals, ofNames == Verdict.NeedsApproval ? 1 : 0);
        if (ofNames == Verdict.Refused)
            return new(Verdict.Refused, verdicts, needed, null);
        var isApproved =
            f.Approvers.Count(a => a.IsGeneral) >= f.Profile.Approvals
            && verdicts.Where(v => v.Verdict == Verdict.NeedsApproval).All(v => f.Approvers.Any(a => a.Covers(v)));
        if (f.Approvers.Count < needed || !isApproved)
            return new(Verdict.NeedsApproval, verdicts, Math.Max(needed, f.Approvers.Count + 1), null);
        IReadOnlyList<NameVerdict> granted =
        [
            .. verdicts.Select(v => v.Verdict == Verdict.NeedsApproval ? Approved(v, Covering(v, f.Approvers)) : v),
        ];
        return new(Verdict.Granted, granted, needed, Grant(f, granted));
    }

    private static NameVerdict Approved(NameVerdict v, IReadOnlyList<string> by) =>
        v with
        {
            Verdict = Verdict.Granted,
            Reason = VerdictReason.ApprovedNow,
            Evidence = $"{v.Evidence} Approved by {string.Join(" and ", by)}.",
            Cure = "",
        };

    private static List<string> Covering(NameVerdict v, IReadOnlyList<Approver> approvers) =>
        [.. approvers.Where(a => a.Covers(v)).Select(a => a.Name)];

    private static GrantedDecision Grant(EnrolmentFacts f, IReadOnlyList<NameVerdict> verdicts) =>
        new(
            f.Profile,
            f.Subject,
            [.. verdicts.Select(v => AlternativeName.Parse(v.Name))],
            [
                .. verdicts.Select(v => new NameGrant(
                    v.Name,
                    v.Reason,
                    v.Evidence,
                    v.Reason == VerdictReason.ApprovedNow ? Covering(v, f.Approvers) : []
                )),
            ],
            f.Requester,
            f.Now
        );
}
