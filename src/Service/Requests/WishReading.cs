using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using Verdict = OrderlyBeacon.Core.Profiles.Verdict;

namespace OrderlyBeacon.Service.Requests;

/// <summary>A wish with everything looked up and judged, nothing stored.</summary>
public sealed record ReadWish
{
    public required Profile Profile { get; init; }
    public Hosts.Host? Host { get; init; }
    public required EnrolmentVerdict Decided { get; init; }
    public required IReadOnlyList<AlternativeName> Names { get; init; }
    public required DistinguishedName Subject { get; init; }
    public required KeySpec Key { get; init; }
    public TimeSpan? Life { get; init; }
    public CertificationRequest? Csr { get; init; }
    public required IReadOnlyList<Finding> Findings { get; init; }
    public required string CertificateName { get; init; }
    public Certificate? Existing { get; init; }
    public IReadOnlyList<string> BindTo { get; init; } = [];

    /// <summary>Names of those services that are not asked for.</summary>
    public IReadOnlyList<string> Uncovered { get; init; } = [];
    public IReadOnlyList<string> Warnings { get; init; } = [];

    public IReadOnlyList<NameVerdict> Verdicts => Decided.Verdicts;

    public Verdict Overall => Findings.Any(f => f.Weight == FindingWeight.Fatal) ? Verdict.Refused : Decided.Overall;
}

