using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>What an authority that is not ours answered to one request of ours.</summary>
/// <param name="Chain">Leaf first, then its intermediates in their order; the anchor is left out.</param>
/// <param name="Differences">What the certificate says otherwise than was asked, a sentence each; empty when it is as asked.</param>
public sealed record OutsideAnswer(X509 Leaf, IReadOnlyList<X509> Chain, IReadOnlyList<string> Differences);

/// <summary>Whether an answer can be used: it is for the request's key, it hangs below the authority that was asked, and says what was asked.</summary>
public static class OutsideAnswers
{
    private const int MostLifeDays = 825;

    /// <param name="leaf">The certificate with the request's key.</param>
    /// <param name="along">What came with it, in any order.</param>
    /// <param name="known">Intermediates and anchors of the authority that was asked.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.AnswerRefused"/>.</exception>
    public static OutsideAnswer Judge(
        X509 leaf,
        IReadOnlyList<X509> along,
        IReadOnlyList<X509> known,
        IReadOnlyList<X509> anchors,
        IReadOnlyList<AlternativeName> asked,
        string authority,
        DateTimeOffset now
    )
    {
        var path = PathJudge.Judge(new(leaf, along, known, anchors, now));
        if (!path.ReachesAnchor)
            throw Missing(path, authority);
        if (path.Findings.FirstOrDefault() is { } wrong)
            throw new BeaconProblem(
                ProblemCode.AnswerRefused,
                $"Clients would refuse the answer: {wrong.Reason}",
                $"Ask {authority} for a correct one; what is wrong tells them what to change."
            );
        var chain = path.Certificates.TakeWhile((x, i) => i == 0 || !anchors.Any(a => a.Thumbprint == x.Thumbprint)).ToList();
        return new(leaf, chain, Differences(leaf, asked));
    }

    private static BeaconProblem Missing(TrustPath path, string authority)
    {
        var last = path.Certificates[^1];
        var issuer = last.Issuer.CommonName ?? last.Issuer.ToString();
        var where = last.Access.FirstOrDefault(a => a.Method == Oids.CaIssuers).Uri;
        return new(
            ProblemCode.AnswerRefused,
            last.IsSelfIssued
                ? $"The answer ends at \"{issuer}\", which is not an anchor of {authority}."
                : $"The intermediate certificate \"{issuer}\" is missing: between {TrustPath.NameOf(last)} and the anchors of {authority} nothing is known.",
            last.IsSelfIssued
                ? $"See whether this is the answer of {authority}; a further anchor is added with: beacon outside set {authority} --anchor FILE."
                : $"Give it along with the answer{(where is null ? "" : $"; its issuer says that it lies at {where}")}, or add it for good: beacon outside set {authority} --intermediate FILE."
        );
    }

    private static List<string> Differences(X509 leaf, IReadOnlyList<AlternativeName> asked)
    {
        var all = new List<string>();
        var (has, wanted) = (leaf.Names.ToHashSet(), asked.ToHashSet());
        if (has.Except(wanted).ToList() is { Count: > 0 } more)
            all.Add("It has names that were not asked for: " + string.Join(", ", more) + ".");
        if (wanted.Except(has).ToList() is { Count: > 0 } fewer)
            all.Add("It lacks names that were asked for: " + string.Join(", ", fewer) + ".");
        if ((leaf.NotAfter - leaf.NotBefore).TotalDays > MostLifeDays)
            all.Add($"It lives {(leaf.NotAfter - leaf.NotBefore).TotalDays:0} days; many clients refuse more than {MostLifeDays}.");
        return all;
    }
}
