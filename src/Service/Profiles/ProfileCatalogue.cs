using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Profiles;

/// <summary>The profiles in memory: the newest revision of each, read at start and after each change.</summary>
public sealed class ProfileCatalogue
{
    private volatile IReadOnlyList<Profile> _all = StartingSet.All;

    public IReadOnlyList<Profile> All => _all;

    public Profile Get(string id) =>
        All.FirstOrDefault(p => p.Id == id)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no profile \"{id}\".", "See beacon profile list.");

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/> for profiles that only agents and the service use, that are withdrawn, or that are for other groups.</exception>
    public Profile GetFor(string id, IReadOnlyCollection<string> groups)
    {
        var p = Get(id);
        if (p.MayBeAskedBy(groups))
            return p;
        throw new BeaconProblem(
            ProblemCode.NotAllowed,
            p switch
            {
                { ForPeople: false } => $"The profile \"{id}\" is for agents and the service itself.",
                { Offered: false } => $"The profile \"{id}\" is withdrawn.",
                _ => $"The profile \"{id}\" is for members of {string.Join(", ", p.MayAsk)}.",
            },
            "Use one of " + string.Join(", ", All.Where(x => x.MayBeAskedBy(groups)).Select(x => x.Id)) + "."
        );
    }

    /// <summary>Adds what is missing of the starting set, and reads all.</summary>
    public async Task LoadAsync(BeaconDb db, DateTimeOffset now, CancellationToken ct)
    {
        var rows = await db.Profiles.AsNoTracking().ToListAsync(ct);
        var missing = StartingSet.All.Where(p => rows.All(r => r.Name != p.Id)).ToList();
        if (missing.Count > 0)
        {
            await using var write = await db.BeginWriteAsync(ct);
            foreach (var p in missing)
            {
                db.Profiles.Add(ProfileRow.Of(p.Id));
                db.ProfileRevisions.Add(
                    new()
                    {
                        Name = p.Id,
                        Revision = 1,
                        Json = JsonSerializer.Serialize(ProfileWords.Write(p), BeaconJson.Default.ProfileDefinition),
                        At = now,
                        By = "system",
                    }
                );
            }
            await write.CommitAsync(ct);
            rows = await db.Profiles.AsNoTracking().ToListAsync(ct);
        }
        var revisions = await (
            from p in db.Profiles.AsNoTracking()
            join r in db.ProfileRevisions on new { p.Name, p.Revision } equals new { r.Name, r.Revision }
            select r
        ).ToListAsync(ct);
        var order = StartingSet.All.Select(p => p.Id).ToList();
        _all =
        [
            .. rows.OrderBy(r => order.IndexOf(r.Name) is >= 0 and var i ? i : 1000)
                .ThenBy(r => r.Name, StringComparer.Ordinal)
                .Select(r =>
                    ProfileWords.Read(
                        ProfileWords.FromJson(revisions.Single(x => x.Name == r.Name).Json),
                        r.Revision,
                        r.Offered,
                        StartingSet.All.FirstOrDefault(s => s.Id == r.Name)
                    )
                ),
        ];
    }
}
