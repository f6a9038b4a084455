using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Profiles;

/// <summary>Makes a profile, or the next revision of one, after it was seen to make sense; offers and withdraws.</summary>
public sealed class ChangeProfile(BeaconDb db, ProfileCatalogue catalogue, AuthorityRegistry registry, TimeProvider clock, Changes changes)
{
    /// <summary>What would be refused, and what would change; nothing is stored.</summary>
    public (Profile Profile, IReadOnlyList<ProfileDifference> Changes) Judge(ProfileDefinition definition)
    {
        var before = catalogue.All.FirstOrDefault(p => p.Id == definition.Id?.Trim());
        var profile = ProfileWords.Read(definition, (before?.Revision ?? 0) + 1, before?.Offered ?? true, before);
        var point = registry.IsReady ? registry.Issuing.Certificate : null;
        var faults = ProfileSense.Faults(profile, point is null ? null : point.NotAfter - point.NotBefore, point?.PathLength);
        if (faults.Count > 0)
            throw new BeaconProblem(
                ProblemCode.ProfileRefused,
                $"The profile \"{profile.Id}\" makes no sense. " + string.Join(" ", faults.Select(f => $"{f.Field}: {f.Reason}")),
                string.Join(" ", faults.Select(f => f.Cure).Distinct())
            );
        return (profile, before is null ? [] : ProfileWords.Differences(ProfileWords.Write(before), ProfileWords.Write(profile)));
    }

    public async Task<Profile> RunAsync(ProfileDefinition definition, Actor actor, CancellationToken ct)
    {
        Profile profile;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            (profile, var differences) = Judge(definition);
            if (profile.Revision > 1 && differences.Count == 0)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"Revision {profile.Revision - 1} of \"{profile.Id}\" says the same already.",
                    "Nothing to do."
                );
            var now = clock.GetUtcNow();
            var row = await db.Profiles.FirstOrDefaultAsync(p => p.Name == profile.Id, ct);
            if (row is null)
                db.Profiles.Add(ProfileRow.Of(profile.Id));
            else
                row.Revise();
            db.ProfileRevisions.Add(
                new()
                {
                    Name = profile.Id,
                    Revision = profile.Revision,
                    Json = JsonSerializer.Serialize(ProfileWords.Write(profile), BeaconJson.Default.ProfileDefinition),
                    At = now,
                    By = actor.ToString(),
                }
            );
            await db.Note(
                now,
                actor,
                row is null ? JournalAction.ProfileMade : JournalAction.ProfileRevised,
                profile.Id,
                row is null
                    ? "revision 1"
                    : $"revision {profile.Revision}: {string.Join("; ", differences.Select(d => $"{d.Field}: {d.Before} → {d.After}"))}"
            );
            await write.CommitAsync(ct);
            await catalogue.LoadAsync(db, now, ct);
        }
        changes.Tell("profile", profile.Id);
        return profile;
    }

    /// <summary>A new profile with another's content.</summary>
    public Task<Profile> CopyAsync(string from, ProfileCopy wish, Actor actor, CancellationToken ct)
    {
        if (catalogue.All.Any(p => p.Id == wish.Id))
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a profile \"{wish.Id}\" already.",
                "Give the copy another short name."
            );
        if (!catalogue.Get(from).ForPeople)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The profile \"{from}\" is for agents and the service itself: a copy would be of no use.",
                "Copy one that people may ask for."
            );
        return RunAsync(
            ProfileWords.Write(catalogue.Get(from)) with
            {
                Id = wish.Id,
                Title = string.IsNullOrWhiteSpace(wish.Title) ? catalogue.Get(from).Title + ", copied" : wish.Title,
            },
            actor,
            ct
        );
    }

    public async Task OfferAsync(string id, bool offered, Actor actor, CancellationToken ct)
    {
        var p = catalogue.Get(id);
        if (!p.ForPeople)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The profile \"{id}\" is for agents and the service itself; without it they could not go on.",
                "Nothing to do."
            );
        if (p.Offered == offered)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The profile \"{id}\" is {(offered ? "offered" : "withdrawn")} already.",
                "Nothing to do."
            );
        await using (var write = await db.BeginWriteAsync(ct))
        {
            (await db.Profiles.SingleAsync(x => x.Name == id, ct)).Offer(offered);
            await db.Note(
                clock.GetUtcNow(),
                actor,
                offered ? JournalAction.ProfileOffered : JournalAction.ProfileWithdrawn,
                id,
                offered ? "" : "nothing new is issued under it; renewals go on"
            );
            await write.CommitAsync(ct);
            await catalogue.LoadAsync(db, clock.GetUtcNow(), ct);
        }
        changes.Tell("profile", id);
    }
}
