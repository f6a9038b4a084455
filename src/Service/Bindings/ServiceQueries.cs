using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>What a list of services is asked for. Null filters nothing.</summary>
public sealed record ServiceList
{
    /// <summary>Part of a name of the service or its host.</summary>
    [InQuery(Name = "search")]
    public string? Search { get; init; }

    /// <summary>One of <see cref="ServiceQueries.States"/>.</summary>
    [InQuery(Name = "state")]
    public string? State { get; init; }

    [InQuery(Name = "host")]
    public string? Host { get; init; }

    [InQuery(Name = "connector")]
    public string? Connector { get; init; }

    /// <summary>A word of <see cref="MailUse"/>, or <c>any</c>: those alone that are used for mail so.</summary>
    [InQuery(Name = "mail")]
    public string? Mail { get; init; }

    /// <summary>What is served expires before.</summary>
    [InQuery(Name = "endsBefore")]
    public DateTimeOffset? EndsBefore { get; init; }

    [InQuery(Name = "sort")]
    public string? Sort { get; init; }

    /// <summary>Where the page before ended: its <c>next</c>.</summary>
    [InQuery(Name = "after")]
    public string? After { get; init; }

    [InQuery(Name = "take")]
    public int? Take { get; init; }
}

/// <summary>Reads services with their bindings and last looks.</summary>
public sealed class ServiceQueries(BeaconDb db, Hosts.Presence presence, BeaconOptions options, TimeProvider clock)
{
    /// <summary>A service with what is joined to it.</summary>
    private sealed class Row
    {
        public required HostService Service { get; init; }
        public required string Host { get; init; }
        public required string Owner { get; init; }
        public Binding? Binding { get; init; }
        public string? Certificate { get; init; }
    }

    /// <summary>States that are no concern.</summary>
    private const string Accepted = "accepted",
        NotManaged = "not-managed",
        NotLookedAt = "not-looked-at",
        ClearText = "clear-text";

    /// <summary>Causes that a service can need a hand for.</summary>
    private static readonly IReadOnlyList<ConcernKind> Causes =
    [
        ConcernKind.BindingBehind,
        ConcernKind.BindingBroken,
        ConcernKind.ServiceProblem,
        ConcernKind.CertificateMalformed,
        .. Enum.GetNames<Core.Paths.LookFault>().Select(Enum.Parse<ConcernKind>),
    ];

    /// <summary>What a list can be narrowed to.</summary>
    public static readonly IReadOnlyList<string> States =
    [
        Accepted,
        NotManaged,
        NotLookedAt,
        ClearText,
        ListQuery.NeedsAHand,
        .. Causes.Select(OpenWord<ConcernKind>.WordOf),
    ];

    public static readonly IReadOnlyList<string> Sorts = ["name", "ends"];

    /// <summary>All services of one host.</summary>
    public async Task<List<ServiceInfo>> OfHostAsync(int hostId, CancellationToken ct) =>
        [
            .. (
                await Joined(db.Services.AsNoTracking().Where(s => s.HostId == hostId)).OrderBy(r => r.Service.Name).ToListAsync(ct)
            ).Select(Info),
        ];

    public async Task<ServiceInfo?> OneAsync(int hostId, string name, CancellationToken ct) =>
        await Joined(db.Services.AsNoTracking().Where(s => s.HostId == hostId && s.Name == name)).FirstOrDefaultAsync(ct) is { } row
            ? Info(row)
            : null;

    /// <summary>Services by their rows' numbers, those of hosts that left among them not.</summary>
    public static async Task<List<(int Id, ServiceInfo Info)>> InfosAsync(
        BeaconDb db,
        int[] ids,
        int soonDays,
        DateTimeOffset now,
        CancellationToken ct
    ) =>
        [
            .. (await Joined(db, db.Services.AsNoTracking().Where(s => ids.Contains(s.Id))).ToListAsync(ct)).Select(r =>
                (r.Service.Id, Info(r, null, soonDays, now))
            ),
        ];

    /// <summary>Those that serve something which nothing of ours renews, soonest to end first.</summary>
    public async Task<List<ServiceInfo>> UnmanagedAsync(int most, CancellationToken ct) =>
        [
            .. (
                await Joined(db.Services.AsNoTracking())
                    .Where(r => r.Binding == null && r.Service.ServedUntil != null)
                    .Where(r => !db.Editions.Any(e => e.Serial == r.Service.ServedSerial))
                    .OrderBy(r => r.Service.ServedUntil)
                    .Take(most)
                    .ToListAsync(ct)
            ).Select(Info),
        ];

