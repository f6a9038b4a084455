using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Profiles;

namespace OrderlyBeacon.Service;

/// <summary>From what is worked out in Core, and from stored JSON, to the shapes that travel.</summary>
internal static class Shapes
{
    public static List<EndpointInfo> Endpoints(string json) => JsonSerializer.Deserialize(json, BeaconJson.Default.ListEndpointInfo)!;

    public static CertificateText Text(X509 x, string? limit = null) =>
        new(
            x.Subject.ToString(),
            [.. x.Names.Select(n => n.ToString())],
            x.Issuer.ToString(),
            x.Serial.Hex,
            x.Thumbprint.Hex,
            x.NotBefore,
            x.NotAfter,
            x.PublicKey.Spec.ToString(),
            ProfileWords.Of(x.KeyUsage ?? KeyUsages.None),
            ProfileWords.OfExtended(x.ExtendedKeyUsage),
            x.CrlUris,
            [.. x.Access.Where(a => a.Method == Oids.CaIssuers).Select(a => a.Uri)],
            limit
        )
        {
            Ocsp = [.. x.Access.Where(a => a.Method == Oids.Ocsp).Select(a => a.Uri)],
        };

    public static CertificateText Text(CertificateContent c, string key, string? limit) =>
        new(
            c.Subject.ToString(),
            [.. c.Names.Select(n => n.ToString())],
            c.Issuer.ToString(),
            null,
            null,
            c.NotBefore,
            c.NotAfter,
            key,
            ProfileWords.Of(c.KeyUsage),
            ProfileWords.OfExtended(c.ExtendedKeyUsage),
            c.CrlUris,
            c.IssuerUris,
            limit
        )
        {
            Ocsp = c.OcspUris,
        };

    public static NameVerdictInfo Of(NameVerdict v) =>
        new(v.Name, (Contracts.Verdict)(int)v.Verdict, BeaconProblem.SlugOf(v.Reason), v.Evidence, v.Cure) { Holders = v.Holders };

    public static FindingInfo Of(Finding f) =>
        new(BeaconProblem.SlugOf(f.Code), BeaconProblem.SlugOf(f.Weight), f.Subject, f.Message, f.Cure);

    public static string Json(IEnumerable<string> list) => JsonSerializer.Serialize([.. list], BeaconJson.Default.ListString);

    public static List<string> Strings(string json) => JsonSerializer.Deserialize(json, BeaconJson.Default.ListString)!;

    public static List<LookInfo> Looks(string json) => JsonSerializer.Deserialize(json, BeaconJson.Default.ListLookInfo)!;

    public static ProblemInfo? Problem(string? json) =>
        json is null ? null : JsonSerializer.Deserialize(json, BeaconJson.Default.ProblemInfo);
}
