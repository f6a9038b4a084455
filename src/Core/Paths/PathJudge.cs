using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Finds the path from a certificate to a trust anchor that clients accept, as RFC 5280 section 6 and RFC 4158 have it: every way is tried before the answer is no.
/// To read it: <see cref="PathSearch"/> finds ways; each way goes through the steps below, in their order; the way with the fewest findings is told.
/// </summary>
public static class PathJudge
{
    private static readonly Func<PathWay, IEnumerable<PathFinding>>[] Steps =
    [
        FormStep.Check,
        DatesStep.Check,
        AuthorityStep.Check,
        BoundsStep.Check,
        PurposeStep.Check,
        StrengthStep.Check,
        RevocationStep.Check,
    ];

    public static TrustPath Judge(PathQuestion question)
    {
        var work = new PathWork();
        var search = new PathSearch(question, work);
        TrustPath? best = null;
        try
        {
            foreach (var way in search.Ways())
            {
                var findings = Steps.SelectMany(step => step(way)).ToList();
                var path = new TrustPath(way.Certificates, findings, Told(way, findings), way.Fetched, ReachesAnchor: true);
                if (best is null || findings.Count < best.Findings.Count)
                    best = path;
                if (path.IsAccepted)
                    return path;
            }
        }
        catch (PathWork.TooMuch e)
        {
            var finding = new PathFinding(
                PathFault.TooMuchWork,
                question.Leaf,
                0,
                $"The chain cannot be judged: {e.Message}.",
                "Clients give up on it."
            );
            return new([question.Leaf], [finding], [finding.Reason], [], ReachesAnchor: false);
        }
        return best ?? search.DeadEnd();
    }

    private static List<string> Told(PathWay way, List<PathFinding> findings)
    {
        var steps = PathSearch.Told(way.Certificates, way.Fetched);
        steps.Add($"{TrustPath.NameOf(way.Certificates[^1])} is a trust anchor.");
        steps.AddRange(findings.Select(f => f.Reason));
        return steps;
    }
}

/// <summary>A complete way to an anchor, on which the steps look.</summary>
/// <param name="Certificates">Leaf first, the anchor last.</param>
internal sealed record PathWay(PathQuestion Question, IReadOnlyList<X509> Certificates, IReadOnlyList<X509> Fetched, PathWork Work)
{
    public int Last => Certificates.Count - 1;

    /// <summary>Every certificate with its place, the anchor first: the order in which a client trusts them.</summary>
    public IEnumerable<(int Index, X509 X)> FromAnchor()
    {
        for (var i = Last; i >= 0; i--)
            yield return (i, Certificates[i]);
    }
}
