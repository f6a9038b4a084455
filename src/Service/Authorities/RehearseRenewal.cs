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
    /// <summary>What is rehearsed: the generation that would come, and the key it would have.</summary>
    private sealed record Coming(Authority Row, Generation? Begun, int Number, bool IsNewKey, int KeyNumber);

    public async Task<Rehearsal> RunAsync(string slug, KeySpec? newKey, CancellationToken ct)
    {
        if (slug != Authority.IssuingSlug)
            throw RenewAuthority.Elsewhere(slug);
        var row = await db.Authorities.AsNoTracking().Include(a => a.Generations).SingleAsync(a => a.Slug == slug, ct);
        var coming = ComingOf(row, newKey);
        var chains = new List<RehearsedChain>();
        foreach (var g in row.Certified.Where(g => g.TakenUpAt is not null))
            chains.Add(await ChainAsync(g, coming, ct));
        var sideBySide = chains.Max(c => c.LastEnds);
        var lacking = await LackingAsync(ct);
        return new(
            slug,
            coming.Number,
            coming.IsNewKey,
            coming.IsNewKey ? newKey?.ToString() ?? "new" : registry.Issuing.Certificate.PublicKey.Spec.ToString(),
            Steps(slug, coming.Number, coming.IsNewKey, newKey),
            [.. chains, AfterTakingUp(coming)],
            Points(coming),
            Lists(coming, sideBySide),
            lacking,
            sideBySide,
            Warnings(coming, lacking)
        );
    }

    /// <summary>A renewal that has begun is rehearsed as it is, whatever is asked.</summary>
    private Coming ComingOf(Authority row, KeySpec? newKey)
    {
        var (now, begun) = (registry.Issuing.KeyNumber, row.Coming);
        if (begun is not null)
            return new(row, begun, begun.Number, begun.KeyNumber != now, begun.KeyNumber);
        var keyNumber = newKey is null ? now : row.Generations.Max(g => g.KeyNumber) + 1;
        return new(row, null, row.Generations.Max(g => g.Number) + 1, newKey is not null, keyNumber);
    }

    private async Task<RehearsedChain> ChainAsync(Generation g, Coming coming, CancellationToken ct)
    {
        var (x, now) = (g.Read(), clock.GetUtcNow());
        var good = await db
            .Editions.AsNoTracking()
            .Where(e => e.GenerationId == g.Id && e.NotAfter > now && e.Profile != "responder")
            .GroupBy(_ => 1)
            .Select(e => new { Count = e.LongCount(), Last = e.Max(i => i.NotAfter) })
            .SingleOrDefaultAsync(ct);
        var hasTheKey = !coming.IsNewKey && g.KeyNumber == coming.KeyNumber;
        return new(
            $"editions under generation {g.Number}{(g == coming.Row.InUse ? ", which issues now" : "")}",
            good?.Count ?? 0,
            good?.Last,
            [
                $"edition, signed by key {g.KeyNumber}",
                hasTheKey
                    ? $"{coming.Row.Name}, generation {g.Number} as sent along, or generation {coming.Number} as fetched: they have the same key"
                    : $"{coming.Row.Name}, generation {g.Number} (until {x.NotAfter:yyyy-MM-dd}): unchanged",
                RootOf(x),
            ]
        );
    }

    private RehearsedChain AfterTakingUp(Coming coming) =>
        new(
            $"editions issued after taking up generation {coming.Number}",
            0,
            null,
            [
                $"edition, signed by {(coming.IsNewKey ? $"the new key {coming.KeyNumber}" : $"the same key {coming.KeyNumber}")}",
                $"{coming.Row.Name}, generation {coming.Number}",
                $"{registry.Root.Subject.CommonName}, until {registry.Root.NotAfter:yyyy-MM-dd}",
            ]
        );

    private string RootOf(X509 x) =>
        registry.All.Where(r => r.IsSelfSigned && x.SignedBy(r.PublicKey)).MaxBy(r => r.NotAfter) is { } r
            ? $"{r.Subject.CommonName}, until {r.NotAfter:yyyy-MM-dd}"
            : x.Issuer.ToString();

    private List<RehearsedPoint> Points(Coming coming)
    {
        var points = new List<RehearsedPoint>();
        foreach (var k in registry.Keys.Where(k => k.KeyNumber != coming.KeyNumber || !coming.IsNewKey))
            points.AddRange(PointsOf(k, coming));
        if (coming.IsNewKey)
        {
            var file = Authority.FileOf(coming.Row.Slug, coming.KeyNumber);
            points.AddRange([
                new(registry.IssuerUri(file), $"new: generation {coming.Number}'s certificate", true),
                new(
                    registry.CrlUri(file),
                    "new: the list of the new key; it names this address as its scope (issuing distribution point)",
                    true
                ),
                new(registry.CrlUri(CrlShelf.DeltaName(file)), "new: the delta to it", true),
            ]);
        }
        var answers = coming.IsNewKey
            ? "answers for both keys, each signed by a responder of its own"
            : "goes on; its answers hold for both generations";
        points.Add(new(registry.Issuing.OcspUri, answers, false));
        return points;
    }

    private static RehearsedPoint[] PointsOf(IssuingPoint k, Coming coming) =>
        k.KeyNumber == coming.KeyNumber
            ?
            [
                new(
                    k.IssuerUri,
                    $"generation {coming.Number}'s certificate takes the place of the older one; it fits the older editions too",
                    true
                ),
                new(k.CrlUri, "one list of the key goes on, for editions of both generations", false),
            ]
            : [new(k.IssuerUri, "stays as it is", false), new(k.CrlUri, "stays, with its delta: the list of the older key", false)];

    private List<string> Lists(Coming coming, DateTimeOffset? sideBySide)
    {
        var lists = new List<string>();
        foreach (var k in registry.Keys)
        {
            var responder = responders.Of(k.KeyNumber) is { } r
                ? $"a responder whose certificate expires on {r.Certificate.NotAfter:yyyy-MM-dd} and renews itself"
                : "a responder that is still to be made";
            var last = sideBySide is { } until ? $" ({until:yyyy-MM-dd HH:mm} UTC as things are)" : "";
            var howLong =
                k.KeyNumber == coming.KeyNumber
                    ? ", as long as it issues."
                    : $", until the last edition under it has ended{last}; the key itself signs them, so it stays here.";
            lists.Add($"Key {k.KeyNumber}: list at {k.CrlUri} and OCSP answers signed by {responder}{howLong}");
        }
        if (coming.IsNewKey)
            lists.Add($"Key {coming.KeyNumber}: a list and a responder of its own from the moment its certificate is published.");
        return lists;
    }

    /// <summary>Hosts whose agent does not have the newest root.</summary>
    private async Task<List<string>> LackingAsync(CancellationToken ct)
    {
        var hosts = await db
            .Hosts.AsNoTracking()
            .Where(h => h.State == HostState.Joined)
            .Select(h => new { h.Name, h.AnchorsJson })
            .OrderBy(h => h.Name)
            .ToListAsync(ct);
        var newest = registry.Root.Thumbprint.Hex;
        return
        [
            .. hosts
                .Where(h => h.AnchorsJson is null || !Shapes.Strings(h.AnchorsJson).Contains(newest))
                .Select(h => h.AnchorsJson is null ? h.Name + " (has not said which roots it has)" : h.Name),
        ];
    }

    private List<string> Warnings(Coming coming, List<string> lacking)
    {
        var (root, issuing, warnings) = (registry.Root, registry.Issuing.Certificate, new List<string>());
        if (coming.Begun is { } begun)
            warnings.Add(
                $"Generation {begun.Number} is on its way already: it {(begun.Waits ? "waits for its certificate" : "is published, and nothing is issued under it yet")}."
            );
        if (root.NotAfter - clock.GetUtcNow() < issuing.NotAfter - issuing.NotBefore)
            warnings.Add(
                $"The root expires on {root.NotAfter:yyyy-MM-dd}: the renewed authority cannot live longer. Renew the root first if that is too short."
            );
        if (AuthorityBounds.Of(options) is { } bounds && bounds.ToString() != issuing.Constraints?.ToString())
            warnings.Add(
                $"The request asks for new bounds, by the zones of today: {bounds}. So far: {issuing.Constraints?.ToString() ?? "none"}."
            );
        if (lacking.Count > 0)
            warnings.Add(
                $"{lacking.Count} hosts do not have the newest root: what is signed below it reaches them with a cross certificate only."
            );
        if (!registry.Authorities.Any(a => a.Kind == "root"))
            warnings.Add("No root is known here.");
        return warnings;
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
