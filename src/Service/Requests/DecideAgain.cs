using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Rights;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Requests;

/// <summary>
/// Decides a recorded request again at the moment that counts: at its last approval, and when its CSR is there. With the facts of now: the profile's newest
/// revision, the requester's groups and zones, who owns the host, which of the approvers may still approve.
/// </summary>
public sealed class DecideAgain(DecideEnrolment decide, ProfileCatalogue profiles, PeopleBook people, NameEvidence evidence)
{
    public async Task<EnrolmentVerdict> RunAsync(Request request, Hosts.Host? host, Certificate? existing, CancellationToken ct)
    {
        var profile = profiles.Get(request.Profile);
        // What was issued is renewed; nothing new begins under a profile that was withdrawn.
        if (!profile.Offered && request.Cause != "renewal")
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The profile \"{request.Profile}\" was withdrawn since the request was made: nothing new is issued under it.",
                "Refuse the request with that reason, or offer the profile again."
            );
        var groups = await people.GroupsOfAsync(request.Requester, ct);
        if (host is not null && request.Cause != "renewal")
        {
            var who = new Who(request.Requester, groups, null);
            if (RightsOf.Thing(Operation.SubmitRequest, who, MayAct.Of(host)) is { } denial)
                throw new BeaconProblem(ProblemCode.RequestRefused, denial.Reason, denial.Cure);
        }
        var subject = request.Subject.Length > 0 ? DistinguishedName.Parse(request.Subject) : DistinguishedName.Empty;
        return await decide.RunAsync(
            new(profile, Shapes.Strings(request.NamesJson), subject, host, existing, request.Requester, await ApproversAsync(request, ct)),
            ct
        );
    }

    /// <summary>Asks directory and DNS, who keep their answers: to be called before the transaction in which it is decided.</summary>
    public async Task LookUpAsync(Request request, Hosts.Host? host, CancellationToken ct)
    {
        await LookUpAsync(Shapes.Strings(request.NamesJson), host, ct);
        await people.GroupsOfAsync(request.Requester, ct);
        await ApproversAsync(request, ct);
    }

    /// <summary>The same of names alone.</summary>
    public Task LookUpAsync(IReadOnlyList<string> names, Hosts.Host? host, CancellationToken ct) => evidence.GatherAsync(names, host, ct);

    /// <summary>Who approved it and may still approve.</summary>
    public async Task<IReadOnlyList<Approver>> ApproversAsync(Request request, CancellationToken ct)
    {
        var still = new List<Approver>();
        foreach (var a in request.Approvals)
        {
            var approver = new Approver(a.By, await people.GroupsOfAsync(a.By, ct));
            if (RightsOf.Decide(new(a.By, approver.Groups, null), "it", Holders(request)) is null)
                still.Add(approver);
        }
        return still;
    }

    /// <summary>Of its names that wait: the groups that may approve each, besides approvers.</summary>
    public static IReadOnlyList<IReadOnlyList<string>> Holders(Request request) =>
        [
            .. JsonSerializer
                .Deserialize(request.VerdictsJson, BeaconJson.Default.ListNameVerdictInfo)!
                .Where(v => v.Verdict == Contracts.Verdict.NeedsApproval)
                .Select(v => v.Holders),
        ];

    public static string Json(EnrolmentVerdict v) =>
        JsonSerializer.Serialize([.. v.Verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo);

    /// <summary>Why it is not granted any more, in sentences.</summary>
    public static string Why(EnrolmentVerdict v) =>
        string.Join(" ", v.Verdicts.Where(x => x.Verdict != Verdict.Granted).Select(x => $"{x.Name}: {x.Evidence}"))
            is { Length: > 0 } names
            ? names
            : $"{v.PeopleNeeded} people must approve it.";
}
