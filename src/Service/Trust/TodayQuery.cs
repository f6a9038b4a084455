using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Trust;

/// <summary>What needs a hand now, worst first, and what is ahead.</summary>
public sealed class TodayQuery(
    BeaconDb db,
    ServiceQueries services,
    Hosts.HostQueries hosts,
    CertificateQueries certificates,
    AuthorityRegistry registry,
    AuthorityKeys keys,
    CrlShelf shelf,
    Health.HealthBook health,
    Publishing.PushPublished pushes,
    Keeping.Custody custody,
    Attempts attempts,
    ForeignClaims claims,
    OrderDesk desk,
    TimeProvider clock
)
{
    /// <summary>More of one kind are not told one by one in any case.</summary>
    private const int MostOfAKind = 200,
        MostAhead = 60;

    public async Task<Today> RunAsync(CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var concerns = new List<Concern>();
        foreach (var c in await certificates.NeedingAsync(MostOfAKind, ct))
            if (!await certificates.IsReplacedAsync(c, ct))
                concerns.AddRange(OfCertificate(c));
        var states = await services.CountsAsync(ct);
        await AddServicesAsync(concerns, states, ct);
        var away = await AddHostsAsync(concerns, ct);
        foreach (
            var r in await db
                .Requests.AsNoTracking()
                .Where(r => r.State == RequestState.WaitingForApproval)
                .OrderBy(r => r.Id)
                .Take(50)
                .ToListAsync(ct)
        )
            concerns.Add(
                new(
                    Severity.Soon,
                    "waiting-for-approval",
                    $"request {r.Id}",
                    $"{r.Requester} asks for {r.CertificateName}; it needs approval.",
                    $"{r.Requester} waits.",
                    "Approve or refuse it.",
                    ShellCommand.Of($"beacon request show {r.Id}"),
                    $"/requests/{r.Id}"
                )
            );
        if (await db.Requests.CountAsync(r => r.State == RequestState.WaitingOutside && r.Approved, ct) is > 0 and var held)
            concerns.Add(
                new(
                    Severity.Now,
                    "authority-away",
                    "authority",
                    $"{held} granted {(held == 1 ? "request waits" : "requests wait")} for the authority's key.",
                    "Who asked for them waits.",
                    "Fix what keeps the key from being used; they continue by themselves.",
                    "beacon authority health",
                    "/authorities"
                )
            );
        if (!registry.IsReady && registry.Waiting is { } waiting)
            concerns.Add(
                new(
                    Severity.Now,
                    "authority-waits",
                    waiting.Name,
                    $"It waits for the answer to its request {waiting.Request}.",
                    "Nothing can be issued, and no host can join.",
                    "Have the request signed by the root, and install the answer.",
                    "beacon authority request issuing",
                    null
                )
            );
        var told = health.Last?.Authorities.SelectMany(a => a.Generations).SelectMany(g => g.Findings).Select(f => f.Reason).ToList() ?? [];
        foreach (var p in keys.Faults.Where(p => !told.Contains(p.Message)))
            concerns.Add(
                new(
                    Severity.Failed,
                    "key-unusable",
                    "authority",
                    p.Message,
                    "Nothing can be issued; lists and answers expire one after the other.",
                    p.Cure,
                    "beacon authority health",
                    "/authorities"
                )
            );
        foreach (var (a, g) in (health.Last?.Authorities ?? []).SelectMany(a => a.Generations.Select(g => (a, g))))
        foreach (
            var (f, at) in g
                .Findings.Select(f => (f, (string?)null))
                .Concat(g.Points.Where(p => p.Finding is not null).Select(p => (p.Finding!, (string?)p.Uri)))
        )
            // What the whole service waits for is told above.
            if (f.Severity >= Severity.Soon && !(f.Fault == "authority-waits" && !registry.IsReady))
                concerns.Add(
                    new(
                        f.Severity,
                        f.Fault,
                        a.Name,
                        at is null ? f.Reason : $"{at}: {f.Reason}",
                        f.Hurts,
                        f.Cure,
                        "beacon authority health",
                        "/authorities"
                    )
                );

        concerns.AddRange(custody.Concerns());
        concerns.AddRange(await attempts.ConcernsAsync(now, ct));
        concerns.AddRange(await claims.ConcernsAsync(ct));
        foreach (var p in pushes.States.Where(p => !p.Good))
            concerns.Add(
                new(
                    Severity.Now,
                    "push-failed",
                    p.Target,
                    p.Told,
                    "Clients that look there find older lists, and at their end none.",
                    "Fix that point; it is tried again every 20 seconds.",
                    "beacon authority health",
                    "/authorities"
                )
            );

        // Nobody but a person can bring the next one: there are weeks to act in.
        // Where the root publishes its lists itself, that is not for us to do.
        var ours = registry
            .Authorities.SelectMany(a => a.Certified)
            .Any(g => g.Read().CrlUris.Contains(registry.CrlUri(Authority.RootSlug)));
        if (registry.IsReady && ours && (shelf.Get(Authority.RootSlug)?.Row.NextUpdate is not { } lapses || lapses < now.AddDays(60)))
        {
            var lapse = shelf.Get(Authority.RootSlug)?.Row.NextUpdate;
            concerns.Add(
                new(
                    lapse is { } t && t > now ? Severity.Soon : Severity.Now,
                    "root-crl",
                    "root",
                    lapse is { } at
                        ? $"The root's CRL {(at > now ? "lapses" : "expired")} on {at:d MMM yyyy}."
                        : "No CRL of the root is published.",
                    "Clients that check the whole chain refuse everything then.",
                    "Sign a fresh one where the root is, and publish it.",
                    "beacon authority publish-crl FILE",
                    null
                )
            );
        }

        var ordered = ConcernGroups.Of(concerns).OrderByDescending(c => c.Severity).ThenBy(c => c.About, StringComparer.Ordinal).ToList();
        var total = await db.Services.CountAsync(ct);
        var counts = new TodayCounts(
            await db.Hosts.CountAsync(h => h.State == HostState.Joined, ct),
            away,
            total,
            await db.Certificates.CountAsync(c => c.Profile != "agent", ct),
            Math.Max(0, total - states.Values.Sum()),
            ordered.Count(c => c.Severity == Severity.Soon),
            ordered.Count(c => c.Severity == Severity.Now),
            ordered.Count(c => c.Severity == Severity.Failed)
        );
        return new(now, counts, ordered, await AheadAsync(now, ct));
    }

    /// <summary>A state that a few services are in is told for each of them; one of many is told once, with where to find them.</summary>
    private async Task AddServicesAsync(List<Concern> concerns, Dictionary<string, int> states, CancellationToken ct)
    {
        var shown = new List<ServiceInfo>();
        foreach (var (state, count) in states)
        {
            var few = await services.FewAsync(state, ConcernGroups.MostSingle, ct);
            if (count <= ConcernGroups.MostSingle)
                shown.AddRange(few);
            else if (few.SelectMany(s => OfService(s, few, [])).FirstOrDefault() is { } one)
                concerns.Add(ConcernGroups.OfServices(state, count, one, few));
        }
        shown = [.. shown.DistinctBy(s => (s.Host, s.Name))];
        var certs = await certificates.OfHostsAsync([.. shown.Select(s => s.Host).Distinct()], MostOfAKind, ct);
        concerns.AddRange(shown.SelectMany(s => OfService(s, shown, certs)));
    }

    /// <returns>How many hosts are away.</returns>
    private async Task<int> AddHostsAsync(List<Concern> concerns, CancellationToken ct)
    {
        var gone = await hosts.AwayAsync(ConcernGroups.MostSingle, ct);
        if (gone.Count > ConcernGroups.MostSingle)
            concerns.Add(ConcernGroups.OfHosts(gone.Count, gone.First));
        else
            foreach (var h in gone.First)
                concerns.Add(
                    new(
                        Severity.Now,
                        "host-away",
                        Short(h.Name),
                        $"Its agent has not been heard from{(desk.LastSeen(h) is { } t ? $" since {t:yyyy-MM-dd HH:mm} UTC" : "")}.",
                        "Nothing on it is renewed or looked at.",
                        "Start the agent on it.",
                        ShellCommand.Of($"beacon host show {Short(h.Name)}"),
                        "/hosts"
                    )
                );
        foreach (
            var h in await db
                .Hosts.AsNoTracking()
                .Where(h => h.State == HostState.Joined && h.ProblemJson != null)
                .OrderBy(h => h.Name)
                .Take(MostOfAKind)
                .ToListAsync(ct)
        )
            if (Shapes.Problem(h.ProblemJson) is { } p)
                concerns.Add(
                    new(
                        Severity.Now,
                        p.Code,
                        Short(h.Name),
                        p.Message,
                        "Nothing on it can be changed or renewed.",
                        p.Cure,
                        ShellCommand.Of($"beacon host show {Short(h.Name)}"),
                        "/hosts"
                    )
                );
        return gone.Count;
    }

    private static IEnumerable<Concern> OfCertificate(CertificateInfo c)
    {
        if (c.Severity < Severity.Soon)
            yield break;
        var retry = c.RetryAt is { } t ? $" It is tried again at {t:HH:mm:ss} UTC." : "";
        var (reason, hurts, cure) = c.State switch
        {
            "renewal failed" => (
                (c.LastError ?? "The last try failed.") + retry,
                c.NotAfter is { } end
                    ? $"The edition in use ends on {end:d MMM yyyy HH:mm}; everything is as it was."
                    : "It is not issued yet; everything is as it was.",
                "Fix the cause; it continues by itself, or at once with the command."
            ),
            "stuck" => (
                c.LastError ?? "A server could not be put back.",
                "Its services may be away, or refused by their clients; nothing is tried by itself.",
                "Do at the host what it says; then order it again with the command."
            ),
            "on hold" => (
                "Its current edition is on hold.",
                "Clients that check revocation refuse it until it is released.",
                "Release it, or revoke it for good."
            ),
            "revoked" => ("Its current edition is revoked.", "Clients that check revocation refuse it.", "Renew it."),
            "expired" => (
                $"Its edition expired on {c.NotAfter:d MMM yyyy HH:mm}.",
                "Every client refuses it.",
                c.Host is null ? "Whoever has its key makes a new request." : "Renew it."
            ),
            "expires soon" => (
                $"It ends on {c.NotAfter:d MMM yyyy} and nothing renews it.",
                "After that clients refuse it.",
                c.Host is null ? "Whoever has its key makes a new request." : "Renew it."
            ),
            "not issued yet" => ("It has not been issued.", "Its services wait for it.", "Look at its request."),
            _ => Other(c),
        };
        // What a service shows is told with the service.
        if (c.State is "broken" or "behind")
            yield break;
        yield return new(
            c.Severity,
            c.State.Replace(' ', '-'),
            c.Name,
            reason,
            hurts,
            cure,
            c.State == "on hold" ? ShellCommand.Of($"beacon cert release {c.Name}")
                : c.Host is null ? ShellCommand.Of($"beacon cert show {c.Name}")
                : ShellCommand.Of($"beacon cert renew {c.Name}"),
            $"/certificates/{Uri.EscapeDataString(c.Name)}"
        );

        static (string, string, string) Other(CertificateInfo c) => (c.LastError ?? c.State, "", "Look at it.");
    }

    private static IEnumerable<Concern> OfService(ServiceInfo s, List<ServiceInfo> found, List<CertificateInfo> certs)
    {
        var about = $"{Short(s.Host)}/{s.Name}";
        if (s.Binding is { State: BindingState.Broken or BindingState.Behind } b)
        {
            yield return new(
                Severity.Failed,
                b.State == BindingState.Broken ? "binding-broken" : "binding-behind",
                about,
                b.Message ?? "Another edition than the current one is served.",
                "Clients meet the wrong certificate or none.",
                "Bind it again.",
                ShellCommand.Of($"beacon bind {b.Certificate} --to {about}"),
                $"/hosts/{s.Host}"
            );
            yield break;
        }
        if (s.Look?.Problems.FirstOrDefault() is { Severity: >= Severity.Soon } p)
        {
            var name = s.Names.Count > 0 ? s.Names[0] : s.Name;
            var ready = certs.FirstOrDefault(c =>
                c.Host == s.Host && c.Serial is not null && c.State is "in store" or "serving" && c.Names.Contains(name)
            );
            var command =
                p.Fault is "no-answer" ? ShellCommand.Of($"beacon look {name}")
                : ready is not null ? ShellCommand.Of($"beacon bind {ready.Name} --to {about}")
                : RequestFor(s, name, found);
            yield return new(
                p.Severity,
                p.Fault,
                about,
                p.Reason,
                p.Hurts,
                p.Cure,
                command,
                p.Fault is "no-answer" ? $"/hosts/{s.Host}" : $"/new?host={s.Host}&service={Uri.EscapeDataString(s.Name)}"
            );
        }
        else if (s.Problem is { } x)
            yield return new(Severity.Soon, x.Code, about, x.Message, "Nothing can be bound there.", x.Cure, null, $"/hosts/{s.Host}");
    }

    /// <summary>One certificate for all that is called by this name on its host, as a mail server's two daemons are.</summary>
    private static string RequestFor(ServiceInfo s, string name, List<ServiceInfo> found)
    {
        var together = found
            .Where(o => o.Host == s.Host && o.Binding is null && o.Severity >= Severity.Soon && o.Names.FirstOrDefault() == name)
            .Select(o => o.Name);
        var words = new List<string> { "beacon", "request", "new", "--host", Short(s.Host), "--name", name };
        foreach (var service in together.Append(s.Name).Distinct())
            words.AddRange(["--bind-to", service]);
        return string.Join(' ', words.Select(ShellCommand.Quoted));
    }

    private static string Short(string host) => host.Split('.')[0];

    /// <summary>Those that come first, each with its name; how many there are of all, by when they expire.</summary>
    private async Task<Lookahead> AheadAsync(DateTimeOffset now, CancellationToken ct)
    {
        var items = new List<LookaheadItem>();
        var certs = await certificates.NextAsync(MostAhead, ct);
        foreach (var c in certs.Where(c => c.NotAfter is not null && c.State != "expired"))
            items.Add(
                new(
                    "certificate",
                    c.Name,
                    c.Host,
                    c.NotBefore!.Value,
                    c.NotAfter!.Value,
                    c.Planned,
                    c.Phase ?? LifePhase.Fresh,
                    c.Severity,
                    c.State,
                    $"/certificates/{Uri.EscapeDataString(c.Name)}"
                )
            );
        foreach (var s in (await services.UnmanagedAsync(MostAhead, ct)).Where(s => s.Look?.Served is not null))
            items.Add(
                new(
                    "found",
                    s.Name,
                    s.Host,
                    s.Look!.Served!.NotBefore,
                    s.Look.Served.NotAfter,
                    null,
                    s.Look.Served.NotAfter < now ? LifePhase.Expired : LifePhase.Fresh,
                    s.Severity,
                    s.State,
                    $"/hosts/{s.Host}"
                )
            );
        foreach (var a in registry.Authorities)
        foreach (var g in a.Certified)
            if (g.Read() is { } x)
                items.Add(new("authority", a.Name, null, x.NotBefore, x.NotAfter, null, LifePhase.Fresh, Severity.Fine, a.Kind, null));
        return new(now, [.. items.OrderBy(i => i.Kind == "authority").ThenBy(i => i.NotAfter)]) { Density = await DensityAsync(now, ct) };
    }

    private static readonly IReadOnlyList<TimeSpan> Marks =
    [
        TimeSpan.FromMinutes(10),
        TimeSpan.FromHours(1),
        TimeSpan.FromHours(6),
        TimeSpan.FromDays(1),
        TimeSpan.FromDays(7),
        TimeSpan.FromDays(30),
        TimeSpan.FromDays(90),
        TimeSpan.FromDays(365),
        TimeSpan.FromDays(3650),
    ];

    private async Task<IReadOnlyList<LookaheadDensity>> DensityAsync(DateTimeOffset now, CancellationToken ct)
    {
        var density = new List<LookaheadDensity>();
        var from = now;
        foreach (var to in Marks.Select(m => now + m))
        {
            var (after, before) = (from, to);
            var count = await db.Editions.CountAsync(
                e => e.State == EditionState.Current && e.NotAfter >= after && e.NotAfter < before && e.Profile != "agent",
                ct
            );
            density.Add(new(before, count));
            from = to;
        }
        return density;
    }
}

internal static class TrustEndpoints
{
    public static void MapTrust(this RouteGroupBuilder api)
    {
        api.MapGet("/today", async (TodayQuery q, CancellationToken ct) => TypedResults.Ok(await q.RunAsync(ct)))
            .Is(Operation.GetToday)
            .WithTags("Today");
        api.MapGet("/lookahead", async (TodayQuery q, CancellationToken ct) => TypedResults.Ok((await q.RunAsync(ct)).Lookahead))
            .Is(Operation.GetLookahead)
            .WithTags("Today");
        api.MapPost(
                "/looks",
                async (LookWish wish, LookFromHost look, CancellationToken ct) => TypedResults.Ok(await look.RunAsync(wish, ct))
            )
            .Is(Operation.Look)
            .WithTags("Looks");
    }
}
