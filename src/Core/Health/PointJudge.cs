using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Health;

/// <summary>What is found at an address that stands in certificates.</summary>
public enum PointKind
{
    /// <summary>The issuer's certificate (RFC 5280 section 4.2.2.1, id-ad-caIssuers).</summary>
    IssuerCertificate,

    /// <summary>The issuer's full CRL (section 4.2.1.13).</summary>
    Crl,

    /// <summary>The delta to that CRL (sections 4.2.1.15 and 5.2.6).</summary>
    DeltaCrl,

    /// <summary>The OCSP responder (section 4.2.2.1, id-ad-ocsp).</summary>
    Ocsp,
}

/// <summary>What can be wrong with such an address.</summary>
public enum PointFault
{
    /// <summary>Nothing answers there.</summary>
    Unreachable,

    /// <summary>It did not answer in time.</summary>
    TimedOut,

    /// <summary>The server there has no such file.</summary>
    Missing,

    /// <summary>The server there answers with an error.</summary>
    ServerError,

    /// <summary>It sends clients elsewhere, where many do not go.</summary>
    Redirected,

    /// <summary>What comes is larger than anything that belongs there.</summary>
    TooLarge,

    /// <summary>Something else than the kind of file that belongs there.</summary>
    WrongType,

    /// <summary>It belongs to another generation of the same authority.</summary>
    WrongGeneration,

    /// <summary>It belongs to somebody else.</summary>
    WrongIssuer,

    /// <summary>Its signature does not hold.</summary>
    BadSignature,

    /// <summary>An older file than the one that was published last.</summary>
    Stale,

    /// <summary>It was good until a moment that is past.</summary>
    Expired,

    /// <summary>It lapses before long, and its successor should have been there by now.</summary>
    ExpiresSoon,

    /// <summary>The responder's own certificate has ended.</summary>
    ResponderExpired,

    /// <summary>The responder does not answer for this issuer.</summary>
    ResponderRefuses,

    /// <summary>What it says of a certificate is not what is on record.</summary>
    WrongAnswer,

    /// <summary>A clock is wrong, there or here.</summary>
    ClockSkew,

    /// <summary>An authority's key cannot be used.</summary>
    KeyUnusable,

    /// <summary>An authority's certificate ends before a certificate issued now would live out its life.</summary>
    AuthorityEnds,

    /// <summary>An authority waits for its certificate.</summary>
    AuthorityWaits,
}

/// <summary>A fault as people read it.</summary>
/// <param name="Causes">Likely causes, the likeliest first.</param>
/// <param name="Hurts">Whom it hurts, and when.</param>
/// <param name="Cure">What to do.</param>
public sealed record PointFinding(
    PointFault Fault,
    Severity Severity,
    string Reason,
    IReadOnlyList<string> Causes,
    string Hurts,
    string Cure
);

/// <summary>What one fetch brought.</summary>
/// <param name="Status">HTTP status, or null when none came.</param>
/// <param name="Failure">Why nothing came, in a few words; null when something did.</param>
/// <param name="TimedOut">Whether waiting was given up.</param>
/// <param name="MoreThan">Set when reading was given up after this many bytes.</param>
/// <param name="ServerTime">The Date header.</param>
public sealed record Fetched(
    int? Status,
    string? ContentType,
    string? Location,
    ReadOnlyMemory<byte> Body,
    string? Failure,
    bool TimedOut,
    long? MoreThan,
    DateTimeOffset? ServerTime
);

/// <summary>What should be found at an address.</summary>
/// <param name="Issuer">The newest certificate of the key that the address speaks for.</param>
/// <param name="Family">All certificates of the same authority, for telling one generation's file from another's.</param>
/// <param name="PublishedNumber">The number of the CRL that was published last; null when it is not known here.</param>
/// <param name="Asked">The certificate an OCSP question is about.</param>
/// <param name="Revoked">Whether that certificate is revoked, as it is on record.</param>
public sealed record PointExpectation(
    PointKind Kind,
    X509 Issuer,
    IReadOnlyList<X509> Family,
    long? PublishedNumber,
    OcspCertId? Asked,
    bool? Revoked
);

