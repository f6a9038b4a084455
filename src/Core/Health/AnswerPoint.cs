using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Core.Health.PointWords;

namespace OrderlyBeacon.Core.Health;

/// <summary>Judges what an OCSP responder answers (RFC 6960).</summary>
internal static class AnswerPoint
{
    public static PointVerdict Judge(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        var r = OcspResponse.Read(f.Body);
        if (r.Refusal is { } refusal)
            return Bad(
                new(
                    PointFault.ResponderRefuses,
                    Severity.Now,
                    $"The responder there gives no answer: {BeaconProblem.SlugOf(refusal).Replace('-', ' ')}.",
                    refusal switch
                    {
                        OcspRefusal.Unauthorized =>
                        [
                            "It does not know this generation's key.",
                            "Another responder stands at this address.",
                        ],
                        OcspRefusal.TryLater => ["It has no certificate of its own that is good now.", "It is starting."],
                        _ => ["It is broken."],
                    },
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
            $"Answers, signed by {(delegated is null ? "the issuer itself" : $"a responder whose certificate expires on {delegated.NotAfter:yyyy-MM-dd}")}.",
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
}