    /// <summary>One page, filtered and sorted by the database.</summary>
    /// <exception cref="Core.BeaconProblem">A word for a state or a sort is not known, or the page goes on behind nothing.</exception>
    public async Task<Page<ServiceInfo>> PageAsync(ServiceList list, CancellationToken ct)
    {
        var (sort, take) = (ListQuery.Word("sort", list.Sort, Sorts), ListQuery.Take(list.Take));
        // A host is meant by its whole name or the first part of it.
        var hosts = list.Host is { Length: > 0 } host ? await FindHost.Called(db.Hosts, host).Select(h => h.Id).ToListAsync(ct) : null;
        var rows = Joined(Narrowed(list, hosts));
        rows = InState(rows, ListQuery.Word("state", list.State, States));
        if (list.After is { Length: > 0 } after)
            rows = await BehindAsync(rows, after, sort, ct);
        var ordered =
            sort == "ends"
                ? rows.OrderBy(r => r.Service.ServedUntil).ThenBy(r => r.Service.Id)
                : rows.OrderBy(r => r.Host).ThenBy(r => r.Service.Name);
        var page = await ordered.Take(take).ToListAsync(ct);
        // What proves a judgement is read with the one service.
        var infos = page.Select(Info).Select(s => s.Look is { } look ? s with { Look = look with { ChainSteps = [] } } : s);
        return new([.. infos], page.Count == take ? $"{page[^1].Host}/{page[^1].Service.Name}" : null);
    }

    private IQueryable<HostService> Narrowed(ServiceList list, List<int>? hosts)
    {
        var q = db.Services.AsNoTracking();
        if (list.Search is { } search && !string.IsNullOrWhiteSpace(search))
        {
            var part = ListQuery.Having(search);
            q = q.Where(s =>
                EF.Functions.Like(s.NamesJson, part, ListQuery.EscapedBy)
                || EF.Functions.Like(s.Name, part, ListQuery.EscapedBy)
                || db.Hosts.Any(h => h.Id == s.HostId && EF.Functions.Like(h.Name, part, ListQuery.EscapedBy))
            );
        }
        if (hosts is not null)
            q = q.Where(s => hosts!.Contains(s.HostId));
        if (list.Connector is { Length: > 0 } connector)
            q = q.Where(s => s.Connector == connector);
        if (ListQuery.Word("mail", list.Mail, MailUses.Words) is { } use)
        {
            var mask = MailUses.MaskOf(use);
            q = q.Where(s => s.MailUses > 0 && (s.MailUses & mask) != 0);
        }
        if (list.EndsBefore is { } before)
            q = q.Where(s => s.ServedUntil < before);
        if (list.Sort == "ends")
            q = q.Where(s => s.ServedUntil != null);
        return q;
    }

    private IQueryable<Row> Joined(IQueryable<HostService> services) => Joined(db, services);

    private static IQueryable<Row> Joined(BeaconDb db, IQueryable<HostService> services) =>
        from s in services
        join h in db.Hosts on s.HostId equals h.Id
        where h.State == HostState.Joined
        from b in db.Bindings.Where(b => b.ServiceId == s.Id).DefaultIfEmpty()
        from c in db.Certificates.Where(c => b != null && c.Id == b.CertificateId).DefaultIfEmpty()
        select new Row
        {
            Service = s,
            Host = h.Name,
            Owner = h.Owner,
            Binding = b,
            Certificate = c == null ? null : c.Name,
        };

    private IQueryable<Row> InState(IQueryable<Row> rows, string? state)
    {
        var open = db.Concerns.Where(c => c.Of == ConcernSubject.Service);
        switch (state)
        {
            case null:
                return rows;
            case NotLookedAt:
                return rows.Where(r => r.Service.LooksJson == "[]");
            case ClearText:
                return rows.Where(r => r.Service.ClearText);
            case ListQuery.NeedsAHand:
                return rows.Where(r => open.Select(c => (int)c.SubjectId).Contains(r.Service.Id));
            case Accepted:
            case NotManaged:
                var bound = state == Accepted;
                return rows.Where(r => (r.Binding != null) == bound && r.Service.ServedUntil != null)
                    .Where(r => !open.Select(c => (int)c.SubjectId).Contains(r.Service.Id));
            default:
                var kind = OpenWord<ConcernKind>.Of(state);
                return rows.Where(r => open.Where(c => c.Kind == kind).Select(c => (int)c.SubjectId).Contains(r.Service.Id));
        }
    }

    private async Task<IQueryable<Row>> BehindAsync(IQueryable<Row> rows, string after, string? sort, CancellationToken ct)
    {
        var slash = after.IndexOf('/');
        var (host, name) = slash < 0 ? (after, "") : (after[..slash], after[(slash + 1)..]);
        if (sort != "ends")
            return rows.Where(r => string.Compare(r.Host, host) > 0 || (r.Host == host && string.Compare(r.Service.Name, name) > 0));
        var last =
            await db
                .Services.AsNoTracking()
                .FirstOrDefaultAsync(s => s.Name == name && db.Hosts.Any(h => h.Id == s.HostId && h.Name == host), ct)
            ?? throw new Core.BeaconProblem(Core.ProblemCode.InputInvalid, $"The list cannot go on behind \"{after}\".", "Begin it again.");
        return rows.Where(r =>
            r.Service.ServedUntil > last.ServedUntil || (r.Service.ServedUntil == last.ServedUntil && r.Service.Id > last.Id)
        );
    }