/// <summary>The judgement over an address.</summary>
/// <param name="Good">What is right, in a sentence; empty when there is a finding.</param>
/// <param name="FreshUntil">Until when what is there can be used.</param>
public sealed record PointVerdict(PointFinding? Finding, string Good, DateTimeOffset? FreshUntil);

/// <summary>Judges what a client finds at the addresses in certificates: reachable, of the right kind, of the right key, good and fresh; else what is wrong, why, whom it hurts and the cure.</summary>
public static class PointJudge
{
    private static readonly TimeSpan Skew = TimeSpan.FromMinutes(5);

    public static PointVerdict Judge(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        try
        {
            if (OfTransport(e, f) is { } transport)
                return Bad(transport);
            var verdict = e.Kind switch
            {
                PointKind.IssuerCertificate => OfCertificate(e, f, now),
                PointKind.Ocsp => OfAnswer(e, f, now),
                _ => OfList(e, f, now),
            };
            if (verdict.Finding is null && f.ServerTime is { } there && (there - now).Duration() > Skew)
                return verdict with
                {
                    Finding = new(
                        PointFault.ClockSkew,
                        Severity.Soon,
                        $"The server there has {there:yyyy-MM-dd HH:mm:ss} UTC, this one {now:yyyy-MM-dd HH:mm:ss}.",
                        ["A clock is not kept by NTP, there or here."],
                        "Lists and answers look too young or too old to clients.",
                        "Put both clocks right."
                    ),
                };
            return verdict;
        }
        catch (BeaconProblem p)
        {
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    $"The content is not a valid {Word(e.Kind)}: {p.Message}",
                    TypeCauses(f),
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        }
    }

    private static PointVerdict Bad(PointFinding f) => new(f, "", null);

    private static PointFinding? OfTransport(PointExpectation e, Fetched f)
    {
        if (f.MoreThan is { } most)
            return new(
                PointFault.TooLarge,
                Severity.Now,
                $"More than {most / 1024:N0} KiB come from there; reading was given up.",
                ["The address leads to another file.", "The server sends without end."],
                Hurts(e.Kind),
                "Look at what the server has at this address, and put the right file there."
            );
        if (f.TimedOut)
            return new(
                PointFault.TimedOut,
                Severity.Now,
                "No answer came in time.",
                ["The server there is overloaded or hangs.", "A firewall swallows the packets."],
                Hurts(e.Kind),
                "Look at that server; then check again."
            );
        if (f.Failure is { } why)
            return new(
                PointFault.Unreachable,
                Severity.Now,
                $"Nothing answers there: {why}",
                ["The web server is down.", "The name leads to another machine, or to none.", "A firewall is in between."],
                Hurts(e.Kind),
                "Start the web server there, or correct the name; then check again."
            );
        return OfStatus(e, f) ?? OfType(e, f);
    }

