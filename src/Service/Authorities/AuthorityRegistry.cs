using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>What is needed to issue under one generation.</summary>
public sealed record IssuingPoint(int AuthorityId, int GenerationId, X509 Certificate, ISigner Signer, string CrlUri, string IssuerUri, string OcspUri);

/// <summary>An authority whose certificate is still to come.</summary>
/// <param name="Request">The request's short name.</param>
public sealed record AwaitedAnswer(string Name, string Request, ReadOnlyMemory<byte> Der);

/// <summary>The authorities in memory, read once at start: certificates, the online signer, the newest CRLs.</summary>
public sealed class AuthorityRegistry(AuthorityKeys keys, BeaconOptions options)
{
    private volatile Loaded? _loaded;

    private sealed record Loaded(IReadOnlyList<Authority> Authorities, X509? Root, IssuingPoint? Issuing, IReadOnlyList<X509> All, IReadOnlyList<X509> Anchors, AwaitedAnswer? Waiting);

    private Loaded Now => _loaded ?? throw new BeaconProblem(ProblemCode.AuthorityNotReady, "The authorities are not loaded yet.", "Try again in a moment.");

    private BeaconProblem NotReady => new(ProblemCode.AuthorityNotReady, $"{Now.Waiting?.Name} waits for the answer to its request {Now.Waiting?.Request}: nothing can be issued before.",
        $"Have the request signed by the root, then: beacon authority install {Authority.IssuingSlug} FILES.");

    public bool IsReady => _loaded?.Issuing is not null;

    /// <summary>Set while the issuing authority's certificate is still to come.</summary>
    public AwaitedAnswer? Waiting => _loaded?.Waiting;
    public X509 Root => Now.Root ?? throw NotReady;
    public IssuingPoint Issuing => Now.Issuing ?? throw NotReady;

    /// <summary>All certificates of all our authorities.</summary>
    public IReadOnlyList<X509> All => Now.All;

    /// <summary>Our root, and the roots that clients trust besides.</summary>
    public IReadOnlyList<X509> Anchors => Now.Anchors;

    /// <summary>Those that have a certificate.</summary>
    public IReadOnlyList<Authority> Authorities => Now.Authorities;

    public string CrlUri(string slug) => $"{options.PublicUrl}/crl/{slug}.crl";
    public string OcspUri(string slug) => $"{options.PublicUrl}/ocsp/{slug}";
    public string IssuerUri(string slug) => $"{options.PublicUrl}/issuer/{slug}.cer";

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        var rows = await db.Authorities.AsNoTracking().Include(a => a.Generations).ToListAsync(ct);
        var issuing = rows.Single(a => a.Slug == Authority.IssuingSlug);
        if (issuing.Generations.All(g => g.Waits))
        {
            var request = CertificationRequest.Read(issuing.Generations[0].Request);
            _loaded = new([], null, null, [], [.. Further()], new(issuing.Name, AuthorityAnswer.NameOf(request), request.Der));
            return;
        }
        var root = rows.Single(a => a.Slug == Authority.RootSlug).Generations.MaxBy(g => g.Number)!;
        var generation = issuing.Generations.MaxBy(g => g.Number)!;
        var point = new IssuingPoint(issuing.Id, generation.Id, generation.Read(), keys.Load(generation.KeyFile!), CrlUri(issuing.Slug), IssuerUri(issuing.Slug), OcspUri(issuing.Slug));
        _loaded = new(rows, root.Read(), point, [.. rows.SelectMany(a => a.Generations).Select(g => g.Read())], [root.Read(), .. Further()], null);
    }

    private IEnumerable<X509> Further() => options.Anchors.Length == 0 ? []
        : Armor.Read(File.ReadAllBytes(options.Anchors)).Blocks.Where(b => b.Label == Armor.Certificate).Select(b => X509.Read(b.Der));

    /// <summary>PEM of an edition with its intermediates, leaf first, without the root.</summary>
    public string ChainPem(ReadOnlySpan<byte> leaf) =>
        Armor.Write(Armor.Certificate, leaf) + Armor.Write(Armor.Certificate, Issuing.Certificate.Der.Span);
}