/// <summary>Reads a wish: the same for a preview, a submission and an enrolment, so that none sees more or less than another.</summary>
public sealed class WishReading(
    BeaconDb db,
    ProfileCatalogue profiles,
    DecideEnrolment decide,
    NameEvidence evidence,
    AuthorityRegistry registry,
    OutsideBook outside,
    Hosts.Presence presence
)
{
    public const int MaxNames = 250;

    /// <param name="operation">What is done with it: previewed or submitted.</param>
    public async Task<ReadWish> ReadAsync(NewRequest wish, Caller caller, Operation operation, CancellationToken ct)
    {
        var profile = ProfileOf(wish, caller);
        CheckShape(wish);
        var csr = wish.Csr is null ? null : CertificationRequest.Read(Encoding.UTF8.GetBytes(wish.Csr));
        var host = wish.Host is null ? null : await FindJoinedAsync(wish.Host, ct);
        if (host is not null)
            CheckHost(host, wish, caller, operation);
        var asked = Asked(wish, csr);
        var isAuthority = profile.AuthorityDepth is not null;
        if (isAuthority)
            CheckAuthority(csr);
        else if (asked.Count == 0)
            throw Bad("No name is given.", "Give the host names that clients connect to.");
        var existing = await FindExistingAsync(NameOf(wish, asked, csr, host, caller), host, caller, operation, ct);
        IReadOnlyList<AlternativeName> names =
        [
            .. asked.Select(a => AlternativeName.TryParse(a, out var n, out _) ? n : null).OfType<AlternativeName>().Distinct(),
        ];
        if (existing.Row is null && !isAuthority)
            CertificateNaming.ThrowIfOfAnotherHost(existing.Name, names);
        var subject = SubjectDecision.Decide(wish.Subject, csr?.Subject, names, profile);
        var decided = await decide.RunAsync(new(profile, asked, subject.Subject, host, existing.Row, caller.Name, []), ct);
        var key = csr?.PublicKey.Spec ?? KeyOf(wish, existing.Row, profile);
        if (csr is null || isAuthority || !csr.Findings.Any(x => x.Weight == FindingWeight.Fatal))
            profile.CheckKey(key);
        var warnings = new List<string>();
        var uncovered = new List<string>();
        var bindTo = await CheckServicesAsync(wish, host, names, existing.Row, warnings, uncovered, ct);
        if (host is not null && !presence.IsOnline(host))
            warnings.Add(
                $"{host.Name} is away{(presence.LastSeen(host) is { } t ? $" since {t:yyyy-MM-dd HH:mm} UTC" : "")}; the order waits until its agent is back."
            );
        if (decided.Overall != Verdict.Granted)
            warnings.AddRange(await evidence.NewMembershipsAsync(caller.Name, host, ct));
        if (existing.Row is { } row)
            warnings.Add(Difference(row.Name, Shapes.Strings(row.NamesJson), [.. names.Select(n => n.ToString())]));
        return new()
        {
            Profile = profile,
            Host = host,
            Decided = decided,
            Names = names,
            Subject = subject.Subject,
            Key = key,
            Life = ProfileWords.ParseLife(wish.Life),
            Csr = csr,
            Findings = [.. (csr?.Findings ?? []).Where(f => !isAuthority || !OfServers.Contains(f.Code)), .. subject.Findings],
            CertificateName = existing.Name,
            Existing = existing.Row,
            BindTo = bindTo,
            Uncovered = uncovered,
            Warnings = warnings,
        };
    }

    /// <summary>What an authority outside wants in a subject was said once, and stands in the place of the profile's own.</summary>
    private Profile ProfileOf(NewRequest wish, Caller caller)
    {
        var profile = profiles.GetFor(string.IsNullOrWhiteSpace(wish.Profile) ? "server" : wish.Profile, caller.Groups);
        return string.IsNullOrWhiteSpace(wish.Outside)
            ? profile
            : profile with
            {
                Fixed = SubjectOf(outside.Get(wish.Outside)),
                Subject = SubjectSource.Request,
            };
    }

    private static void CheckHost(Hosts.Host host, NewRequest wish, Caller caller, Operation operation)
    {
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        if (host.Device is not null && (wish.BindTo is { Count: > 0 } || !string.IsNullOrWhiteSpace(wish.Outside)))
            throw Bad(
                "A device makes its own request and puts the answer in place by itself.",
                "Leave out the services and the authority outside."
            );
    }

    private static DistinguishedName SubjectOf(OutsideAuthority authority) =>
        authority.Subject.Length == 0 ? DistinguishedName.Empty : DistinguishedName.Parse(authority.Subject);

    private static void CheckShape(NewRequest wish)
    {
        if (!string.IsNullOrWhiteSpace(wish.Outside) && wish.Host is null)
            throw Bad(
                "An authority outside signs for a host's key here; a CSR that was made elsewhere needs no help on its way there.",
                "Give the host that shall make the key."
            );
        if (wish.Host is not null && wish.Csr is not null)
            throw Bad("A host makes its own request; a CSR comes without one.", "Give either a host or a CSR.");
        if (wish.Host is null && wish.Csr is null)
            throw Bad("Neither a host nor a CSR is given.", "Give the host that shall make the key, or a CSR.");
        if (wish.RenewAfter is < 0.05 or > 0.95)
            throw Bad(
                "A renewal can be planned after 0.05 to 0.95 of a certificate's life.",
                "Give a number in that range; 0.67 is usual."
            );
    }

    private static IReadOnlyList<string> Asked(NewRequest wish, CertificationRequest? csr)
    {
        IReadOnlyList<string> asked =
        [
            .. (csr?.Names.Select(n => n.ToString()) ?? [])
                .Concat(wish.Names ?? [])
                .Where(n => !string.IsNullOrWhiteSpace(n))
                .Select(n => n.Trim()),
        ];
        return asked.Count <= MaxNames
            ? asked
            : throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"There are {asked.Count} names; {MaxNames} is the most.",
                "Split them over several certificates."
            );
    }

    private static KeySpec KeyOf(NewRequest wish, Certificate? existing, Profile profile)
    {
        if (!string.IsNullOrWhiteSpace(wish.Key))
            return KeySpec.Parse(wish.Key);
        return existing is { Key.Length: > 0 } ? KeySpec.Parse(existing.Key) : profile.Keys[0];
    }

    private async Task<Hosts.Host> FindJoinedAsync(string name, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, name, ct);
        host.ThrowIfGone();
        return host.State == HostState.Joined
            ? host
            : throw new BeaconProblem(
                ProblemCode.HostAway,
                $"The host {host.Name} was invited but has not joined yet.",
                "Start its agent with the join code."
            );
    }

    private static string NameOf(NewRequest wish, IReadOnlyList<string> asked, CertificationRequest? csr, Hosts.Host? host, Caller caller)
    {
        if (!string.IsNullOrWhiteSpace(wish.Certificate))
            return CertificateNaming.Given(wish.Certificate, caller.Name);
        string first;
        if (asked.Count == 0)
            first = Slug(csr!.Subject.CommonName!);
        else if (AlternativeName.TryParse(asked[0], out var name, out var fault))
            first = name!.Value;
        else
            first = CertificateNaming.CanBe(asked[0].Trim()) ? asked[0] : throw NameFaults.Problem(asked[0], fault);
        return CertificateNaming.Given(host is null ? CertificateNaming.OfCsr(first, caller.Name) : first, caller.Name);
    }

    /// <summary>The certificate that this becomes an edition of: only its owner's requests do.</summary>
    private async Task<(string Name, Certificate? Row)> FindExistingAsync(
        string name,
        Hosts.Host? host,
        Caller caller,
        Operation operation,
        CancellationToken ct
    )
    {
        var existing = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == name, ct);
        if (existing is null)
            return (name, null);
        MayAct.ThrowUnless(operation, caller, MayAct.Of(existing));
        return existing.HostId == host?.Id
            ? (name, existing)
            : throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a certificate named \"{name}\" on another host already.",
                "Give this one a name of its own (client: --as NAME)."
            );
    }

    /// <summary>A service's name without its host, in full or by the first part of its name.</summary>
    private static string ServiceIn(string text, Hosts.Host host)
    {
        var slash = text.IndexOf('/');
        if (slash < 0)
            return text;
        var before = text[..slash];
        return before == host.Name || host.Name.StartsWith(before + ".", StringComparison.Ordinal) ? text[(slash + 1)..] : text;
    }

    private async Task<IReadOnlyList<string>> CheckServicesAsync(
        NewRequest wish,
        Hosts.Host? host,
        IReadOnlyList<AlternativeName> names,
        Certificate? existing,
        List<string> warnings,
        List<string> uncovered,
        CancellationToken ct
    )
    {
        var found = new List<string>();
        foreach (var text in (wish.BindTo ?? []).Where(s => !string.IsNullOrWhiteSpace(s)))
        {
            if (host is null)
                throw Bad("Only a host's own certificate can be bound to its services.", "Request it for the host.");
            var name = ServiceIn(text, host);
            var service =
                await db.Services.AsNoTracking().FirstOrDefaultAsync(s => s.HostId == host.Id && s.Name == name, ct)
                ?? throw await NotThere.ServiceAsync(db, host, name, ct);
            if (Shapes.Problem(service.ProblemJson) is { } p)
                warnings.Add($"{host.Name}/{name} cannot be changed now: {p.Message} {p.Cure}");
            var own = existing is null
                ? []
                : await db.Editions.Where(e => e.CertificateId == existing.Id).Select(e => e.Serial).ToListAsync(ct);
            if (Bindings.ReplacedByIt.Of(host.Name, service, own) is { } replaced)
                warnings.Add(replaced);
            // What is bound there already was said when it was bound.
            if (existing is null || !await db.Bindings.AnyAsync(b => b.ServiceId == service.Id && b.CertificateId == existing.Id, ct))
                uncovered.AddRange(Bindings.Uncovered.Of(service, names).Except(uncovered));
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
        if (registry.All.FirstOrDefault(x => x.Subject.Matches(csr.Subject)) is { } taken)
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

    private static string Difference(string name, List<string> before, List<string> after)
    {
        var (added, dropped) = (after.Except(before).ToList(), before.Except(after).ToList());
        return added.Count + dropped.Count == 0
            ? $"\"{name}\" exists: this becomes its next edition, with the same names."
            : $"\"{name}\" exists: this becomes its next edition{(added.Count > 0 ? ", adds " + string.Join(", ", added) : "")}{(dropped.Count > 0 ? ", drops " + string.Join(", ", dropped) : "")}.";
    }

    private static BeaconProblem Bad(string what, string cure) => new(ProblemCode.InputInvalid, what, cure);
}
