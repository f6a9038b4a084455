using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Requests;

/// <summary>A wish with everything looked up and judged, nothing stored.</summary>
public sealed record ReadWish(
    Profile Profile,
    Hosts.Host? Host,
    IReadOnlyList<NameVerdict> Verdicts,
    IReadOnlyList<AlternativeName> Names,
    DistinguishedName Subject,
    KeySpec Key,
    TimeSpan? Life,
    CertificationRequest? Csr,
    IReadOnlyList<Finding> Findings,
    string CertificateName,
    Certificate? Existing,
    IReadOnlyList<string> BindTo,
    IReadOnlyList<string> Warnings
)
{
    public Core.Profiles.Verdict Overall =>
        Findings.Any(f => f.Weight == FindingWeight.Fatal) ? Core.Profiles.Verdict.Refused
        : OfNames == Core.Profiles.Verdict.Granted && Profile.Approvals > 0 ? Core.Profiles.Verdict.NeedsApproval
        : OfNames;

    /// <summary>How many other people must approve: as many as the profile says, and one when a name needs it.</summary>
    public int PeopleNeeded => Needs(Profile, OfNames);

    public static int Needs(Profile profile, Core.Profiles.Verdict ofNames) =>
        Math.Max(profile.Approvals, ofNames == Core.Profiles.Verdict.NeedsApproval ? 1 : 0);

    // An authority is known by its subject: it has no names that could be judged.
    private Core.Profiles.Verdict OfNames =>
        Verdicts.Count == 0 && Profile.AuthorityDepth is not null ? Core.Profiles.Verdict.Granted : NameDecision.Overall(Verdicts);
}

