using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Keeping;
using OrderlyBeacon.Service.Publishing;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>What is worked out from rows of other nouns.</summary>
public sealed record RowConcerns(Attempts Attempts, ProviderQueries Providers);

/// <summary>What of the service itself needs a hand: its authorities, what they publish, custody, attempts. Worked out from memory and a few indexed rows.</summary>
public sealed class HouseConcerns(
    BeaconDb db,
    AuthorityConcerns authorities,
    Custody custody,
    RowConcerns rows,
    PushPublished pushes,
    TimeProvider clock
)
{
    public async Task<IReadOnlyList<Found>> FindAsync(CancellationToken ct)
    {
        var found = new List<Found>();
        if (
            await db.Requests.CountAsync(r => r.State == RequestState.WaitingOutside && r.Approved && r.Outside == null, ct)
            is > 0
                and var held
        )
            found.Add(
                Of(
                    ConcernKind.AuthorityAway,
                    "authority",
                    Severity.Now,
                    $"{held} granted {(held == 1 ? "request waits" : "requests wait")} for the authority's key.",
                    "Who asked for them waits.",
                    "Fix what keeps the key from being used; they continue by themselves.",
                    "beacon authority health",
                    "/authorities"
                )
            );
        found.AddRange(authorities.Find());
        found.AddRange(custody.Concerns());
        found.AddRange(await rows.Attempts.ConcernsAsync(clock.GetUtcNow(), ct));
        found.AddRange(await rows.Providers.ConcernsAsync(ct));
        foreach (var p in pushes.States.Where(p => !p.Good))
            found.Add(
                Of(
                    ConcernKind.PushFailed,
                    p.Target,
                    Severity.Now,
                    p.Told,
                    "Clients that look there find older lists, and at their end none.",
                    "Fix that point; it is tried again every 20 seconds.",
                    "beacon authority health",
                    "/authorities"
                )
            );
        return [.. found.DistinctBy(f => (f.Kind, f.About))];
    }

    public static Found Of(
        ConcernKind kind,
        string about,
        Severity severity,
        string reason,
        string hurts,
        string cure,
        string? command,
        string? link
    ) => new(ConcernSubject.House, 0, kind, about, severity, reason, hurts, cure) { Command = command, Link = link };
}
