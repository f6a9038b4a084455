using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>What of the authorities needs a hand, as the last look at the hierarchy and the keys themselves say.</summary>
public sealed class AuthorityConcerns(AuthorityRegistry registry, AuthorityKeys keys, CrlShelf shelf, HealthBook health, TimeProvider clock)
{
    public IEnumerable<Found> Find() => [.. Waiting(), .. Keys(), .. Findings(), .. RootList()];

    private IEnumerable<Found> Waiting()
    {
        if (!registry.IsReady && registry.Waiting is { } waiting)
            yield return HouseConcerns.Of(
                ConcernKind.AuthorityWaits,
                waiting.Name,
                Severity.Now,
                $"It waits for the answer to its request {waiting.Request}.",
                "Nothing can be issued, and no host can join.",
                "Have the request signed by the root, and install the answer.",
                "beacon authority request issuing",
                null
            );
    }

    private IEnumerable<Found> Keys()
    {
        var told = health.Last?.Authorities.SelectMany(a => a.Generations).SelectMany(g => g.Findings).Select(f => f.Reason).ToList() ?? [];
        return keys
            .Faults.Where(p => !told.Contains(p.Message))
            .Select(p =>
                HouseConcerns.Of(
                    ConcernKind.KeyUnusable,
                    "authority",
                    Severity.Failed,
                    p.Message,
                    "Nothing can be issued; lists and answers expire one after the other.",
                    p.Cure,
                    "beacon authority health",
                    "/authorities"
                )
            );
    }

    private IEnumerable<Found> Findings()
    {
        foreach (var a in health.Last?.Authorities ?? [])
        {
            var own = a.Generations.SelectMany(g => g.Findings).Select(f => (Finding: f, f.Reason));
            var points = a
                .Generations.SelectMany(g => g.Points)
                .Where(p => p.Finding is not null)
                .Select(p => (Finding: p.Finding!, Reason: $"{p.Uri}: {p.Finding!.Reason}"));
            foreach (var same in own.Concat(points).Where(f => IsToldHere(f.Finding)).GroupBy(f => f.Finding.Fault))
            {
                var worst = same.MaxBy(f => f.Finding.Severity);
                var more = same.Count() - 1;
                yield return HouseConcerns.Of(
                    OpenWord<ConcernKind>.Of(worst.Finding.Fault),
                    a.Name,
                    worst.Finding.Severity,
                    worst.Reason + (more > 0 ? $" The same at {more} more." : ""),
                    worst.Finding.Hurts,
                    worst.Finding.Cure,
                    "beacon authority health",
                    "/authorities"
                );
            }
        }
    }

    // What the whole service waits for is told already.
    private bool IsToldHere(HealthFinding f) => f.Severity >= Severity.Soon && !(f.Fault == "authority-waits" && !registry.IsReady);

    /// <summary>Nobody but a person can bring the root's next list: there are weeks to act in. Where the root publishes its lists itself, that is not for us to do.</summary>
    private IEnumerable<Found> RootList()
    {
        var now = clock.GetUtcNow();
        var ours = registry
            .Authorities.SelectMany(a => a.Certified)
            .Any(g => g.Read().CrlUris.Contains(registry.CrlUri(Authority.RootSlug)));
        var ends = shelf.Get(Authority.RootSlug)?.Row.NextUpdate;
        if (!registry.IsReady || !ours || ends >= now.AddDays(60))
            yield break;
        yield return HouseConcerns.Of(
            ConcernKind.RootCrl,
            "root",
            ends > now ? Severity.Soon : Severity.Now,
            ends is { } at
                ? $"The root's CRL {(at > now ? "expires" : "expired")} on {at:d MMM yyyy}."
                : "No CRL of the root is published.",
            "Clients that check the whole chain refuse everything then.",
            "Sign a fresh one where the root is, and publish it.",
            "beacon authority publish-crl FILE",
            null
        );
    }
}
