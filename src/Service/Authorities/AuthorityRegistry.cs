using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>One of the issuing authority's keys with a certificate: what is needed to issue, to sign lists and to have OCSP answers signed.</summary>
/// <param name="Generations">All generations that share the key.</param>
/// <param name="File">What its list and certificate are called in addresses.</param>
public sealed record IssuingPoint(
    int AuthorityId,
    int GenerationId,
    int KeyNumber,
    X509 Certificate,
    ISigner Signer,
    IReadOnlyList<int> Generations,
    string File,
    string CrlUri,
    string IssuerUri,
    string OcspUri
);

/// <summary>An authority whose certificate is still to come.</summary>
/// <param name="Request">The request's short name.</param>
/// <param name="Number">Of the generation that it is for.</param>
public sealed record AwaitedAnswer(string Name, string Request, ReadOnlyMemory<byte> Der, int Number);

/// <summary>The authorities in memory, read at start and after each change: certificates, the online signers, cross certificates.</summary>
public sealed class AuthorityRegistry(AuthorityKeys keys, BeaconOptions options)
{
    private volatile Loaded? _loaded;

    /// <param name="Keys">The issuing authority's keys that have a certificate, oldest first; the one in use is among them.</param>
    /// <param name="Files">What is given at <c>/issuer/FILE.cer</c>.</param>
    private sealed record Loaded(
        IReadOnlyList<Authority> Authorities,
        X509? Root,
        IssuingPoint? Issuing,
        IReadOnlyList<IssuingPoint> Keys,
        IReadOnlyDictionary<int, int> KeyOf,
        IReadOnlyDictionary<string, X509> Files,
        IReadOnlyList<X509> All,
        IReadOnlyList<X509> Crosses,
        IReadOnlyList<X509> Anchors,
        AwaitedAnswer? Waiting
    );

    private Loaded Now =>
        _loaded ?? throw new BeaconProblem(ProblemCode.AuthorityNotReady, "The authorities are not loaded yet.", "Try again in a moment.");

    private BeaconProblem NotReady =>
        new(
            ProblemCode.AuthorityNotReady,
            $"{Now.Waiting?.Name} waits for the answer to its request {Now.Waiting?.Request}: nothing can be issued before.",
            $"Have the request signed by the root, then: beacon authority install {Authority.IssuingSlug} FILES."
        );

    public bool IsReady => _loaded?.Issuing is not null;

    /// <summary>Set while a certificate of the issuing authority, its first or its next, is still to come.</summary>
    public AwaitedAnswer? Waiting => _loaded?.Waiting;

    /// <summary>The newest root.</summary>
    public X509 Root => Now.Root ?? throw NotReady;

    /// <summary>What issues.</summary>
    public IssuingPoint Issuing => Now.Issuing ?? throw NotReady;

    /// <summary>The issuing authority's keys that have a certificate, oldest first, with the newest certificate of each.</summary>
    public IReadOnlyList<IssuingPoint> Keys => Now.Keys;

    /// <summary>All certificates of all our authorities, cross certificates too.</summary>
    public IReadOnlyList<X509> All => Now.All;

    /// <summary>Our roots, and the roots that clients trust besides.</summary>
    public IReadOnlyList<X509> Anchors => Now.Anchors;

    /// <summary>Those that have a certificate.</summary>
    public IReadOnlyList<Authority> Authorities => Now.Authorities;

    /// <summary>The certificate that stands at <c>/issuer/FILE.cer</c>: the newest of its key.</summary>
    public X509? File(string file) => Now.Files.GetValueOrDefault(file);

    /// <summary>Which of the issuing authority's keys signs for a generation; 0 when it is none of them.</summary>
    public int KeyOf(int generationId) => Now.KeyOf.GetValueOrDefault(generationId);

    public string CrlUri(string file) => $"{options.PublicUrl}/crl/{file}.crl";

    public string OcspUri(string slug) => $"{options.PublicUrl}/ocsp/{slug}";

    public string IssuerUri(string file) => $"{options.PublicUrl}/issuer/{file}.cer";

