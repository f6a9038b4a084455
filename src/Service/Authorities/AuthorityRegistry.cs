using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>What is needed to issue under one generation.</summary>
public sealed record IssuingPoint(int AuthorityId, int GenerationId, X509 Certificate, ISigner Signer, string CrlUri, string IssuerUri, string OcspUri);

/// <summary>The authorities in memory, read once at start: certificates, the online signer, the newest CRLs.</summary>
public sealed class AuthorityRegistry(AuthorityKeys keys, BeaconOptions options)
{
    private volatile Loaded? _loaded;

    private sealed record Loaded(IReadOnlyList<Authority> Authorities, X509 Root, IssuingPoint Issuing, IReadOnlyList<X509> All, IReadOnlyList<X509> Anchors);

    private Loaded Now => _loaded ?? throw new BeaconProblem(ProblemCode.AuthorityNotReady, "The authorities are not loaded yet.", "Try again in a moment.");

    public bool IsReady => _loaded is not null;
    public X509 Root => Now.Root;
    public IssuingPoint Issuing => Now.Issuing;

    /// <summary>All certificates of all our authorities.</summary>
    public IReadOnlyList<X509> All => Now.All;
    
    /// <summary>Our root, and the roots that clients trust besides.</summary>
    public IReadOnlyList<X509> Anchors => Now.Anchors;
    public IReadOnlyList<Authority> Authorities => Now.Authorities;

    public string CrlUri(string slug) => $"{options.PublicUrl}/crl/{slug}.crl";
    public string OcspUri(string slug) => $"{options.PublicUrl}/ocsp/{slug}";
    public string IssuerUri(string slug) => $"{options.PublicUrl}/issuer/{slug}.cer";

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        var rows = await db.Authorities.AsNoTracking().Include(a => a.Generations).ToListAsync(ct);
        var root = rows.Single(a => a.Slug == Authority.RootSlug).Generations.MaxBy(g => g.Number)!;
        var issuing = rows.Single(a => a.Slug == Authority.IssuingSlug);
        var generation = issuing.Generations.MaxBy(g => g.Number)!;
        var point = new IssuingPoint(issuing.Id, generation.Id, generation.Read(), keys.Load(generation.KeyFile!), CrlUri(issuing.Slug), IssuerUri(issuing.Slug), OcspUri(issuing.Slug));
        _loaded = new(rows, root.Read(), point, [.. rows.SelectMany(a => a.Generations).Select(g => g.Read())], [root.Read(), .. Further()]);
    }

    private IEnumerable<X509> Further() => options.Anchors.Length == 0 ? []
        : Armor.Read(File.ReadAllBytes(options.Anchors)).Blocks.Where(b => b.Label == Armor.Certificate).Select(b => X509.Read(b.Der));

    /// <summary>PEM of an edition with its intermediates, leaf first, without the root.</summary>
    public string ChainPem(ReadOnlySpan<byte> leaf) =>
        Armor.Write(Armor.Certificate, leaf) + Armor.Write(Armor.Certificate, Issuing.Certificate.Der.Span);
}
