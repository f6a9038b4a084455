using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Health;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Profiles;
using Severity = OrderlyBeacon.Core.Paths.Severity;

namespace OrderlyBeacon.Service.Health;

/// <summary>What is wrong with a generation itself: it waits, its key cannot be used, its end is near.</summary>
public sealed class GenerationFindings(AuthorityRegistry registry, AuthorityKeys keys, ProfileCatalogue profiles)
{
    internal (List<PointFinding> Findings, bool IsUsable) Of(Authority a, Generation g, X509? x, GenerationState state, DateTimeOffset now)
    {
        var unusable = state == GenerationState.Withdrawn ? null : KeyFinding(g, x, state);
        PointFinding?[] found =
        [
            state == GenerationState.Waiting ? Waits(a) : null,
            unusable,
            x is not null && state == GenerationState.InUse ? EndsBefore(a, x, now) : null,
        ];
        return ([.. found.OfType<PointFinding>()], unusable is null);
    }

    private static PointFinding Waits(Authority a) =>
        new(
            PointFault.AuthorityWaits,
            a.InUse is null ? Severity.Now : Severity.Soon,
            $"It waits for the answer to its request.",
            ["The request was not carried to the root yet, or its answer not back."],
            a.InUse is null ? "Nothing can be issued." : "Nobody yet: the generation before it issues.",
            $"beacon authority request {a.Slug}, have it signed, then beacon authority install {a.Slug} FILES; or take it back: beacon authority undo {a.Slug}"
        );

    /// <summary>Null when the key is elsewhere, or can be used.</summary>
    private PointFinding? KeyFinding(Generation g, X509? x, GenerationState state)
    {
        if (g.KeyFile is null || x is null || keys.Try(g.KeyFile, x.PublicKey) is not { } unusable)
            return null;
        return new(
            PointFault.KeyUnusable,
            Severity.Now,
            unusable.Message,
            ["The file was moved, altered or restored without its key-encryption key.", "Its permissions were changed."],
            state == GenerationState.InUse
                ? "Nothing can be issued; lists and answers expire one after the other."
                : "The lists of this key expire: clients then refuse what it certified.",
            unusable.Cure
        );
    }

    /// <summary>The generation under which a certificate was signed: of several with the same key, the last that was there by then.</summary>
    public HealthLink? SignerOf(X509 x) =>
        registry
            .Authorities.SelectMany(a => a.Certified.Select(g => (a.Slug, g.Number, X: g.Read())))
            .Where(s => s.X.Subject.Der.Span.SequenceEqual(x.Issuer.Der.Span) && x.SignedBy(s.X.PublicKey))
            .OrderBy(s => s.X.NotBefore <= x.NotBefore.AddMinutes(10))
            .ThenBy(s => s.Number)
            .Select(s => new HealthLink(s.Slug, s.Number))
            .LastOrDefault();

    /// <summary>The point from which a certificate with its full life would be cut short.</summary>
    private PointFinding? EndsBefore(Authority a, X509 x, DateTimeOffset now)
    {
        var left = x.NotAfter - now;
        if (a.Kind != "issuing")
            return left > TimeSpan.FromDays(365)
                ? null
                : new(
                    PointFault.AuthorityEnds,
                    left < TimeSpan.Zero ? Severity.Now : Severity.Soon,
                    $"{a.Name} expires on {x.NotAfter:yyyy-MM-dd}.",
                    ["Its life is nearly over."],
                    "After that nothing below it is accepted.",
                    "Where it is: beacon ceremony renew FOLDER. Then: beacon authority install root FILES"
                );
        var longest = profiles.All.Where(p => p.ForPeople).MaxBy(p => p.Life)!;
        return left > longest.Life
            ? null
            : new(
                PointFault.AuthorityEnds,
                left < TimeSpan.Zero ? Severity.Now : Severity.Soon,
                $"The authority expires on {x.NotAfter:yyyy-MM-dd}: the full life of profile \"{longest.Id}\", {longest.Life.TotalDays:0} days, does not fit any more.",
                ["Its life is nearly over."],
                "Lives of new certificates are cut short; after its end nothing it issued is accepted.",
                $"Begin its renewal: beacon authority rehearse {a.Slug}"
            );
    }
}
