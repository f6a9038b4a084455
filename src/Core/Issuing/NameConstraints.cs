using System.Formats.Asn1;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>Which names an authority and everything below it may certify (RFC 5280 section 4.2.1.10).</summary>
/// <param name="Permitted">For each form of names that stands there, names are in one of its subtrees; other forms are free.</param>
public sealed record NameConstraints(IReadOnlyList<Subtree> Permitted, IReadOnlyList<Subtree> Excluded)
{
    /// <summary>More subtrees are not read: no authority has them, and each costs every client a comparison with every name.</summary>
    private const int MostSubtrees = 10_000;

    /// <summary>From zones and networks as people write them. Networks in only one family leave out the other.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/>.</exception>
    public static NameConstraints? Of(IEnumerable<string> permitted, IEnumerable<string> excluded)
    {
        Subtree[] yes = [.. permitted.Select(Subtree.Parse)],
            no = [.. excluded.Select(Subtree.Parse)];
        return yes.Length + no.Length == 0 ? null : new(yes, no);
    }

    /// <summary>The first of the names that may not be certified, or null.</summary>
    /// <param name="spend">Told how many comparisons each name costs; may throw.</param>
    public AlternativeName? FirstAgainst(IEnumerable<AlternativeName> names, Action<int>? spend = null)
    {
        foreach (var n in names)
        {
            spend?.Invoke(Permitted.Count + Excluded.Count);
            if (Excluded.Any(s => s.Touches(n)))
                return n;
            if (Permitted.Any(s => s.Kind == n.Kind) && !Permitted.Any(s => s.Holds(n)))
                return n;
        }
        return null;
    }

    public byte[] Write()
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var (tag, subtrees) in new[] { (0, Permitted), (1, Excluded) })
                if (subtrees.Count > 0)
                    using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, tag)))
                        foreach (var s in subtrees)
                            s.Write(w);
        return w.Encode();
    }

    /// <exception cref="AsnContentException">It is no such structure, or has too many subtrees.</exception>
    public static NameConstraints Read(ReadOnlyMemory<byte> value)
    {
        var both = new List<Subtree>[] { [], [] };
        var outer = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        while (outer.HasData)
        {
            var tag = outer.PeekTag();
            if (tag is not { TagClass: TagClass.ContextSpecific, TagValue: 0 or 1 })
                throw new AsnContentException("Name constraints that are neither permitted nor excluded.");
            var trees = outer.ReadSequence(tag);
            while (trees.HasData)
            {
                if (both[0].Count + both[1].Count >= MostSubtrees)
                    throw new AsnContentException($"Over {MostSubtrees} subtrees.");
                both[tag.TagValue].Add(Subtree.Read(trees.ReadSequence()));
            }
        }
        return new(both[0], both[1]);
    }

    public override string ToString() =>
        string.Join("; ", new[] { Some("only ", Permitted), Some("not ", Excluded) }.Where(t => t.Length > 0));

    private static string Some(string word, IReadOnlyList<Subtree> subtrees) =>
        subtrees.Count == 0
            ? ""
            : word + string.Join(", ", subtrees.Take(20)) + (subtrees.Count > 20 ? $" and {subtrees.Count - 20} more" : "");
}