    private static PointFinding? OfStatus(PointExpectation e, Fetched f)
    {
        switch (f.Status)
        {
            case >= 200 and < 300:
                return null;
            case 404 or 410:
                return new(
                    PointFault.Missing,
                    Severity.Now,
                    $"The server there has no such file (HTTP {f.Status}).",
                    ["It was never published there.", "The file was removed or renamed.", "The server's root folder was moved."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                );
            case >= 300 and < 400:
                return new(
                    PointFault.Redirected,
                    Severity.Now,
                    $"It sends clients to {f.Location ?? "another address"} (HTTP {f.Status}).",
                    ["The web server sends everything to https.", "The site was moved."],
                    "Many clients do not follow, and none can check an https certificate with a list that only https gives. "
                        + Hurts(e.Kind),
                    "Serve this address over plain HTTP without a redirect."
                );
            default:
                return new(
                    PointFault.ServerError,
                    Severity.Now,
                    $"The server there answers with HTTP {f.Status}.",
                    ["A proxy in front of it cannot reach it.", "It may not read the file."],
                    Hurts(e.Kind),
                    "Look into that server's log; then check again."
                );
        }
    }

    private static PointFinding? OfType(PointExpectation e, Fetched f)
    {
        if (f.ContentType?.Split(';')[0].Trim() is "text/html" or "application/xhtml+xml")
            return new(
                PointFault.WrongType,
                Severity.Now,
                $"A web page ({f.ContentType!.Split(';')[0]}) comes instead of the {Word(e.Kind)}.",
                TypeCauses(f),
                Hurts(e.Kind),
                Republish(e.Kind)
            );
        return null;
    }

    private static PointVerdict OfCertificate(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        if (f.Body.Length > 0 && f.Body.Span[0] == (byte)'-')
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    "The certificate there is in PEM; clients read DER there (RFC 5280 section 4.2.2.1).",
                    ["It was copied by hand from a PEM file."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        var there =
            f.Body.Length > 0 && Pkcs7OrNull(f.Body) is { } several
                ? several.FirstOrDefault(c => c.PublicKey.SameKey(e.Issuer.PublicKey))
                    ?? several.FirstOrDefault()
                    ?? throw new BeaconProblem(ProblemCode.CertificateMalformed, "the bundle is empty.", "")
                : X509.Read(f.Body);
        if (!there.PublicKey.SameKey(e.Issuer.PublicKey) || !there.Subject.Der.Span.SequenceEqual(e.Issuer.Subject.Der.Span))
            return Bad(
                Other(
                    e,
                    there.Subject.Der.Span.SequenceEqual(e.Issuer.Subject.Der.Span) ? there : null,
                    there.Subject.ToString(),
                    e.Family.FirstOrDefault(g => g.PublicKey.SameKey(there.PublicKey))
                )
            );
        if (now > there.NotAfter)
            return Bad(
                new(
                    PointFault.Expired,
                    Severity.Now,
                    $"The certificate there expired on {there.NotAfter:yyyy-MM-dd}.",
                    ["The renewed one was not published here."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        if (!there.Der.Span.SequenceEqual(e.Issuer.Der.Span) && there.NotAfter < e.Issuer.NotAfter)
            return Bad(
                new(
                    PointFault.Stale,
                    Severity.Soon,
                    $"The certificate there is of the right key, but not the newest: it ends on {there.NotAfter:yyyy-MM-dd}, the newest one on {e.Issuer.NotAfter:yyyy-MM-dd}.",
                    ["The renewed certificate was not published here."],
                    $"From {there.NotAfter:yyyy-MM-dd} on clients that fetch it refuse everything below.",
                    Republish(e.Kind)
                )
            );
        return new(null, $"The issuer's certificate, {there.Serial.Short}, until {there.NotAfter:yyyy-MM-dd}.", there.NotAfter);
    }

    private static IReadOnlyList<X509>? Pkcs7OrNull(ReadOnlyMemory<byte> body)
    {
        try
        {
            return [.. Pkcs7.ReadCertificates(body).Select(c => X509.Read(c))];
        }
        catch (Exception x) when (x is BeaconProblem or System.Formats.Asn1.AsnContentException)
        {
            return null;
        }
    }

    private static PointVerdict OfList(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        if (f.Body.Length > 0 && f.Body.Span[0] == (byte)'-')
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    "The list there is in PEM; clients read DER there (RFC 5280 section 4.2.1.13).",
                    ["It was copied by hand from a PEM file."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        var crl = Crl.Read(f.Body);
        return OfWhoseList(e, crl) ?? OfListsTimes(e, crl, now);
    }

    /// <summary>Null when the list is the issuer's, of the kind that belongs there.</summary>
    private static PointVerdict? OfWhoseList(PointExpectation e, Crl crl)
    {
        if (!crl.Issuer.Der.Span.SequenceEqual(e.Issuer.Subject.Der.Span))
            return Bad(Other(e, null, crl.Issuer.ToString(), null));
        if (!crl.SignedBy(e.Issuer.PublicKey))
        {
            var other = e.Family.FirstOrDefault(g => crl.SignedBy(g.PublicKey));
            return Bad(
                other is not null
                    ? Other(e, other, crl.Issuer.ToString(), other)
                    : new(
                        PointFault.BadSignature,
                        Severity.Now,
                        "The signature of the list there does not hold.",
                        ["The file was altered or cut short on its way.", "It is of another authority with the same name."],
                        Hurts(e.Kind),
                        Republish(e.Kind)
                    )
            );
        }
        if (crl.BaseNumber is null != (e.Kind == PointKind.Crl))
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    e.Kind == PointKind.Crl
                        ? "A delta is there, where the full list belongs."
                        : "A full list is there, where the delta belongs.",
                    ["Two files were taken for one another."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        return null;
    }

    private static PointVerdict OfListsTimes(PointExpectation e, Crl crl, DateTimeOffset now)
    {
        if (crl.NextUpdate is not { } until)
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    "The list there does not say when the next one comes (RFC 5280 section 5.1.2.5).",
                    ["It was made by another program."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        if (OfListsAge(e, crl, until, now) is { } old)
            return Bad(old);
        // The next list comes at half of the life; what is past three quarters is past half of the overlap.
        if (now > crl.ThisUpdate + (until - crl.ThisUpdate) * 0.75)
            return new(
                new(
                    PointFault.ExpiresSoon,
                    Severity.Soon,
                    $"List {crl.Number} there expires on {until:yyyy-MM-dd HH:mm} UTC, and its successor should have come.",
                    ["The next list was not signed or not published in time."],
                    $"From {until:yyyy-MM-dd HH:mm} UTC on clients that check revocation refuse everything.",
                    Republish(e.Kind)
                ),
                "",
                until
            );
        return new(
            null,
            $"{(crl.BaseNumber is null ? "List" : "Delta")} {crl.Number}, {crl.Revoked.Count} {(crl.BaseNumber is null ? "revoked" : "changes")}, good until {until:yyyy-MM-dd HH:mm} UTC.",
            until
        );
    }

    /// <summary>Null when the list is the newest and holds now.</summary>
    private static PointFinding? OfListsAge(PointExpectation e, Crl crl, DateTimeOffset until, DateTimeOffset now)
    {
        if (crl.ThisUpdate > now + Skew)
            return new(
                PointFault.ClockSkew,
                Severity.Now,
                $"The list there is of {crl.ThisUpdate:yyyy-MM-dd HH:mm} UTC, which is still to come.",
                ["The clock was ahead when it was signed.", "The clock here was set back."],
                "Clients whose clock is right refuse it.",
                "Put the clock right; then issue the list anew: beacon authority issue-crl issuing."
            );
        var stale = e.PublishedNumber is { } newest && crl.Number < newest;
        if (until < now)
            return new(
                PointFault.Expired,
                Severity.Now,
                $"List {crl.Number} there was good until {until:yyyy-MM-dd HH:mm} UTC{(stale ? $"; number {e.PublishedNumber} was published since" : "")}.",
                stale
                    ? ["The newer list was not copied here.", "A cache in between keeps the old one."]
                    : ["The next list was not signed or not published in time.", "The service was stopped, or its key could not be used."],
                Hurts(e.Kind),
                Republish(e.Kind)
            );
        if (stale)
            return new(
                PointFault.Stale,
                Severity.Soon,
                $"List {crl.Number} is there; number {e.PublishedNumber} was published since.",
                ["The newer list was not copied here.", "A cache in between keeps the old one."],
                $"What was revoked since is not seen here; from {until:yyyy-MM-dd HH:mm} UTC on clients refuse everything.",
                Republish(e.Kind)
            );
        return null;
    }

    private static PointVerdict OfAnswer(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        var r = OcspResponse.Read(f.Body);
        if (r.Refusal is { } refusal)
            return Bad(
                new(
                    PointFault.ResponderRefuses,
                    Severity.Now,
                    $"The responder there gives no answer: {BeaconProblem.SlugOf(refusal).Replace('-', ' ')}.",
                    refusal == OcspRefusal.Unauthorized
                            ? ["It does not know this generation's key.", "Another responder stands at this address."]
                        : refusal == OcspRefusal.TryLater ? ["It has no certificate of its own that is good now.", "It is starting."]
                        : ["It is broken."],
                    Hurts(e.Kind),
                    "See beacon authority show issuing; the service's log says why it has no responder."
                )
            );
        var delegated = r.Certificates.FirstOrDefault(c => r.SignedBy(c.PublicKey));
        if (OfSigner(e, r, delegated, now) is { } signer)
            return signer;
        var answer = r.Answers.FirstOrDefault(a => e.Asked is not null && a.Id.Serial == e.Asked.Serial);
        if (OfContent(e, answer, now) is { } content)
            return content;
        return new(
            null,
            $"Answers, signed by {(delegated is null ? "the issuer itself" : $"a responder whose certificate ends on {delegated.NotAfter:yyyy-MM-dd}")}.",
            answer!.NextUpdate
        );
    }

    /// <summary>Null when whoever signed the answer may.</summary>
    private static PointVerdict? OfSigner(PointExpectation e, OcspResponse r, X509? delegated, DateTimeOffset now)
    {
        if (!r.SignedBy(e.Issuer.PublicKey))
        {
            if (delegated is null)
                return Bad(
                    new(
                        PointFault.BadSignature,
                        Severity.Now,
                        "The signature of the answer does not hold.",
                        ["Something in between altered it.", "Another responder stands at this address."],
                        Hurts(e.Kind),
                        "Look at what stands between here and the responder."
                    )
                );
            if (!delegated.SignedBy(e.Issuer.PublicKey))
                return Bad(Other(e, null, delegated.Issuer.ToString(), e.Family.FirstOrDefault(g => delegated.SignedBy(g.PublicKey))));
            if (delegated.ExtendedKeyUsage?.Contains(Oids.OcspSigning) != true)
                return Bad(
                    new(
                        PointFault.WrongType,
                        Severity.Now,
                        $"The certificate that signed the answer ({delegated.Subject}) is not for signing OCSP answers.",
                        ["A server's certificate was put into its place."],
                        Hurts(e.Kind),
                        "Give the responder a certificate of its own profile."
                    )
                );
            if (now > delegated.NotAfter || now < delegated.NotBefore)
                return Bad(
                    new(
                        PointFault.ResponderExpired,
                        Severity.Now,
                        $"The responder's own certificate expired on {delegated.NotAfter:yyyy-MM-dd HH:mm} UTC.",
                        ["The responder could not get its next certificate for this key.", "A cache in between gives an old answer."],
                        "Clients refuse its answers; those that insist on one refuse every certificate of this issuer.",
                        "See that the authority can issue (beacon authority show issuing); the responder then renews itself within seconds."
                    )
                );
        }
        return null;
    }

    /// <summary>Null when the answer says of the asked certificate what is on record, and holds now.</summary>
    private static PointVerdict? OfContent(PointExpectation e, OcspAnswer? answer, DateTimeOffset now)
    {
        if (answer is null)
            return Bad(
                new(
                    PointFault.WrongAnswer,
                    Severity.Now,
                    "The answer is about another certificate than the one that was asked about.",
                    ["A cache in between mixes answers up."],
                    Hurts(e.Kind),
                    "Look at what stands between here and the responder."
                )
            );
        if (answer.ThisUpdate > now + Skew)
            return Bad(
                new(
                    PointFault.ClockSkew,
                    Severity.Now,
                    $"The answer is of {answer.ThisUpdate:yyyy-MM-dd HH:mm} UTC, which is still to come.",
                    ["The responder's clock is ahead.", "The clock here was set back."],
                    "Clients whose clock is right refuse it.",
                    "Put both clocks right."
                )
            );
        if (answer.NextUpdate < now)
            return Bad(
                new(
                    PointFault.Expired,
                    Severity.Now,
                    $"The answer was good until {answer.NextUpdate:yyyy-MM-dd HH:mm} UTC only.",
                    ["A cache in between gives an old answer.", "The responder has stopped signing."],
                    Hurts(e.Kind),
                    "Empty that cache, or look at the responder."
                )
            );
        if (answer.Status == OcspStatus.Unknown || (e.Revoked is { } revoked && answer.Status == OcspStatus.Revoked != revoked))
            return Bad(
                new(
                    PointFault.WrongAnswer,
                    Severity.Now,
                    $"It says {BeaconProblem.SlugOf(answer.Status)} of serial {answer.Id.Serial.Short}; on record it is {(e.Revoked == true ? "revoked" : "good")}.",
                    ["A cache in between gives an old answer.", "The responder reads another database."],
                    "Clients are told something that is not so.",
                    "Empty that cache, or look at the responder."
                )
            );
        return null;
    }

    /// <summary>Another certificate or another signer than the expected one.</summary>
    /// <param name="generation">When it is one of the same authority.</param>
    private static PointFinding Other(PointExpectation e, X509? there, string whose, X509? generation)
    {
        var what = Word(e.Kind);
        if (generation is null && there is null)
            return new(
                PointFault.WrongIssuer,
                Severity.Now,
                $"The {what} there is of {whose}; that of {e.Issuer.Subject} belongs there.",
                ["Files with similar names were taken for one another.", "Another authority publishes to this address."],
                Hurts(e.Kind),
                Republish(e.Kind)
            );
        var when = generation ?? there!;
        var before = when.NotBefore < e.Issuer.NotBefore;
        return new(
            PointFault.WrongGeneration,
            Severity.Now,
            $"The {what} there is of the {(before ? "previous" : "next")} generation's key ({when.Serial.Short}, from {when.NotBefore:yyyy-MM-dd}); that of {e.Issuer.Serial.Short} belongs there.",
            [
                before
                    ? "The renewed authority's file was not published here."
                    : "The renewed authority's file was put over the old one's: each key has a file of its own.",
                "Files with similar names were taken for one another.",
            ],
            Hurts(e.Kind),
            Republish(e.Kind)
        );
    }

    private static IReadOnlyList<string> TypeCauses(Fetched f) =>
        f.ContentType?.Contains("html", StringComparison.OrdinalIgnoreCase) == true
            ? ["An error page or a sign-in page is shown instead of the file.", "Another site answers at this address."]
            : ["Another file was put there.", "The file was cut short or altered on its way."];

    private static string Word(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "certificate",
            PointKind.Ocsp => "OCSP answer",
            PointKind.DeltaCrl => "delta CRL",
            _ => "CRL",
        };

    private static string Hurts(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "Clients that were not sent the issuer's certificate cannot find it and refuse the connection.",
            PointKind.Ocsp => "Clients that ask go on to the CRL, or refuse where an answer is a must.",
            PointKind.DeltaCrl => "Clients that read deltas see revocations only with the next full list.",
            _ => "Clients that check revocation refuse every certificate that names this address.",
        };

    private static string Republish(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "Publish the issuer's certificate here again (beacon authority show ID --pem has it).",
            PointKind.Ocsp => "See that this address leads to the service's /ocsp.",
            _ =>
                "Publish the newest list here again: beacon authority issue-crl issuing; the root's with beacon authority publish-crl FILE.",
        };
}
