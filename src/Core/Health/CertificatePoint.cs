using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using static OrderlyBeacon.Core.Health.PointWords;

namespace OrderlyBeacon.Core.Health;

/// <summary>Judges what stands where an issuer's certificate belongs (RFC 5280, section 4.2.2.1).</summary>
internal static class CertificatePoint
{
    public static PointVerdict Judge(PointExpectation e, Fetched f, DateTimeOffset now)
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
                    $"The certificate there is of the right key, but not the newest: it expires on {there.NotAfter:yyyy-MM-dd}, the newest one on {e.Issuer.NotAfter:yyyy-MM-dd}.",
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
}