/// <summary>Reads a wish: the same for a preview, a submission and an enrolment, so that none sees more or less than another.</summary>
public sealed class WishReading(
    BeaconDb db,
    ProfileCatalogue profiles,
    DecideNames decide,
    AuthorityRegistry registry,
    BeaconOptions options,
    TimeProvider clock
)
{
    public const int MaxNames = 250;

    public async Task<ReadWish> ReadAsync(NewRequest wish, Caller caller, CancellationToken ct)
    {
        var profile = profiles.GetFor(string.IsNullOrWhiteSpace(wish.Profile) ? "server" : wish.Profile, caller.Groups);
        if (wish.Host is not null && wish.Csr is not null)
            throw Bad("A host makes its own request; a CSR comes without one.", "Give either a host or a CSR.");
        if (wish.Host is null && wish.Csr is null)
            throw Bad("Neither a host nor a CSR is given.", "Give the host that shall make the key, or a CSR.");
        if (wish.RenewAfter is < 0.05 or > 0.95)
            throw Bad(
                "A renewal can be planned after 0.05 to 0.95 of a certificate's life.",
                "Give a number in that range; 0.67 is usual."
            );

        var csr = wish.Csr is null ? null : CertificationRequest.Read(Encoding.UTF8.GetBytes(wish.Csr));
        var host = wish.Host is null ? null : await FindHostAsync(wish.Host, ct);
        IReadOnlyList<string> asked =
        [
            .. (csr?.Names.Select(n => n.ToString()) ?? [])
                .Concat(wish.Names ?? [])
                .Where(n => !string.IsNullOrWhiteSpace(n))
                .Select(n => n.Trim()),
        ];
        if (asked.Count > MaxNames)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"There are {asked.Count} names; {MaxNames} is the most.",
                "Split them over several certificates."
            );
        var isAuthority = profile.AuthorityDepth is not null;
        if (isAuthority)
            CheckAuthority(csr);
        else if (asked.Count == 0)
            throw Bad("No name is given.", "Give the host names that clients connect to.");

        var first =
            asked.Count == 0 ? Slug(csr!.Subject.CommonName!)
            : AlternativeName.TryParse(asked[0], out var f, out _) ? f!.Value
            : asked[0];
        var name = CertificateName(wish.Certificate, first, host, caller);
        var existing = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == name, ct);
        if (existing is not null && existing.HostId != host?.Id)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a certificate named \"{name}\" on another host already.",
                "Give this one a name of its own (client: --as NAME)."
            );

        var verdicts = await decide.RunAsync(
            asked,
            profile,
            host,
            caller.Groups,
            existing is null ? [] : Shapes.Strings(existing.ApprovedJson),
            ct
        );
        IReadOnlyList<AlternativeName> names =
        [
            .. verdicts.Where(v => v.Reason != VerdictReason.Malformed).Select(v => AlternativeName.Parse(v.Name)),
        ];
        var key =
            csr?.PublicKey.Spec
            ?? (
                string.IsNullOrWhiteSpace(wish.Key)
                    ? existing is not null && existing.Key.Length > 0
                        ? KeySpec.Parse(existing.Key)
                        : profile.Keys[0]
                    : KeySpec.Parse(wish.Key)
            );
        if (csr is null || isAuthority || !csr.Findings.Any(x => x.Weight == FindingWeight.Fatal))
            profile.CheckKey(key);
        var warnings = new List<string>();
        var bindTo = await CheckServicesAsync(wish.BindTo ?? [], host, warnings, ct);
        if (host is not null && !IsOnline(host))
            warnings.Add(
                $"{host.Name} is away{(host.LastSeen is { } t ? $" since {t:yyyy-MM-dd HH:mm} UTC" : "")}; the order waits until its agent is back."
            );
        if (existing is not null)
            warnings.Add(Difference(name, Shapes.Strings(existing.NamesJson), [.. names.Select(n => n.ToString())]));
        return new(
            profile,
            host,
            verdicts,
            names,
            SubjectOf(wish, csr, names, profile),
            key,
            ProfileWords.ParseLife(wish.Life),
            csr,
            [.. (csr?.Findings ?? []).Where(f => !isAuthority || !OfServers.Contains(f.Code))],
            name,
            existing,
            bindTo,
            warnings
        );
    }

    private bool IsOnline(Hosts.Host h) => h.LastSeen > clock.GetUtcNow() - TimeSpan.FromSeconds(options.HostAwaySeconds);

    private async Task<Hosts.Host> FindHostAsync(string name, CancellationToken ct)
    {
        var host =
            await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Name == name || h.Name.StartsWith(name + "."), ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no host \"{name}\".", "See beacon host list.");
        host.ThrowIfGone();
        return host.State == HostState.Joined
            ? host
            : throw new BeaconProblem(
                ProblemCode.HostAway,
                $"The host {host.Name} was invited but has not joined yet.",
                "Start its agent with the join code."
            );
    }

    private static string CertificateName(string? asked, string first, Hosts.Host? host, Caller caller)
    {
        // Without a host, the name says who brought it, so that it never takes a host's place.
        var name = string.IsNullOrWhiteSpace(asked)
            ? host is null
                ? $"{first}@{caller.Name}"
                : first
            : asked.Trim();
        return name.Length <= 200 && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_' or '*' or '@' or ':')
            ? name
            : throw Bad(
                $"\"{name}\" cannot be a certificate's name here.",
                "Use letters, digits, dots and hyphens; give one with --as NAME."
            );
    }

    private async Task<IReadOnlyList<string>> CheckServicesAsync(
        IReadOnlyList<string> services,
        Hosts.Host? host,
        List<string> warnings,
        CancellationToken ct
    )
    {
        var found = new List<string>();
        foreach (var text in services.Where(s => !string.IsNullOrWhiteSpace(s)))
        {
            if (host is null)
                throw Bad("Only a host's own certificate can be bound to its services.", "Request it for the host.");
            var name =
                text.StartsWith(host.Name + "/", StringComparison.Ordinal) ? text[(host.Name.Length + 1)..]
                : text.Contains('/') && host.Name.StartsWith(text[..text.IndexOf('/')] + ".", StringComparison.Ordinal)
                    ? text[(text.IndexOf('/') + 1)..]
                : text;
            var service =
                await db.Services.AsNoTracking().FirstOrDefaultAsync(s => s.HostId == host.Id && s.Name == name, ct)
                ?? throw new BeaconProblem(
                    ProblemCode.NotFound,
                    $"There is no service \"{name}\" on {host.Name}.",
                    "See beacon service list."
                );
            if (Shapes.Problem(service.ProblemJson) is { } p)
                warnings.Add($"{host.Name}/{name} cannot be changed now: {p.Message} {p.Cure}");
            found.Add(name);
        }
        return found;
    }

    // What is a fault in a server's request is in order in an authority's.
    private static readonly FindingCode[] OfServers =
    [
        FindingCode.AsksToBeAuthority,
        FindingCode.NoAlternativeName,
        FindingCode.CommonNameNotAmongNames,
    ];

    private void CheckAuthority(CertificationRequest? csr)
    {
        if (csr is null)
            throw Bad("An authority makes its own request.", "Give its CSR.");
        if (csr.Subject.CommonName is not { Length: > 0 })
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The request has no common name, so nobody could tell the authority by its name.",
                "Make the request with the authority's name."
            );
        if (registry.All.FirstOrDefault(x => x.Subject.Der.Span.SequenceEqual(csr.Subject.Der.Span)) is { } taken)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"{taken.Subject} is the name of an authority here.",
                "Give the authority a name of its own."
            );
        if (registry.All.Any(x => x.PublicKey.SameKey(csr.PublicKey)))
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The request is made with the key of an authority here.",
                "Make a new key where the authority will be."
            );
        if (registry.Issuing.Certificate.PathLength is 0)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The issuing authority's own certificate allows no authorities below it (path length 0).",
                "Ask the root instead, or have this authority renewed with a path length: beacon ceremony sign --path-length 1."
            );
    }

    private static string Slug(string text) =>
        string.Join(
            '-',
            new string([.. text.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : ' ')]).Split(
                ' ',
                StringSplitOptions.RemoveEmptyEntries
            )
        );

    private static DistinguishedName SubjectOf(
        NewRequest wish,
        CertificationRequest? csr,
        IReadOnlyList<AlternativeName> names,
        Profile profile
    )
    {
        var subject = profile.AuthorityDepth is not null
            ? csr!.Subject
            : profile.Subject switch
            {
                SubjectSource.Empty => DistinguishedName.Empty,
                SubjectSource.FirstName => names.Count > 0 && names[0].Value.Length <= 64
                    ? DistinguishedName.ForCommonName(names[0].Value)
                    : DistinguishedName.Empty,
                _ => Asked(wish, csr, names),
            };
        // Most general first: what the profile fixes stands before what was asked for, and in its place.
        return profile.Fixed.IsEmpty
            ? subject
            : DistinguishedName.Of([
                .. profile.Fixed.Relative.SelectMany(r => r),
                .. subject.Relative.SelectMany(r => r).Where(a => !profile.Fixed.Relative.Any(r => r.Any(x => x.Oid == a.Oid))),
            ]);
    }

    private static DistinguishedName Asked(NewRequest wish, CertificationRequest? csr, IReadOnlyList<AlternativeName> names)
    {
        var first =
            names.Count > 0 && names[0].Value.Length <= 64 ? DistinguishedName.ForCommonName(names[0].Value) : DistinguishedName.Empty;
        if (string.IsNullOrWhiteSpace(wish.Subject))
            return csr?.Subject is { IsEmpty: false, CommonName: { } c } s && names.Any(n => n.Value == c) && s.Relative.Count == 1
                ? s
                : first;
        var subject = DistinguishedName.Parse(wish.Subject);
        return subject.CommonName is not { } cn || names.Any(n => n.Value.Equals(cn, StringComparison.OrdinalIgnoreCase))
            ? subject
            : throw new BeaconProblem(
                ProblemCode.SubjectMalformed,
                $"The common name \"{cn}\" is not among the names.",
                "Add it as a name, or leave the common name out."
            );
    }

    private static string Difference(string name, List<string> before, List<string> after)
    {
        var (added, dropped) = (after.Except(before).ToList(), before.Except(after).ToList());
        return added.Count + dropped.Count == 0
            ? $"\"{name}\" exists: this becomes its next edition, with the same names."
            : $"\"{name}\" exists: this becomes its next edition{(added.Count > 0 ? ", adds " + string.Join(", ", added) : "")}{(dropped.Count > 0 ? ", drops " + string.Join(", ", dropped) : "")}.";
    }

    private static BeaconProblem Bad(string what, string cure) => new(ProblemCode.InputInvalid, what, cure);
}
