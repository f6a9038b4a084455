using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Core.Health;

/// <summary>What faults of several kinds of addresses have in common: causes, whom they hurt, cures.</summary>
internal static class PointWords
{
    /// <summary>Clocks may differ by this much.</summary>
    public static readonly TimeSpan Skew = TimeSpan.FromMinutes(5);

    public static PointVerdict Bad(PointFinding f) => new(f, "", null);

    /// <summary>Another certificate or another signer than the expected one.</summary>
    /// <param name="generation">When it is one of the same authority.</param>
    public static PointFinding Other(PointExpectation e, X509? there, string whose, X509? generation)
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

    public static IReadOnlyList<string> TypeCauses(Fetched f) =>
        f.ContentType?.Contains("html", StringComparison.OrdinalIgnoreCase) == true
            ? ["An error page or a sign-in page is shown instead of the file.", "Another site answers at this address."]
            : ["Another file was put there.", "The file was cut short or altered on its way."];

    public static string Word(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "certificate",
            PointKind.Ocsp => "OCSP answer",
            PointKind.DeltaCrl => "delta CRL",
            _ => "CRL",
        };

    public static string Hurts(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "Clients that were not sent the issuer's certificate cannot find it and refuse the connection.",
            PointKind.Ocsp => "Clients that ask go on to the CRL, or refuse where an answer is a must.",
            PointKind.DeltaCrl => "Clients that read deltas see revocations only with the next full list.",
            _ => "Clients that check revocation refuse every certificate that names this address.",
        };

    public static string Republish(PointKind kind) =>
        kind switch
        {
            PointKind.IssuerCertificate => "Publish the issuer's certificate here again (beacon authority show ID --pem has it).",
            PointKind.Ocsp => "See that this address leads to the service's /ocsp.",
            _ =>
                "Publish the newest list here again: beacon authority issue-crl issuing; the root's with beacon authority publish-crl FILE.",
        };
}
