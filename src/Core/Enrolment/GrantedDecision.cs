using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>Why a name may be certified.</summary>
/// <param name="Name">As <see cref="AlternativeName.ToString"/> writes it.</param>
/// <param name="By">The people who approved it; empty when a rule granted it.</param>
public sealed record NameGrant(string Name, VerdictReason Reason, string Evidence, IReadOnlyList<string> By);

/// <summary>
/// What the signer takes: names, subject, profile revision and evidence, decided together, with an end of its own. It is made in this folder alone:
/// by <see cref="EnrolmentDecision"/> for people and what they ask for, by <see cref="OwnEnrolments"/> for agents and the service itself.
/// </summary>
public sealed class GrantedDecision
{
    /// <summary>Facts change; what was decided longer ago is decided again.</summary>
    public static readonly TimeSpan Life = TimeSpan.FromMinutes(5);

    internal GrantedDecision(
        Profile profile,
        DistinguishedName subject,
        IReadOnlyList<AlternativeName> names,
        IReadOnlyList<NameGrant> grants,
        string requester,
        DateTimeOffset at
    ) => (Profile, Subject, Names, Grants, Requester, At) = (profile, subject, names, grants, requester, at);

    public Profile Profile { get; }
    public DistinguishedName Subject { get; }
    public IReadOnlyList<AlternativeName> Names { get; }
    public IReadOnlyList<NameGrant> Grants { get; }

    /// <summary>In whose name it was asked for.</summary>
    public string Requester { get; }
    public DateTimeOffset At { get; }
    public DateTimeOffset Until => At + Life;

    /// <summary>Names that people approved: they stay approved for the certificate's renewals.</summary>
    public IEnumerable<string> Approved =>
        Grants.Where(g => g.By.Count > 0 || g.Reason == VerdictReason.ApprovedBefore).Select(g => g.Name);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ChangedMeanwhile"/> when it was decided too long ago.</exception>
    public void ThrowIfStale(DateTimeOffset now)
    {
        if (now >= Until || now < At - Life)
            throw new BeaconProblem(
                ProblemCode.ChangedMeanwhile,
                $"This was decided at {At:HH:mm:ss} UTC and is too old to be issued.",
                "Ask again: it is decided with the facts of that moment."
            );
    }
}
