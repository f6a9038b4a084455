using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Core.Ceremonies;

/// <summary>What a subordinate authority shall be able to do.</summary>
/// <param name="Life">As long as wanted; never past the root's own end.</param>
/// <param name="PathLength">How many authorities may stand below it.</param>
/// <param name="CrlUris">Where the root's CRL will be found.</param>
/// <param name="IssuerUris">Where the root's certificate will be found.</param>
public sealed record SubordinateWish(
    TimeSpan Life,
    int PathLength,
    NameConstraints? Constraints,
    IReadOnlyList<string> CrlUris,
    IReadOnlyList<string> IssuerUris
)
{
    /// <summary>Leaves out the bounds that the request asks for; only when <see cref="Constraints"/> is null.</summary>
    public bool Unbounded { get; init; }
}

/// <summary>What would be signed, in bytes and in sentences.</summary>
public sealed record SubordinateDecision(CertificateContent Content, IReadOnlyList<string> Sentences);

/// <summary>What an offline root signs and what it refuses (RFC 5280 section 4.2, RFC 4210 section 4.4). Whoever holds the key calls this, then signs the content.</summary>
public static class RootCeremony
{
    /// <summary>A root's own certificate. It is signed with the key that it names.</summary>
    /// <param name="pathLength">How many authorities may stand below one another; null sets no bound.</param>
    public static CertificateContent Root(
        DistinguishedName name,
        PublicKeyInfo key,
        SerialNumber serial,
        TimeSpan life,
        int? pathLength,
        NameConstraints? constraints,
        DateTimeOffset now
    )
    {
        if (name.CommonName is not { Length: > 0 })
            throw new BeaconProblem(
                ProblemCode.SubjectMalformed,
                "A root needs a common name.",
                "Give one, as in \"CN=Thistledown Root, O=Thistledown Rail\". It is for as long as the root lives."
            );
        if (life < TimeSpan.FromDays(30) || life > TimeSpan.FromDays(50 * 366))
            throw new BeaconProblem(ProblemCode.InputInvalid, "A root lives between 30 days and 50 years.", "Give its life, as in 20y.");
        var from = Whole(now) - TimeSpan.FromMinutes(5);
        return new()
        {
            Serial = serial,
            Issuer = name,
            Subject = name,
            PublicKey = key,
            NotBefore = from,
            NotAfter = from + life,
            IsAuthority = true,
            PathLength = pathLength,
            Constraints = constraints,
            KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
        };
    }

    /// <summary>A cross certificate: one of the root's keys certified by another of its keys, so that who trusts only the one can follow to the other.</summary>
    public static CertificateContent Cross(X509 of, X509 by, SerialNumber serial) =>
        new()
        {
            Serial = serial,
            Issuer = by.Subject,
            Subject = of.Subject,
            PublicKey = of.PublicKey,
            NotBefore = of.NotBefore > by.NotBefore ? of.NotBefore : by.NotBefore,
            NotAfter = of.NotAfter < by.NotAfter ? of.NotAfter : by.NotAfter,
            IsAuthority = true,
            PathLength = of.PathLength,
            Constraints = of.Constraints,
            KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            AuthorityKeyIdentifier = by.SubjectKeyIdentifier,
        };

    /// <summary>Decides a subordinate's request.</summary>
    /// <param name="others">All that the root certified so far, revoked ones left out: a key or a name that is there already is pointed out.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.RequestRefused"/> and what <see cref="CertificationRequest.ThrowIfUnusable"/> throws.</exception>
    public static SubordinateDecision Subordinate(
        X509 root,
        CertificationRequest request,
        SubordinateWish wish,
        IReadOnlyList<X509> others,
        SerialNumber serial,
        DateTimeOffset now
    )
    {
        ThrowUnlessFit(root, request, wish, others);
        var bounds = wish.Constraints ?? (wish.Unbounded ? null : request.AskedBounds);
        var validity = Validity.Work(now, wish.Life, wish.Life, root.NotBefore, root.NotAfter);
        var content = new CertificateContent
        {
            Serial = serial,
            Issuer = root.Subject,
            Subject = request.Subject,
            PublicKey = request.PublicKey,
            NotBefore = validity.NotBefore,
            NotAfter = validity.NotAfter,
            IsAuthority = true,
            PathLength = wish.PathLength,
            Constraints = bounds,
            KeyUsage = KeyUsages.DigitalSignature | KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            AuthorityKeyIdentifier = root.SubjectKeyIdentifier,
            CrlUris = wish.CrlUris,
            IssuerUris = wish.IssuerUris,
        };
        return new(content, Sentences(root, request, wish, others, bounds, validity));
    }