    private ServiceInfo Info(Row r) => Info(r, presence.Confirmed(r.Service.HostId), options.SoonDays, clock.GetUtcNow());

    /// <param name="confirmed">When the host last said again what is kept of it.</param>
    private static ServiceInfo Info(Row r, DateTimeOffset? confirmed, int soonDays, DateTimeOffset now)
    {
        var binding = r.Binding is null ? null : BindingOf(r.Binding, r.Certificate!, r.Host, r.Service.Name);
        return Info(r.Service, r.Host, binding, confirmed, soonDays, now) with { Owner = r.Owner };
    }

    public static BindingInfo BindingOf(Binding b, string certificate, string host, string service) =>
        new(certificate, host, service, b.State, b.WantedSerial, b.SeenSerial, b.Message, b.SeenAt);

    private static ServiceInfo Info(
        HostService s,
        string host,
        BindingInfo? binding,
        DateTimeOffset? confirmed,
        int soonDays,
        DateTimeOffset now
    )
    {
        var looks = Shapes.Looks(s.LooksJson);
        var look = looks.FirstOrDefault();
        // What the host has said again since is as good as seen again.
        if (look is not null && confirmed is { } again && again > look.At)
            look = look with { At = again };
        if (look is { Served: not null, Accepted: true } && s.ServedUntil is { } ends)
            look = AtThisTime(look, ends, isBound: binding is not null, soonDays, now);
        var severity = look?.Severity ?? Severity.Fine;
        if (binding is { State: BindingState.Broken or BindingState.Behind })
            severity = Severity.Failed;
        var problem = Shapes.Problem(s.ProblemJson);
        if (problem is not null && severity < Severity.Soon)
            severity = Severity.Soon;
        var state = (look, binding, look?.Problems.FirstOrDefault()) switch
        {
            (null, _, _) => "not looked at yet",
            (_, { State: BindingState.Behind }, _) => "behind",
            (_, _, { } p) => Word(p.Fault),
            (_, null, _) => "accepted, not managed",
            _ => "accepted",
        };
        return new(
            host,
            s.Name,
            s.Connector,
            Shapes.Strings(s.NamesJson),
            Shapes.Endpoints(s.EndpointsJson),
            Shapes.Strings(s.PlacesJson),
            s.CertificateFile,
            severity,
            state,
            binding,
            look,
            problem
        )
        {
            ClearText = s.ClearText,
            RequiresTls = s.RequiresTls,
            Lowest = s.Lowest is { } lowest ? OpenWord<LowestTls>.Of(lowest) : null,
            Mail = s.MailUses == 0 ? [] : MailUses.Of(s.Connector, Shapes.Strings(s.NamesJson), Shapes.Endpoints(s.EndpointsJson)),
        };
    }

    /// <summary>Time goes on between two looks: what was accepted then can have expired since, or be about to.</summary>
    private static LookInfo AtThisTime(LookInfo look, DateTimeOffset ends, bool isBound, int soonDays, DateTimeOffset now)
    {
        if (ends < now)
            return look with
            {
                Accepted = false,
                Severity = Severity.Now,
                Problems =
                [
                    new(
                        "expired",
                        Severity.Now,
                        $"The certificate expired on {ends:d MMM yyyy HH:mm}.",
                        "Every client refuses the connection.",
                        "Request a new one and bind it."
                    ),
                ],
            };
        if (isBound || ends >= now.AddDays(soonDays))
            return look;
        return look with
        {
            Severity = Severity.Soon,
            Problems =
            [
                new(
                    "ends-soon",
                    Severity.Soon,
                    $"The certificate expires on {ends:d MMM yyyy}, {Distance(ends - now)}, and nothing renews it.",
                    "After that every client refuses the connection.",
                    "Request its successor and bind it; it renews itself from then on."
                ),
            ],
        };
    }

    /// <summary>A fault or state in a person's words.</summary>
    public static string Word(string fault) =>
        fault switch
        {
            "plain-only" => "not encrypted",
            "no-answer" => "no answer",
            "self-signed" => "self-signed",
            "common-name-only" => "name only in CN",
            "ends-soon" => "expires soon",
            "expired" => "expired",
            "unknown-issuer" => "unknown issuer",
            _ => fault.Replace('-', ' '),
        };

    public static string Distance(TimeSpan left)
    {
        if (left.TotalDays >= 1.5)
            return $"in {Math.Ceiling(left.TotalDays):0} days";
        if (left.TotalHours >= 1.5)
            return $"in {left.TotalHours:0} hours";
        return $"in {Math.Max(1, left.TotalMinutes):0} minutes";
    }
}
