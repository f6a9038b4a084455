using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Profiles;

/// <summary>Words for usages and lives, the same everywhere; and a profile as it is written down.</summary>
internal static class ProfileWords
{
    private static readonly (string Oid, string Word, string Shown)[] Extended =
    [
        (Oids.ServerAuth, "tls-server", "TLS server"),
        (Oids.ClientAuth, "tls-client", "TLS client"),
        (Oids.OcspSigning, "ocsp-signing", "OCSP signing"),
        (Oids.AnyExtendedKeyUsage, "any", "any"),
    ];

    public static IReadOnlyList<string> Of(KeyUsages usages) =>
        [
            .. Enum.GetValues<KeyUsages>()
                .Where(u => u != KeyUsages.None && usages.HasFlag(u))
                .Select(u => BeaconProblem.SlugOf(u).Replace('-', ' ')),
        ];

    public static IReadOnlyList<string> OfExtended(IEnumerable<string>? oids) =>
        [.. (oids ?? []).Select(o => Extended.FirstOrDefault(e => e.Oid == o).Shown ?? o)];

    public static string Of(TimeSpan life) =>
        life switch
        {
            { TotalDays: >= 1 } when life.TotalDays % 1 == 0 => $"{life.TotalDays:0}d",
            { TotalHours: >= 1 } when life.TotalHours % 1 == 0 => $"{life.TotalHours:0}h",
            { TotalMinutes: >= 1 } when life.TotalMinutes % 1 == 0 => $"{life.TotalMinutes:0}m",
            _ => $"{life.TotalSeconds:0}s",
        };

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static TimeSpan? ParseLife(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
            return null;
        var t = text.Trim();
        if (t.Length is > 1 and < 8 && int.TryParse(t[..^1], System.Globalization.NumberStyles.None, null, out var n) && n > 0)
        {
            TimeSpan? life = t[^1] switch
            {
                'd' => TimeSpan.FromDays(n),
                'h' => TimeSpan.FromHours(n),
                'm' => TimeSpan.FromMinutes(n),
                's' => TimeSpan.FromSeconds(n),
                _ => null,
            };
            if (life >= TimeSpan.FromSeconds(20))
                return life;
        }
        throw new BeaconProblem(
            ProblemCode.InputInvalid,
            $"\"{t}\" is not a life for a certificate.",
            "Write a number and d, h, m or s, as in 90d or 12h; 20s is the least."
        );
    }

    public static ProfileDefinition Write(Profile p) =>
        new(
            p.Id,
            p.Title,
            p.Purpose,
            Of(p.Life),
            [.. p.Keys.Select(k => k.ToString())],
            [.. Of(p.KeyUsage).Select(u => u.Replace(' ', '-'))],
            [.. p.ExtendedKeyUsage.Select(o => Extended.FirstOrDefault(e => e.Oid == o).Word ?? o)],
            new(p.Names.HostNames, p.Names.Wildcards, p.Names.Addresses, [.. p.Names.Within.Select(z => z.Ascii)], p.Names.Most)
            {
                Outward = p.Names.Outward,
            },
            BeaconProblem.SlugOf(p.Subject),
            p.Fixed.ToString(),
            p.MayAsk,
            p.Approvals,
            p.AuthorityDepth
        )
        {
            ReleaseTo = p.ReleaseTo,
            Published = p.Published,
        };

