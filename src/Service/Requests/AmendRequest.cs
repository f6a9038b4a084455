using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Requests;

/// <summary>Other names before the approval. They go through the same decision, in the requester's name: nobody gets a name by somebody else's zones.</summary>
public sealed class AmendRequest(BeaconDb db, DecideEnrolment decide, ProfileCatalogue profiles, Changes changes, TimeProvider clock)
{
    public async Task RunAsync(long id, Amendment wish, Caller caller, CancellationToken ct)
    {
        if (string.IsNullOrWhiteSpace(wish.Reason))
            throw new BeaconProblem(ProblemCode.InputInvalid, "An amendment needs a reason; the requester reads it.", "Say why.");
        var request =
            await db.Requests.FirstOrDefaultAsync(r => r.Id == id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
        MayAct.ThrowUnless(Operation.AmendRequest, caller, MayAct.Of(request));
        if (RightsOf.Decide(caller.Who, MayAct.Of(request).Called, DecideAgain.Holders(request)) is { } denial)
            throw new RefusedAttempt(Operation.AmendRequest, caller, MayAct.Of(request), denial);
        var profile = profiles.Get(request.Profile);
        if (profile.AuthorityDepth is not null)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                "An authority's request has no names that could be amended.",
                "Refuse it with a reason instead."
            );
        var names = wish.Names.Where(n => !string.IsNullOrWhiteSpace(n)).Select(n => n.Trim()).ToList();
        if (names.Count == 0)
            throw new BeaconProblem(ProblemCode.InputInvalid, "No name would be left.", "Refuse the request instead.");
        var subject = SubjectFor(request, names, profile);
        var host = request.HostId is { } h ? await db.Hosts.AsNoTracking().SingleAsync(x => x.Id == h, ct) : null;
        var existing = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == request.CertificateName, ct);
        var decided = await decide.RunAsync(new(profile, names, subject, host, existing, request.Requester, []), ct);
        if (decided.Verdicts.FirstOrDefault(v => v.Verdict == Verdict.Refused) is { } no)
            throw new BeaconProblem(ProblemCode.RequestRefused, $"{no.Name}: {no.Evidence}", no.Cure);
        var (now, before, after) = (clock.GetUtcNow(), Shapes.Strings(request.NamesJson), decided.Verdicts.Select(v => v.Name).ToList());
        if (before.ToHashSet().SetEquals(after))
            throw new BeaconProblem(ProblemCode.WrongState, "These are the names that it has.", "Approve it as it is.");
        await using var write = await db.BeginWriteAsync(ct);
        request.Amend(
            new(caller.Name, now, before, after, wish.Reason.Trim()),
            DecideAgain.Json(decided),
            subject.ToString(),
            Math.Max(1, decided.PeopleNeeded)
        );
        await db.Note(
            now,
            caller.Actor,
            JournalAction.RequestAmended,
            $"request {id}",
            $"{string.Join(", ", before)} → {string.Join(", ", after)}: {wish.Reason.Trim()}"
        );
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
    }

    /// <summary>A common name that is no name any more would be one that nobody judged.</summary>
    private static DistinguishedName SubjectFor(Request request, List<string> names, Core.Profiles.Profile profile)
    {
        IReadOnlyList<AlternativeName> judged =
        [
            .. names.Select(n => AlternativeName.TryParse(n, out var name, out _) ? name : null).OfType<AlternativeName>(),
        ];
        var now = request.Subject.Length > 0 ? DistinguishedName.Parse(request.Subject) : null;
        return SubjectDecision.Decide(null, now, judged, profile).Subject;
    }
}
