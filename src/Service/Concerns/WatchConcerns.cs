using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>Concerns that no change of a row causes: what falls due, who falls silent, what the house itself lacks. Writes only where something is otherwise than before.</summary>
public sealed class WatchConcerns(Presence presence, Changes changes, TimeProvider clock)
{
    private const int AtOnce = 400,
        MostParts = 50;
    private HashSet<int>? _away;
    private IReadOnlyList<Found>? _house;

    /// <summary>At the start: what an earlier version left without a concern gets it.</summary>
    public async Task BeginAsync(BeaconDb db, CancellationToken ct)
    {
        var hosts = await db.Hosts.Where(h => h.State == HostState.Joined && h.ProblemJson != null).Select(h => h.Id).ToListAsync(ct);
        var requests = await db.Requests.Where(r => r.State == RequestState.WaitingForApproval).Select(r => r.Id).ToListAsync(ct);
        if (hosts.Count + requests.Count == 0)
            return;
        await using var write = await db.BeginWriteAsync(ct);
        db.JudgeAgain([], [], hosts, requests);
        await write.CommitAsync(ct);
    }

    /// <summary>Judges what has come due, soonest first, in parts between which others write.</summary>
    /// <returns>When the next falls due; null when nothing will.</returns>
    public async Task<DateTimeOffset?> DueAsync(BeaconDb db, CancellationToken ct)
    {
        for (var part = 0; part < MostParts && await DuePartAsync(db, ct); part++)
            db.ChangeTracker.Clear();
        var next = new[] { await db.Certificates.MinAsync(c => c.JudgeAt, ct), await db.Services.MinAsync(s => s.JudgeAt, ct) };
        return next.Min();
    }

    /// <returns>Whether there may be more.</returns>
    private async Task<bool> DuePartAsync(BeaconDb db, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var certificates = await db
            .Certificates.Where(c => c.JudgeAt <= now)
            .OrderBy(c => c.JudgeAt)
            .Select(c => c.Id)
            .Take(AtOnce)
            .ToListAsync(ct);
        var services = await db
            .Services.Where(s => s.JudgeAt <= now)
            .OrderBy(s => s.JudgeAt)
            .Select(s => s.Id)
            .Take(AtOnce)
            .ToListAsync(ct);
        if (certificates.Count + services.Count == 0)
            return false;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            db.JudgeAgain(certificates, services, [], []);
            await write.CommitAsync(ct);
        }
        changes.Tell("certificate", "due");
        return certificates.Count == AtOnce || services.Count == AtOnce;
    }

    /// <summary>Whether a host fell silent or spoke again since that was told last: seen from memory.</summary>
    public bool IsAwayToTell => _away is null || presence.IsOtherThan(_away);

    /// <summary>Opens and closes what is told of hosts that fell silent or spoke again.</summary>
    public async Task AwayAsync(BeaconDb db, CancellationToken ct)
    {
        _away ??= (
            await db
                .Concerns.Where(c => c.Of == ConcernSubject.Host && c.Kind == ConcernKind.HostAway)
                .Select(c => (int)c.SubjectId)
                .ToListAsync(ct)
        ).ToHashSet();
        if (await presence.AwayAsync(db, ct) is not { } away || away.SetEquals(_away))
            return;
        await using var write = await db.BeginWriteAsync(ct);
        foreach (var back in _away.Except(away).Chunk(AtOnce))
            await db
                .Concerns.Where(c => c.Of == ConcernSubject.Host && c.Kind == ConcernKind.HostAway && back.Contains((int)c.SubjectId))
                .ExecuteDeleteAsync(ct);
        foreach (var gone in away.Except(_away).Chunk(AtOnce))
        foreach (var h in await db.Hosts.AsNoTracking().Where(h => gone.Contains(h.Id) && h.State == HostState.Joined).ToListAsync(ct))
            db.Concerns.Add(OpenConcern.Open(Silent(h, presence.LastSeen(h)), clock.GetUtcNow()));
        await write.CommitAsync(ct);
        _away = [.. away];
        changes.Tell("host", "away");
    }

    private static Found Silent(Hosts.Host h, DateTimeOffset? seen) =>
        new(
            ConcernSubject.Host,
            h.Id,
            ConcernKind.HostAway,
            ShortName.Of(h.Name),
            Severity.Now,
            $"Its agent has not been heard from{(seen is { } t ? $" since {t:yyyy-MM-dd HH:mm} UTC" : "")}.",
            "Nothing on it is renewed or looked at.",
            "Start the agent on it."
        )
        {
            Command = ShellCommand.Of($"beacon host show {ShortName.Of(h.Name)}"),
            Link = $"/hosts/{h.Name}",
        };

    /// <summary>Makes the house's own rows say what is found of it now.</summary>
    public async Task HouseAsync(BeaconDb db, HouseConcerns house, CancellationToken ct)
    {
        var found = await house.FindAsync(ct);
        if (_house is not null && found.SequenceEqual(_house))
            return;
        await using var write = await db.BeginWriteAsync(ct);
        await ConcernKeeper.ReconcileAsync(db, ConcernSubject.House, [0], found, clock.GetUtcNow(), ct);
        await write.CommitAsync(ct);
        _house = found;
        changes.Tell("authority", "concerns");
    }
}
