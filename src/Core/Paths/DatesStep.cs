namespace OrderlyBeacon.Core.Paths;

/// <summary>Step 3, dates: every certificate of the path lives now (RFC 5280 section 6.1.3 (a)(2)). The standard leaves anchors out; clients that keep them as certificates do not.</summary>
internal static class DatesStep
{
    public static IEnumerable<PathFinding> Check(PathWay way)
    {
        var now = way.Question.Now;
        foreach (var (i, x) in way.FromAnchor())
        {
            var who = i == 0 ? "The certificate" : $"The authority {TrustPath.NameOf(x)} in its chain";
            if (now > x.NotAfter)
                yield return new(PathFault.Expired, x, i, $"{who} expired on {x.NotAfter:d MMM yyyy HH:mm}.");
            else if (now < x.NotBefore)
                yield return new(
                    PathFault.NotYetValid,
                    x,
                    i,
                    $"{who} is valid only from {x.NotBefore:d MMM yyyy HH:mm} on.",
                    "Every client refuses it until then."
                );
        }
    }
}