    /// <summary>Counts how often it was loaded: after each time, what was judged may be judged otherwise.</summary>
    public int Version { get; private set; }

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        Version++;
        var rows = await db.Authorities.AsNoTracking().Include(a => a.Generations).Include(a => a.Crosses).AsSplitQuery().ToListAsync(ct);
        var issuing = rows.Single(a => a.Slug == Authority.IssuingSlug);
        AwaitedAnswer? awaited = null;
        if (issuing.Coming is { Waits: true } coming)
        {
            var request = CertificationRequest.Read(coming.Request);
            awaited = new(issuing.Name, AuthorityAnswer.NameOf(request), request.Der, coming.Number);
        }
        if (issuing.InUse is not { } used)
        {
            _loaded = new([], null, null, [], new Dictionary<int, int>(), new Dictionary<string, X509>(), [], [], [.. Further()], awaited);
            return;
        }
        var files = new Dictionary<string, X509>();
        foreach (var a in rows)
        foreach (var g in a.Certified)
            files[Authority.FileOf(a.Slug, g.KeyNumber)] = g.Read();
        var points = issuing
            .Certified.GroupBy(g => g.KeyNumber)
            .OrderBy(g => g.Key)
            .Select(g => PointOf(issuing, g.Last(), [.. g.Select(x => x.Id)]))
            .ToList();
        var roots = rows.Single(a => a.Slug == Authority.RootSlug).Certified.Select(g => g.Read()).ToList();
        var crosses = rows.SelectMany(a => a.Crosses).Select(c => c.Read()).ToList();
        _loaded = new(
            rows,
            roots[^1],
            PointOf(issuing, used, points.Single(p => p.KeyNumber == used.KeyNumber).Generations),
            points,
            issuing.Generations.ToDictionary(g => g.Id, g => g.KeyNumber),
            files,
            [.. rows.SelectMany(a => a.Certified).Select(g => g.Read()), .. crosses],
            crosses,
            [.. roots, .. Further()],
            awaited
        );
    }

    private IssuingPoint PointOf(Authority a, Generation g, IReadOnlyList<int> all)
    {
        var (certificate, file) = (g.Read(), Authority.FileOf(a.Slug, g.KeyNumber));
        return new(
            a.Id,
            g.Id,
            g.KeyNumber,
            certificate,
            keys.Open(g.KeyFile!, certificate.PublicKey),
            all,
            file,
            CrlUri(file),
            IssuerUri(file),
            OcspUri(a.Slug)
        );
    }

    private IEnumerable<X509> Further() =>
        options.Anchors.Length == 0
            ? []
            : Armor
                .Read(System.IO.File.ReadAllBytes(options.Anchors))
                .Blocks.Where(b => b.Label == Armor.Certificate)
                .Select(b => X509.Read(b.Der));

    /// <summary>PEM of an edition with its intermediates, leaf first, without a root.</summary>
    public string ChainPem(ReadOnlySpan<byte> leaf) =>
        Armor.Write(Armor.Certificate, leaf)
        + string.Concat(Above(X509.Read(leaf.ToArray())).Select(x => Armor.Write(Armor.Certificate, x.Der.Span)));

    /// <summary>What is sent along with an edition: its issuer, and what leads from the issuer's root to an older root that some clients still trust alone.</summary>
    public IReadOnlyList<X509> Above(X509 leaf)
    {
        // In use before newer ones that are published only: another service may look at the chain for the generation it knows.
        var issuer = leaf.AuthorityKeyIdentifier.Span.SequenceEqual(Issuing.Certificate.SubjectKeyIdentifier.Span)
            ? Issuing.Certificate
            : Keys.FirstOrDefault(k => leaf.AuthorityKeyIdentifier.Span.SequenceEqual(k.Certificate.SubjectKeyIdentifier.Span))?.Certificate
                ?? Issuing.Certificate;
        var all = new List<X509> { issuer };
        while (
            all.Count < 6
            && Now
                .Authorities.Where(a => a.Kind == Authority.Above)
                .SelectMany(a => a.Certified)
                .Select(g => g.Read())
                .LastOrDefault(x =>
                    all[^1].AuthorityKeyIdentifier.Span.SequenceEqual(x.SubjectKeyIdentifier.Span) && all[^1].SignedBy(x.PublicKey)
                )
                is { } next
        )
            all.Add(next);
        return [.. all, .. CrossesFor(all[^1])];
    }

    /// <summary>Cross certificates of the root key that signed an issuer, by keys that came before it.</summary>
    private IEnumerable<X509> CrossesFor(X509 issuer)
    {
        var order = Now
            .Authorities.Where(a => a.Slug == Authority.RootSlug)
            .SelectMany(a => a.Certified)
            .Select(g => (g.KeyNumber, Key: g.Read().SubjectKeyIdentifier))
            .ToList();
        int NumberOf(ReadOnlyMemory<byte> key) => order.FirstOrDefault(o => o.Key.Span.SequenceEqual(key.Span)).KeyNumber;
        return Now.Crosses.Where(c =>
            c.SubjectKeyIdentifier.Span.SequenceEqual(issuer.AuthorityKeyIdentifier.Span)
            && NumberOf(c.AuthorityKeyIdentifier) is > 0 and var by
            && by < NumberOf(c.SubjectKeyIdentifier)
        );
    }
}
