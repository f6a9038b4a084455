using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Paths;

/// <summary>
/// Step 1, building: goes from the leaf to issuers by name and signature, depth first, and back where a way ends (RFC 4158 section 2.4). Names are compared by
/// RFC 5280 section 7.1; key identifiers only order the candidates (section 4.2.1.1), since a wrong one refutes nothing.
/// </summary>
internal sealed class PathSearch(PathQuestion question, PathWork work)
{
    /// <summary>Certificates in a path, anchor included: as many as the strictest client follows.</summary>
    public const int MostDepth = 16;

    /// <summary>Ways that are tried.</summary>
    private const int MostWays = 64;

    private readonly Dictionary<(X509, X509), bool> _signed = [];
    private readonly List<X509> _longest = [];
    private List<X509> _longestFetched = [];
    private PathFinding? _end;

    public IEnumerable<PathWay> Ways() => From([question.Leaf], []).Take(MostWays);

    /// <summary>When no way reaches an anchor: the longest one that was tried, and how it ended.</summary>
    public TrustPath DeadEnd()
    {
        var steps = Told(_longest, _longestFetched);
        steps.Add(_end!.Reason);
        return new([.. _longest], [_end], steps, _longestFetched, ReachesAnchor: false);
    }

    private IEnumerable<PathWay> From(List<X509> path, List<X509> fetched)
    {
        work.Step();
        var last = path[^1];
        if (question.Anchors.Any(a => Same(a, last)))
        {
            yield return new(question, [.. path], [.. fetched], work);
            yield break;
        }
        var found = false;
        if (path.Count < MostDepth)
            foreach (var (candidate, isKnownOnly) in Candidates(last))
            {
                if (path.Exists(p => Same(p, candidate)) || !Signed(last, candidate))
                    continue;
                found = true;
                path.Add(candidate);
                if (isKnownOnly)
                    fetched.Add(candidate);
                foreach (var way in From(path, fetched))
                    yield return way;
                if (isKnownOnly)
                    fetched.RemoveAt(fetched.Count - 1);
                path.RemoveAt(path.Count - 1);
            }
        if (!found)
            Ended(path, fetched);
    }

    /// <summary>Anchors first, then what was sent, then what is only known here; of each the one whose key identifier fits and that lives longest first.</summary>
    private IEnumerable<(X509 Candidate, bool IsKnownOnly)> Candidates(X509 child)
    {
        var seen = new HashSet<Names.Thumbprint>();
        foreach (var (pool, isKnown) in new[] { (question.Anchors, false), (question.Sent, false), (question.Known, true) })
        foreach (var c in Ordered(pool.Where(c => c.Subject.Matches(child.Issuer)), child))
            if (seen.Add(c.Thumbprint))
                yield return (c, isKnown);
    }

    private IEnumerable<X509> Ordered(IEnumerable<X509> pool, X509 child) =>
        pool.OrderByDescending(c => child.AuthorityKeyIdentifier.Span.SequenceEqual(c.SubjectKeyIdentifier.Span))
            .ThenByDescending(c => c.NotBefore <= question.Now && question.Now <= c.NotAfter)
            .ThenByDescending(c => c.NotAfter);

    private bool Signed(X509 child, X509 by)
    {
        if (_signed.TryGetValue((child, by), out var known))
            return known;
        work.Signature();
        return _signed[(child, by)] = child.SignedBy(by.PublicKey);
    }

    private void Ended(List<X509> path, List<X509> fetched)
    {
        if (path.Count <= _longest.Count)
            return;
        _longest.Clear();
        _longest.AddRange(path);
        _longestFetched = [.. fetched];
        _end = HowEnded(path[^1], path.Count - 1);
    }

    private PathFinding HowEnded(X509 last, int index)
    {
        var name = TrustPath.NameOf(last);
        if (index + 1 >= MostDepth)
            return new(
                PathFault.TooDeep,
                last,
                index,
                $"The chain has more than {MostDepth} certificates.",
                "Clients follow no longer ones."
            );
        if (last.Scheme == Keys.SignatureScheme.Unknown)
            return new(
                PathFault.UnknownAlgorithm,
                last,
                index,
                $"{name} is signed with an algorithm that is not checked here.",
                "Most clients do not check it either."
            );
        if (last.IsSelfSigned)
            return new(
                PathFault.UntrustedRoot,
                last,
                index,
                $"{name} signed itself and is no trust anchor.",
                "Clients that do not know that root refuse it."
            );
        var named = question
            .Anchors.Concat(question.Sent)
            .Concat(question.Known)
            .Any(c => c.Subject.Matches(last.Issuer) && !Same(c, last));
        return named
            ? new(PathFault.NotSigned, last, index, $"A certificate of {last.Issuer} is there, but its key did not sign {name}.")
            : new(
                PathFault.IssuerMissing,
                last,
                index,
                $"The issuer of {name}, {last.Issuer}, was not found.",
                "Clients that do not know that issuer refuse it."
            );
    }

    internal static List<string> Told(IReadOnlyList<X509> path, IReadOnlyList<X509> fetched)
    {
        var steps = new List<string>();
        for (var i = 1; i < path.Count; i++)
        {
            if (fetched.Contains(path[i]))
                steps.Add($"{TrustPath.NameOf(path[i])}, which issued {TrustPath.NameOf(path[i - 1])}, was not sent.");
            steps.Add($"{TrustPath.NameOf(path[i - 1])} was issued by {TrustPath.NameOf(path[i])}.");
        }
        return steps;
    }

    private static bool Same(X509 a, X509 b) => ReferenceEquals(a, b) || a.Der.Span.SequenceEqual(b.Der.Span);
}
