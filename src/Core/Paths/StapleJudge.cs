using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Paths;

/// <summary>What a stapled answer is worth to clients.</summary>
/// <param name="Words">For people: <c>good, until 2026-12-12</c>; null when there is none.</param>
/// <param name="Problem">Null when nothing is wrong with it.</param>
public sealed record StapleVerdict(string? Words, LookProblem? Problem);

/// <summary>Judges the answer about its certificate that a server staples (RFC 6066 section 8, RFC 6961 section 1, RFC 7633).</summary>
public static class StapleJudge
{
    /// <summary>In a certificate's TLS features: its server has to staple (RFC 7633 section 4.2.3.1).</summary>
    private const int StatusRequest = 5;

    /// <param name="issuer">Null when it is not known: an answer is not judged then.</param>
    /// <param name="staple">DER; empty when none was sent.</param>
    public static StapleVerdict Judge(X509 leaf, X509? issuer, ReadOnlyMemory<byte> staple, DateTimeOffset now)
    {
        if (staple.IsEmpty)
            return new(null, MustStaple(leaf) ? Missing : null);
        if (issuer is null)
            return new("sent; its issuer is not known here", null);
        try
        {
            return Judge(leaf, issuer, OcspResponse.Read(staple), now);
        }
        catch (BeaconProblem)
        {
            return Unusable("It cannot be read.");
        }
    }

    private static StapleVerdict Judge(X509 leaf, X509 issuer, OcspResponse response, DateTimeOffset now)
    {
        if (response.Objection(issuer, now) is { } objection)
            return Unusable(objection);
        if (response.Answers.FirstOrDefault(a => IsAbout(a.Id, leaf, issuer)) is not { } answer)
            return Unusable("It is about another certificate.");
        return answer.Status switch
        {
            OcspStatus.Good => new(answer.NextUpdate is { } until ? $"good, until {until.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : "good", null),
            OcspStatus.Revoked => new("revoked", Revoked(answer)),
            _ => Unusable("Its responder does not know the certificate."),
        };
    }

    private static bool IsAbout(OcspCertId id, X509 leaf, X509 issuer) =>
        new[] { false, true }.Any(sha256 =>
        {
            var own = OcspCertId.Of(issuer, leaf.Serial, sha256);
            return own.HashOid == id.HashOid
                && own.Serial == id.Serial
                && own.IssuerNameHash.Span.SequenceEqual(id.IssuerNameHash.Span)
                && own.IssuerKeyHash.Span.SequenceEqual(id.IssuerKeyHash.Span);
        });

    private static bool MustStaple(X509 leaf) =>
        leaf.RawExtensions.FirstOrDefault(e => e.Oid == Oids.TlsFeatures) is { } features
        && Extensions.ReadTlsFeatures(features.Value).Contains(StatusRequest);

    private static LookProblem Missing =>
        new(
            LookFault.StapleMissing,
            Severity.Now,
            "The certificate says that its server staples an answer about it, and the server sends none.",
            "Browsers that keep to that refuse it.",
            "Switch stapling on in the server, or request a certificate without that demand."
        );

    private static LookProblem Revoked(OcspAnswer answer) =>
        new(
            LookFault.Revoked,
            Severity.Now,
            $"The answer that the server staples says that the certificate was revoked on {answer.Revocation!.At.UtcDateTime:yyyy-MM-dd}.",
            "Clients that read it refuse the certificate.",
            "Renew the certificate: the new edition takes its place."
        );

    private static StapleVerdict Unusable(string why) =>
        new(
            "of no use",
            new(
                LookFault.StapleUnusable,
                Severity.Now,
                $"The answer that the server staples is of no use. {why}",
                "Some browsers refuse the certificate for it.",
                "Have the server fetch a new one (a reload does, in most); check that it reaches the responder."
            )
        );
}