    private static void ThrowUnlessFit(X509 root, CertificationRequest request, SubordinateWish wish, IReadOnlyList<X509> others)
    {
        request.ThrowIfUnusable();
        if (
            request.PublicKey.Spec
            is { Algorithm: not (KeyAlgorithm.Rsa or KeyAlgorithm.Ec) }
                or { Algorithm: KeyAlgorithm.Rsa, Bits: < 2048 }
        )
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                $"An authority's key of {request.PublicKey.Spec} is not signed.",
                "Make the request with an RSA key of at least 2048 bits, or an elliptic one."
            );
        if (request.Subject.CommonName is not { Length: > 0 })
            throw Refused(
                "The request has no common name, so nobody could tell the authority by its name.",
                "Make the request with the authority's name."
            );
        if (request.Subject.Matches(root.Subject))
            throw Refused("The request has the root's own name.", "Give the authority a name of its own.");
        if (request.PublicKey.SameKey(root.PublicKey))
            throw Refused(
                "The request is made with the root's own key.",
                "Make the request with the authority's own key, where it will be used."
            );
        if (
            others.FirstOrDefault(o =>
                o.PublicKey.SameKey(request.PublicKey) && !o.Subject.Der.Span.SequenceEqual(request.Subject.Der.Span)
            ) is
            { } taken
        )
            throw Refused($"The request's key belongs to {taken.Subject} already.", "Make a new key for another name.");
        if (root.PathLength is { } most && wish.PathLength >= most)
            throw Refused(
                $"Below this root stand at most {most} authorities, so the subordinate may have {Math.Max(0, most - 1)} below itself, not {wish.PathLength}.",
                most == 0 ? "Create a root without that bound." : $"Give --path-length {most - 1} or less."
            );
        if (wish.Life < TimeSpan.FromDays(1))
            throw new BeaconProblem(ProblemCode.InputInvalid, "An authority lives at least a day.", "Give its life, as in 8y.");
    }

    /// <summary>What a person agrees to.</summary>
    private static List<string> Sentences(
        X509 root,
        CertificationRequest request,
        SubordinateWish wish,
        IReadOnlyList<X509> others,
        NameConstraints? bounds,
        Validity validity
    )
    {
        var sentences = new List<string>
        {
            $"{request.Subject} asks, with a key of {request.PublicKey.Spec} ({request.PublicKey.Fingerprint()[..16]}…).",
            wish.PathLength == 0
                ? "It will certify servers, clients and the like, and no further authorities."
                : $"It will certify servers, clients and the like, and authorities up to {wish.PathLength} deep below itself.",
            (bounds, root.Constraints) switch
            {
                ({ } c, _) => $"It will be believed for {c}{(wish.Constraints is null ? ", as its request asks" : "")}.",
                (_, { } above) => $"The root's own bound holds for it: {above}.",
                _ => "It will be believed for every name: nothing bounds it.",
            },
            $"It will be good until {validity.NotAfter:yyyy-MM-dd}."
                + (validity.Limit == ValidityLimit.Issuer ? $" That is shorter than asked, since the root itself ends then." : ""),
            wish.CrlUris.Count > 0
                ? $"Whether it is revoked will be looked up at {string.Join(", ", wish.CrlUris)}."
                : "No address of the root's CRL goes into it: nobody will be able to look up whether it is revoked.",
        };
        if (others.LastOrDefault(o => o.Subject.Der.Span.SequenceEqual(request.Subject.Der.Span)) is { } earlier)
            sentences.Add(
                $"It had a certificate before, serial {earlier.Serial}, until {earlier.NotAfter:yyyy-MM-dd}: this {(earlier.PublicKey.SameKey(request.PublicKey) ? "renews it with the same key" : "gives it a new key")}."
            );
        return sentences;
    }

    /// <summary>Takes a file for what it is: of several with similar names, the wrong one is named.</summary>
    /// <param name="expected">What it should be, as in "a subordinate's certification request".</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongFile"/>.</exception>
    public static FileItem Expect(ReadOnlySpan<byte> file, FileItemKind kind, string expected, string cure)
    {
        var items = FileInspection.Inspect(file);
        return items.FirstOrDefault(i => i.Kind == kind)
            ?? throw new BeaconProblem(
                ProblemCode.WrongFile,
                $"This is not {expected}. What is in the file: {string.Join(" ", items.Select(i => i.Summary))}",
                cure
            );
    }

    private static BeaconProblem Refused(string why, string cure) => new(ProblemCode.RequestRefused, why, cure);

    private static DateTimeOffset Whole(DateTimeOffset t) => new(t.UtcTicks - t.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
}