    /// <summary>A profile from its definition.</summary>
    /// <param name="kept">What a definition does not say is taken from here: whom it is for, whether the host's own name is the only one.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ProfileRefused"/>.</exception>
    public static Profile Read(ProfileDefinition d, int revision, bool offered, Profile? kept)
    {
        var usage = KeyUsages.None;
        foreach (var word in d.KeyUsage ?? [])
            usage |=
                Enum.GetValues<KeyUsages>().FirstOrDefault(u => u != KeyUsages.None && BeaconProblem.SlugOf(u) == word) is var u
                && u != KeyUsages.None
                    ? u
                    : throw Bad(
                        "keyUsage",
                        $"\"{word}\" is not a key usage.",
                        "Use " + string.Join(", ", Of((KeyUsages)0x1FF).Select(x => x.Replace(' ', '-'))) + "."
                    );
        var subject =
            Enum.GetValues<SubjectSource>()
                .Where(s => BeaconProblem.SlugOf(s) == (string.IsNullOrEmpty(d.Subject) ? "request" : d.Subject))
                .Cast<SubjectSource?>()
                .FirstOrDefault()
            ?? throw Bad("subject", $"\"{d.Subject}\" is not where a subject comes from.", "Use request, first-name or empty.");
        try
        {
            return new()
            {
                Id = (d.Id ?? "").Trim(),
                Revision = revision,
                Offered = offered,
                Title = (d.Title ?? "").Trim(),
                Purpose = (d.Purpose ?? "").Trim(),
                Life = ParseLife(d.Life) ?? throw Bad("life", "No life is given.", "Give one, as 90d."),
                Keys = [.. (d.Keys ?? []).Select(KeySpec.Parse).Distinct()],
                KeyUsage = usage,
                ExtendedKeyUsage =
                [
                    .. (d.ExtendedKeyUsage ?? []).Select(w => Extended.FirstOrDefault(e => e.Word == w).Oid ?? w).Distinct(),
                ],
                Names = NamesOf(d.Names, kept),
                Subject = subject,
                Fixed = string.IsNullOrWhiteSpace(d.Fixed) ? DistinguishedName.Empty : DistinguishedName.Parse(d.Fixed),
                MayAsk = [.. (d.MayAsk ?? []).Select(g => g.Trim()).Where(g => g.Length > 0).Distinct()],
                Approvals = d.Approvals,
                AuthorityDepth = d.AuthorityDepth,
                Use = kept?.Use ?? ProfileUse.People,
                ReleaseTo = [.. d.ReleaseTo.Select(g => g.Trim()).Where(g => g.Length > 0).Distinct()],
                Published = d.Published,
            };
        }
        catch (BeaconProblem p)
            when (p.Code
                    is ProblemCode.NameMalformed
                        or ProblemCode.KeyNotAllowed
                        or ProblemCode.SubjectMalformed
                        or ProblemCode.InputInvalid
            )
        {
            throw new BeaconProblem(ProblemCode.ProfileRefused, $"The profile cannot be read: {p.Message}", p.Cure, p);
        }
    }

    private static NameRules NamesOf(ProfileNames? n, Profile? kept) =>
        new(n?.Wildcards ?? false, n?.Addresses ?? false, kept?.Names.OwnHostOnly ?? false)
        {
            HostNames = n?.HostNames ?? true,
            Within = [.. (n?.Within ?? []).Select(DnsName.Parse)],
            Outward = n?.Outward ?? false,
            Most = n?.Most is null or 0 ? 250 : n.Most,
        };

    private static BeaconProblem Bad(string field, string what, string cure) => new(ProblemCode.ProfileRefused, $"{field}: {what}", cure);

    public static ProfileInfo Info(Profile p, IReadOnlyCollection<string>? groups) =>
        new(
            p.Id,
            p.Revision,
            p.Title,
            p.Purpose,
            Of(p.Life),
            [.. p.Keys.Select(k => k.ToString())],
            Of(p.KeyUsage),
            OfExtended(p.ExtendedKeyUsage),
            p.Names.Wildcards,
            p.Names.Addresses,
            p.ForPeople,
            p.Approvals switch
            {
                0 => "when needed",
                1 => "one other person",
                _ => "two other people",
            }
        )
        {
            Offered = p.Offered,
            Approvals = p.Approvals,
            MayAsk = p.MayAsk,
            ReleaseTo = p.ReleaseTo,
            ForYou = groups is null || p.MayBeAskedBy(groups),
        };

    /// <summary>Field by field, as in the profile's file.</summary>
    public static IReadOnlyList<(string Field, string Value)> Fields(ProfileDefinition d) =>
        [
            ("title", d.Title),
            ("purpose", d.Purpose),
            ("life", d.Life),
            ("keys", List(d.Keys)),
            ("keyUsage", List(d.KeyUsage)),
            ("extendedKeyUsage", List(d.ExtendedKeyUsage)),
            ("names.hostNames", Yes(d.Names.HostNames)),
            ("names.wildcards", Yes(d.Names.Wildcards)),
            ("names.addresses", Yes(d.Names.Addresses)),
            ("names.within", List(d.Names.Within)),
            ("names.outward", Yes(d.Names.Outward)),
            ("names.most", d.Names.Most.ToString()),
            ("subject", d.Subject),
            ("fixed", d.Fixed),
            ("mayAsk", List(d.MayAsk)),
            ("approvals", d.Approvals.ToString()),
            ("authorityDepth", d.AuthorityDepth?.ToString() ?? ""),
            ("releaseTo", List(d.ReleaseTo)),
            ("published", Yes(d.Published)),
        ];

    public static IReadOnlyList<ProfileDifference> Differences(ProfileDefinition before, ProfileDefinition after) =>
        [.. ProfileSense.Differences(Fields(before), Fields(after)).Select(x => new ProfileDifference(x.Field, x.Before, x.After))];

    public static ProfileDefinition FromJson(string json) => JsonSerializer.Deserialize(json, BeaconJson.Default.ProfileDefinition)!;

    private static string List(IEnumerable<string> l) => string.Join(", ", l);

    private static string Yes(bool b) => b ? "true" : "false";
}
