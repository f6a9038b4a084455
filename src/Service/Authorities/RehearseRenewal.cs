using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Says what a renewal of the issuing authority would change, before anything is done.</summary>
public sealed class RehearseRenewal(
    BeaconDb db,
    AuthorityRegistry registry,
    ResponderCertificates responders,
    BeaconOptions options,
    TimeProvider clock
)
{
    public async Task<Rehearsal> RunAsync(string slug, KeySpec? newKey, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug)
            throw RenewAuthority.Elsewhere(slug);
        var (now, point) = (clock.GetUtcNow(), registry.Issuing);
        var row = await db.Authorities.AsNoTracking().Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
        var coming = row.Coming;
        var number = coming?.Number ?? row.Generations.Max(g => g.Number) + 1;
        // A renewal that has begun is rehearsed as it is, whatever is asked.
        var fresh = coming is null ? newKey is not null : coming.KeyNumber != point.KeyNumber;
        var keyNumber = coming?.KeyNumber ?? (fresh ? row.Generations.Max(g => g.KeyNumber) + 1 : point.KeyNumber);
        var file = Authority.FileOf(slug, keyNumber);
        var newest = registry.Root;

        var chains = new List<RehearsedChain>();
        DateTimeOffset? sideBySide = null;
        foreach (var g in row.Certified.Where(g => g.TakenUpAt is not null))
        {
            var x = g.Read();
            var good = await db
                .Editions.AsNoTracking()
                .Where(e => e.GenerationId == g.Id && e.NotAfter > now && e.Profile != "responder")
                .GroupBy(_ => 1)
                .Select(e => new { Count = e.LongCount(), Last = e.Max(i => i.NotAfter) })
                .SingleOrDefaultAsync(ct);
            chains.Add(
                new(
                    $"editions under generation {g.Number}{(g == row.InUse ? ", which issues now" : "")}",
                    good?.Count ?? 0,
                    good?.Last,
                    [
                        $"edition, signed by key {g.KeyNumber}",
                        !fresh && g.KeyNumber == keyNumber
                            ? $"{row.Name}, generation {g.Number} as sent along, or generation {number} as fetched: they have the same key"
                            : $"{row.Name}, generation {g.Number} (until {x.NotAfter:yyyy-MM-dd}): unchanged",
                        RootOf(x),
                    ]
                )
            );
            if (good is not null && (sideBySide is null || good.Last > sideBySide))
                sideBySide = good.Last;
        }
        chains.Add(
            new(
                $"editions issued after taking up generation {number}",
                0,
                null,
                [
                    $"edition, signed by {(fresh ? $"the new key {keyNumber}" : $"the same key {keyNumber}")}",
                    $"{row.Name}, generation {number}",
                    $"{newest.Subject.CommonName}, until {newest.NotAfter:yyyy-MM-dd}",
                ]
            )
        );

        var points = new List<RehearsedPoint>();
        foreach (var k in registry.Keys.Where(k => k.KeyNumber != keyNumber || !fresh))
        {
            var same = k.KeyNumber == keyNumber;
            points.Add(
                new(
                    k.IssuerUri,
                    same
                        ? $"generation {number}'s certificate takes the place of the older one; it fits the older editions too"
                        : "stays as it is",
                    same
                )
            );
            points.Add(
                new(
                    k.CrlUri,
                    same
                        ? "one list of the key goes on, for editions of both generations"
                        : "stays, with its delta: the list of the older key",
                    false
                )
            );
        }
        if (fresh)
        {
            points.Add(new(registry.IssuerUri(file), $"new: generation {number}'s certificate", true));
            points.Add(
                new(
                    registry.CrlUri(file),
                    "new: the list of the new key; it names this address as its scope (issuing distribution point)",
                    true
                )
            );
            points.Add(new(registry.CrlUri(CrlShelf.DeltaName(file)), "new: the delta to it", true));
        }
        points.Add(
            new(
                point.OcspUri,
                fresh ? "answers for both keys, each signed by a responder of its own" : "goes on; its answers hold for both generations",
                false
            )
        );

        var lists = new List<string>();
        foreach (var k in registry.Keys)
            lists.Add(
                $"Key {k.KeyNumber}: list at {k.CrlUri} and OCSP answers signed by {(responders.Of(k.KeyNumber) is { } r ? $"a responder whose certificate ends on {r.Certificate.NotAfter:yyyy-MM-dd} and renews itself" : "a responder that is still to be made")}"
                    + (
                        k.KeyNumber == keyNumber
                            ? ", as long as it issues."
                            : $", until the last edition under it has ended{(sideBySide is { } last ? $" ({last:yyyy-MM-dd HH:mm} UTC as things are)" : "")}; the key itself signs them, so it stays here."
                    )
            );
        if (fresh)
            lists.Add($"Key {keyNumber}: a list and a responder of its own from the moment its certificate is published.");

        var hosts = await db
            .Hosts.AsNoTracking()
            .Where(h => h.State == HostState.Joined)
            .Select(h => new { h.Name, h.AnchorsJson })
            .OrderBy(h => h.Name)
            .ToListAsync(ct);
        var lacking = hosts
            .Where(h => h.AnchorsJson is null || !Shapes.Strings(h.AnchorsJson).Contains(newest.Thumbprint.Hex))
            .Select(h => h.AnchorsJson is null ? h.Name + " (has not said which roots it has)" : h.Name)
            .ToList();

        var warnings = new List<string>();
        if (coming is not null)
            warnings.Add(
                $"Generation {number} is on its way already: it {(coming.Waits ? "waits for its certificate" : "is published, and nothing is issued under it yet")}."
            );
        if (newest.NotAfter - now < point.Certificate.NotAfter - point.Certificate.NotBefore)
            warnings.Add(
                $"The root ends on {newest.NotAfter:yyyy-MM-dd}: the renewed authority cannot live longer. Renew the root first if that is too short."
            );
        if (AuthorityBounds.Of(options) is { } bounds && bounds.ToString() != point.Certificate.Constraints?.ToString())
            warnings.Add(
                $"The request asks for new bounds, by the zones of today: {bounds}. So far: {point.Certificate.Constraints?.ToString() ?? "none"}."
            );
        if (lacking.Count > 0)
            warnings.Add(
                $"{lacking.Count} hosts do not have the newest root: what is signed below it reaches them with a cross certificate only."
            );
        if (!registry.Authorities.Any(a => a.Kind == "root"))
            warnings.Add("No root is known here.");
        return new(
            slug,
            number,
            fresh,
            (fresh ? newKey?.ToString() ?? "new" : point.Certificate.PublicKey.Spec.ToString()),
            Steps(slug, number, fresh, newKey),
            chains,
            points,
            lists,
            lacking,
            sideBySide,
            warnings
        );

        string RootOf(X509 x) =>
            registry.All.Where(r => r.IsSelfSigned && x.SignedBy(r.PublicKey)).MaxBy(r => r.NotAfter) is { } r
                ? $"{r.Subject.CommonName}, until {r.NotAfter:yyyy-MM-dd}"
                : x.Issuer.ToString();
    }

    private IReadOnlyList<string> Steps(string slug, int number, bool fresh, KeySpec? key) =>
        [
            $"beacon authority renew {slug}{(fresh ? $" --new-key {key?.ToString() ?? "KIND"}" : "")}: makes {(fresh ? "the key and " : "")}the request. Nothing else changes.",
            $"beacon authority request {slug}: the request as a file, for the root{(options.Founding == "whole" ? " (its key was sealed at the founding: beacon ceremony adopt makes a root's folder of it)" : "")}.",
            "beacon ceremony sign FOLDER REQUEST, where the root is.",
            $"beacon authority install {slug} ANSWER: checked and published; generation {number - 1} still issues.",
            $"beacon authority take-up {slug}: fetches every point as a client would, and only when all are right lets generation {number} issue.",
            $"beacon authority undo {slug} takes it back at any time before the first edition under generation {number}.",
        ];
}
