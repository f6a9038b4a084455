using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
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
public sealed class DecideAgain(DecideEnrolment decide, ProfileCatalogue profiles, PeopleBook people)
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

    /// <summary>Who approved it and may still approve.</summary>
    public async Task<IReadOnlyList<string>> ApproversAsync(Request request, CancellationToken ct)
    {
        var still = new List<string>();
        foreach (var a in request.Approvals)
            if (
                await people.GroupsOfAsync(a.By, ct) is var groups
                && (groups.Contains(Who.Approvers) || groups.Contains(Who.Administrators))
            )
                still.Add(a.By);
        return still;
    }

    public static string Json(EnrolmentVerdict v) =>
        JsonSerializer.Serialize([.. v.Verdicts.Select(Shapes.Of)], BeaconJson.Default.ListNameVerdictInfo);

    /// <summary>Why it is not granted any more, in sentences.</summary>
    public static string Why(EnrolmentVerdict v) =>
        string.Join(" ", v.Verdicts.Where(x => x.Verdict != Verdict.Granted).Select(x => $"{x.Name}: {x.Evidence}"))
            is { Length: > 0 } names
            ? names
            : $"{v.PeopleNeeded} people must approve it.";
}
