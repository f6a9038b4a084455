using System.Formats.Asn1;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>Which DNS names an authority and everything below it may certify (RFC 5280 section 4.2.1.10). A name is within a subtree when it equals it or lies below it.</summary>
/// <param name="Permitted">Empty permits all that is not excluded.</param>
/// <param name="OtherForms">Tags of name forms that are constrained too and that we do not judge; a name of such a form is held to be against the rules.</param>
public sealed record NameConstraints(IReadOnlyList<string> Permitted, IReadOnlyList<string> Excluded, IReadOnlyList<int> OtherForms)
{
    private const int Dns = 2;

    /// <summary>From subtrees as people write them.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/>.</exception>
    public static NameConstraints? Of(IEnumerable<string> permitted, IEnumerable<string> excluded)
    {
        string[] yes = [.. permitted.Select(Subtree)],
            no = [.. excluded.Select(Subtree)];
        return yes.Length + no.Length == 0 ? null : new(yes, no, []);

        static string Subtree(string text) =>
            DnsName.Parse(text.TrimStart('.')) is { IsWildcard: false } name
                ? name.Ascii
                : throw new BeaconProblem(
                    ProblemCode.NameMalformed,
                    $"\"{text}\" has a star.",
                    "Give the zone itself: everything below it is meant."
                );
    }

    /// <summary>The first of the names that may not be certified, or null.</summary>
    public AlternativeName? FirstAgainst(IEnumerable<AlternativeName> names) =>
        names.FirstOrDefault(n =>
            n.Kind switch
            {
                NameKind.Dns => Excluded.Any(z => Within(n.Value, z)) || (Permitted.Count > 0 && !Permitted.Any(z => Within(n.Value, z))),
                NameKind.Ip => OtherForms.Contains(7),
                NameKind.Email => OtherForms.Contains(1),
                NameKind.Uri => OtherForms.Contains(6),
                _ => OtherForms.Count > 0,
            }
        );

    // A leading dot is not in the standard for DNS names, but is met with; a wildcard stands for names below.
    private static bool Within(string name, string zone)
    {
        var (n, z) = (name.StartsWith("*.", StringComparison.Ordinal) ? name[2..] : name, zone.TrimStart('.'));
        return z.Length == 0 || n.Equals(z, StringComparison.OrdinalIgnoreCase) || n.EndsWith("." + z, StringComparison.OrdinalIgnoreCase);
    }

    public byte[] Write()
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var (tag, subtrees) in new[] { (0, Permitted), (1, Excluded) })
                if (subtrees.Count > 0)
                    using (w.PushSequence(new Asn1Tag(TagClass.ContextSpecific, tag)))
                        foreach (var s in subtrees)
                            using (w.PushSequence())
                                w.WriteCharacterString(UniversalTagNumber.IA5String, s, new Asn1Tag(TagClass.ContextSpecific, Dns));
        return w.Encode();
    }

    public static NameConstraints Read(ReadOnlyMemory<byte> value)
    {
        var both = new List<string>[] { [], [] };
        var other = new SortedSet<int>();
        var outer = new AsnReader(value, AsnEncodingRules.DER).ReadSequence();
        while (outer.HasData)
        {
            var tag = outer.PeekTag();
            if (tag is not { TagClass: TagClass.ContextSpecific, TagValue: 0 or 1 })
                throw new AsnContentException("Name constraints that are neither permitted nor excluded.");
            var trees = outer.ReadSequence(tag);
            while (trees.HasData)
            {
                var one = trees.ReadSequence();
                var form = one.PeekTag();
                if (form.TagValue == Dns)
                    both[tag.TagValue].Add(one.ReadCharacterString(UniversalTagNumber.IA5String, form));
                else
                {
                    other.Add(form.TagValue);
                    one.ReadEncodedValue();
                }
            }
        }
        return new(both[0], both[1], [.. other]);
    }

    public override string ToString() =>
        string.Join(
            "; ",
            new[]
            {
                Permitted.Count > 0 ? "only " + string.Join(", ", Permitted) : "",
                Excluded.Count > 0 ? "not " + string.Join(", ", Excluded) : "",
                OtherForms.Count > 0 ? "further forms of names are constrained" : "",
            }.Where(t => t.Length > 0)
        );
}
