using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Core.Paths;

/// <summary>Step 8, revocation: every certificate below the anchor is asked about, authorities too (RFC 5280 sections 6.1.3 (a)(3) and 6.3). What cannot be determined is no finding: clients go on then.</summary>
internal static class RevocationStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        if (way.Question.RevocationOf is not { } ask)
            yield break;
        for (var i = way.Last - 1; i >= 0; i--)
        {
            var x = way.Certificates[i];
            if (ask(way.Certificates[i + 1], x) is not { State: RevocationState.Revoked, Entry: { } entry })
                continue;
            var who = i == 0 ? "The certificate" : $"The authority {TrustPath.NameOf(x)} in its chain";
            yield return new(
                PathFault.Revoked,
                x,
                i,
                $"{who} was revoked on {entry.At:d MMM yyyy HH:mm} ({BeaconProblem.SlugOf(entry.Reason)}).",
                "Clients that check revocation refuse it."
            );
        }
    }
}
