using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>A subject as it will stand in the certificate, and what was found about the one that was asked for.</summary>
public sealed record DecidedSubject(DistinguishedName Subject, IReadOnlyList<Finding> Findings);

/// <summary>
/// Decides the subject: at most one common name, which is one of the judged names; everything else is the profile's. Clients and programs look into the subject too
/// (a database takes the common name for the user), so nothing in it goes unjudged.
/// </summary>
public static class SubjectDecision
{
    /// <param name="text">As a person wrote it, or null.</param>
    /// <param name="csr">As a certification request has it, or null.</param>
    /// <param name="names">The judged names.</param>
    public static DecidedSubject Decide(string? text, DistinguishedName? csr, IReadOnlyList<AlternativeName> names, Profile profile)
    {
        if (profile.AuthorityDepth is not null)
            return new(csr ?? DistinguishedName.Empty, []);
        var isTyped = !string.IsNullOrWhiteSpace(text);
        var asked = isTyped ? DistinguishedName.Parse(text!) : csr ?? DistinguishedName.Empty;
        var findings = new List<Finding>();
        var common = asked.ValuesOf(Oids.CommonName).ToList();
        if (common.Count > 1)
            findings.Add(Findings.Of(FindingCode.SeveralCommonNames, string.Join(", ", common)));
        // What a person typed is meant; what a tool put into a request is often its default, and is left out with a word.
        var foreign = asked.Relative.SelectMany(r => r).Where(a => a.Oid != Oids.CommonName && !IsFixed(profile, a)).ToList();
        foreach (var a in foreign)
            findings.Add(
                Findings.Of(
                    isTyped ? FindingCode.AttributeRefused : FindingCode.AttributeLeftOut,
                    $"{DistinguishedName.KeyOf(a.Oid)}={a.Value}"
                )
            );
        if (common.Count == 1 && Among(common[0], names) is null)
            findings.Add(
                isTyped
                    ? Findings.Of(FindingCode.CommonNameNotJudged, common[0])
                    : Findings.Of(FindingCode.AttributeLeftOut, $"CN={common[0]}")
            );
        return new(Compose(profile, names, common), findings);
    }

    private static DistinguishedName Compose(Profile profile, IReadOnlyList<AlternativeName> names, List<string> common)
    {
        var wished = common.Count == 1 ? Among(common[0], names) : null;
        var first = names.Count > 0 && names[0].Value.Length <= 64 ? names[0].Value : null;
        var name = profile.Subject switch
        {
            SubjectSource.Empty => null,
            SubjectSource.FirstName => first,
            _ => wished ?? first,
        };
        IEnumerable<NameAttribute> own = name is null ? [] : [new(Oids.CommonName, name)];
        // Most general first: what the profile fixes stands before, and in the place of what was asked for.
        var fixedNow = profile.Fixed.Relative.SelectMany(r => r).ToList();
        return DistinguishedName.Of([.. fixedNow, .. own.Where(a => fixedNow.TrueForAll(f => f.Oid != a.Oid))]);
    }

    /// <summary>The judged name that a common name means, however it is spelled; null when there is none.</summary>
    private static string? Among(string common, IReadOnlyList<AlternativeName> names) =>
        AlternativeName.TryParse(common, out var parsed, out _) && names.Contains(parsed!) && parsed!.Value.Length <= 64
            ? parsed.Value
            : null;

    private static bool IsFixed(Profile profile, NameAttribute a) =>
        profile.Fixed.ValuesOf(a.Oid).Any(v => DirectoryText.Compared(v) == DirectoryText.Compared(a.Value));
}
