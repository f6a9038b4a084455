using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;
using LifePhase = OrderlyBeacon.Contracts.LifePhase;
using Severity = OrderlyBeacon.Contracts.Severity;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>Reads certificates with their editions and bindings.</summary>
public sealed class CertificateQueries(BeaconDb db, AuthorityRegistry registry, OutsideBook outside, TimeProvider clock)
{
    /// <summary>Those that expire first, and those that are renewed first.</summary>
    public async Task<List<CertificateInfo>> NextAsync(int most, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var ids = await db
            .Editions.AsNoTracking()
            .Where(e => e.State == EditionState.Current && e.NotAfter > now)
            .Where(e => db.Certificates.Any(c => c.Id == e.CertificateId && c.Profile != "agent"))
            .OrderBy(e => e.NotAfter)
            .Select(e => e.CertificateId)
            .Take(most)
            .ToListAsync(ct);
        ids.AddRange(
            await Ours().Where(c => c.NextActionAt != null).OrderBy(c => c.NextActionAt).Select(c => c.Id).Take(5).ToListAsync(ct)
        );
        return await InfosAsync([.. ids.Distinct()], ct);
    }

    private IQueryable<Certificate> Ours() => db.Certificates.AsNoTracking().Where(c => c.Profile != "agent");

    /// <summary>In the order of the numbers.</summary>
    public Task<List<CertificateInfo>> InfosAsync(List<int> ids, CancellationToken ct) => InfosAsync(db, ids, clock.GetUtcNow(), ct);

    public static async Task<List<CertificateInfo>> InfosAsync(BeaconDb db, List<int> ids, DateTimeOffset now, CancellationToken ct)
    {
        var rows = await (
            from c in db.Certificates.AsNoTracking()
            where ids.Contains(c.Id)
            from h in db.Hosts.Where(h => h.Id == c.HostId).DefaultIfEmpty()
            select new
            {
                c,
                Host = h == null ? null : h.Name,
                IsDevice = h != null && h.Device != null,
            }
        ).ToDictionaryAsync(x => x.c.Id, ct);
        var editions = await EditionsAsync(db, ids, ct);
        var bindings = await BindingsAsync(db, ids, ct);
        var working = await WithOpenOrdersAsync(db, ids, ct);
        var rollovers = await RolloversAsync(db, ids, ct);
        return
        [
            .. ids.Where(rows.ContainsKey)
                .Select(id =>
                    Info(
                        rows[id].c,
                        rows[id].Host,
                        rows[id].IsDevice,
                        new([.. editions[id]], [.. bindings[id]], working.Contains(id), rollovers.GetValueOrDefault(id)),
                        now
                    )
                ),
        ];
    }

    /// <summary>What belongs to a certificate.</summary>
    private sealed record Belongings(List<EditionRow> Editions, List<BindingInfo> Bound, bool IsWorking, RolloverInfo? Rollover);

    /// <summary>What of an edition a certificate is judged by.</summary>
    private sealed record EditionRow(
        long Id,
        int CertificateId,
        EditionState State,
        string Serial,
        DateTimeOffset NotBefore,
        DateTimeOffset NotAfter,
        DateTimeOffset? RevokedAt,
        int? Reason
    )
    {
        public RevocationReason? Revoked => RevokedAt is null ? null : (RevocationReason)(Reason ?? 0);
    }

    private static async Task<ILookup<int, EditionRow>> EditionsAsync(BeaconDb db, List<int> ids, CancellationToken ct) =>
        (
            await db
                .Editions.AsNoTracking()
                .Where(e => ids.Contains(e.CertificateId))
                .Select(e => new EditionRow(
                    e.Id,
                    e.CertificateId,
                    e.State,
                    e.Serial,
                    e.NotBefore,
                    e.NotAfter,
                    e.RevokedAt,
                    e.RevocationReason
                ))
                .ToListAsync(ct)
        ).ToLookup(e => e.CertificateId);

    private static async Task<ILookup<int, BindingInfo>> BindingsAsync(BeaconDb db, List<int> ids, CancellationToken ct) =>
        (
            await (
                from b in db.Bindings.AsNoTracking()
                where ids.Contains(b.CertificateId)
                join s in db.Services on b.ServiceId equals s.Id
                join h in db.Hosts on s.HostId equals h.Id
                join c in db.Certificates on b.CertificateId equals c.Id
                select new
                {
                    b,
                    Service = s.Name,
                    Host = h.Name,
                    Certificate = c.Name,
                }
            ).ToListAsync(ct)
        ).ToLookup(x => x.b.CertificateId, x => ServiceQueries.BindingOf(x.b, x.Certificate, x.Host, x.Service));

    private static async Task<HashSet<int>> WithOpenOrdersAsync(BeaconDb db, List<int> ids, CancellationToken ct) =>
        (
            await db
                .Orders.AsNoTracking()
                .Where(o =>
                    o.CertificateId != null
                    && ids.Contains(o.CertificateId!.Value)
                    && (o.State == OrderState.Queued || o.State == OrderState.Taken)
                )
                .Select(o => o.CertificateId!.Value)
                .ToListAsync(ct)
        ).ToHashSet();

    private static CertificateInfo Info(Certificate c, string? host, bool isDevice, Belongings has, DateTimeOffset now)
    {
        var (editions, bound, _, rollover) = has;
        var e = editions.Find(e => e.State == EditionState.Current) ?? editions.Where(e => e.State == EditionState.Next).MaxBy(e => e.Id);
        var isRenewed = c.Automatic || c.Owner == Core.Rights.Thing.SystemOwner;
        DateTimeOffset? planned = e is null || !isRenewed ? null : c.Policy.PlannedFor(e.NotBefore, e.NotAfter, e.Serial);
        LifePhase? phase = e is null ? null : (LifePhase)(int)Life.PhaseOf(now, planned ?? e.NotAfter, e.NotAfter);
        var (severity, state) = StateOf(c, e, phase, has, now);
        if (isDevice && state == "in store")
            state = "on its device";
        return new(
            c.Name,
            host,
            c.Profile,
            Shapes.Strings(c.NamesJson),
            c.Key,
            severity,
            state,
            e?.Serial,
            e?.NotBefore,
            e?.NotAfter,
            planned,
            phase,
            editions.Count,
            bound,
            c.LastError,
            c.Failures,
            c.RetryAt,
            new(c.RenewAfter, c.NewKey, c.Automatic),
            c.Version
        )
        {
            Owner = c.Owner,
            Outside = c.Outside,
            Rollover = rollover,
        };
    }

    private const string WaitsForDns = "waiting for DNS";

    private static Severity WaitingFor(RolloverInfo rollover) =>
        rollover.IsByHand || rollover.Problem is not null ? Severity.Soon : Severity.Fine;

    private static async Task<Dictionary<int, RolloverInfo>> RolloversAsync(BeaconDb db, List<int> ids, CancellationToken ct)
    {
        var rows = await db
            .Rollovers.AsNoTracking()
            .Where(r => ids.Contains(r.CertificateId) && r.Step != RolloverStep.Done)
            .OrderBy(r => r.Id)
            .ToListAsync(ct);
        // The newest counts: one before it may still be tidying up.
        return rows.GroupBy(r => r.CertificateId).ToDictionary(g => g.Key, g => g.Last().Info);
    }

    private static (Severity, string) StateOf(Certificate c, EditionRow? edition, LifePhase? phase, Belongings has, DateTimeOffset now)
    {
        var (_, bound, working, rollover) = has;
        if (c.Failures > 0 && !working)
            return (Severity.Failed, c.IsStuck ? "stuck" : "renewal failed");
        if (working)
            return (Severity.Fine, edition?.State == EditionState.Current ? "renewing" : "being made");
        if (edition is null && rollover is { Step: RolloverStep.Adding or RolloverStep.Waiting })
            return (WaitingFor(rollover), WaitsForDns);
        if (edition is null)
            return (Severity.Soon, c.Outside is null ? "not issued yet" : "waiting outside");
        if (phase == LifePhase.Expired)
            return (Severity.Now, "expired");
        if (edition.Revoked is { } why)
            return (Severity.Now, why == RevocationReason.CertificateHold ? "on hold" : "revoked");
        if (bound.Any(b => b.State == BindingState.Broken))
            return (Severity.Failed, "broken");
        if (rollover is { Step: RolloverStep.Adding or RolloverStep.Waiting })
            return (WaitingFor(rollover), WaitsForDns);
        if (bound.Any(b => b.State == BindingState.Behind))
            return (Severity.Failed, "behind");
        // Its next edition has to be carried by somebody: being due is not enough.
        if (c.Outside is not null && IsSoon(edition, now))
            return (Severity.Soon, "expires soon");
        if (phase == LifePhase.Due && c.Automatic)
            return (Severity.Fine, "due");
        if (c.Owner == "system")
            return (Severity.Fine, "serving");
        if (!c.Automatic && IsSoon(edition, now))
            return (Severity.Soon, "expires soon");
        if (bound.Count > 0)
            return (Severity.Fine, "serving");
        return (Severity.Fine, c.HostId is null ? "handed out" : "in store");
    }

    public async Task<CertificateDetail> OneAsync(string name, CancellationToken ct)
    {
        var row = await FindAsync(name, ct);
        var info = (await InfosAsync([row.Id], ct)).Single();
        var editions = await db
            .Editions.AsNoTracking()
            .Where(e => e.CertificateId == row.Id)
            .OrderByDescending(e => e.Id)
            .Take(200)
            .ToListAsync(ct);
        var shown = editions.FirstOrDefault(e => e.State == EditionState.Current) ?? editions.FirstOrDefault();
        var x = shown is null ? null : X509.Read(shown.Der);
        var looks = new List<LookInfo>();
        foreach (
            var json in await db
                .Bindings.Where(b => b.CertificateId == row.Id)
                .Join(db.Services, b => b.ServiceId, s => s.Id, (_, s) => s.LooksJson)
                .ToListAsync(ct)
        )
            looks.AddRange(Shapes.Looks(json));
        var orders = await OrderDesk.InfosAsync(
            db,
            db.Orders.Where(o => o.CertificateId == row.Id).OrderByDescending(o => o.Id).Take(20),
            ct
        );
        return new(
            info,
            [
                .. editions.Select(e => new EditionInfo(
                    e.Serial,
                    e.Thumbprint,
                    e.State,
                    e.IssuedAt,
                    e.NotBefore,
                    e.NotAfter,
                    e.KeyFingerprint,
                    e.ProfileRevision,
                    e.RequestId,
                    e.RevokedAt,
                    e.RevocationReason is { } r ? BeaconProblem.SlugOf((RevocationReason)r) : null,
                    X509.Read(e.Der).Issuer.ToString()
                )),
            ],
            x is null ? null : Shapes.Text(x),
            x is null ? [] : StepsOf(x),
            looks,
            orders
        );
    }

    private static bool IsSoon(EditionRow e, DateTimeOffset now) => e.NotAfter - now < JudgeCertificate.SoonBefore(e.NotBefore, e.NotAfter);

    private IReadOnlyList<string> StepsOf(X509 x)
    {
        IReadOnlyList<X509> sent = [.. registry.All, .. outside.Intermediates];
        return PathJudge.Judge(new(x, sent, [], [.. registry.Anchors, .. outside.Anchors], clock.GetUtcNow()) { Purpose = null }).Steps;
    }

    /// <summary>By name, or by the serial or thumbprint of one of its editions.</summary>
    public async Task<Certificate> FindAsync(string name, CancellationToken ct)
    {
        var row = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == name, ct);
        if (row is null && SerialNumber.TryParse(name, out var serial))
        {
            var thumbprint = name.Replace(":", "").ToLowerInvariant();
            var id = await db
                .Editions.AsNoTracking()
                .Where(e => e.Serial == serial.Hex || e.Thumbprint == thumbprint)
                .Select(e => (int?)e.CertificateId)
                .FirstOrDefaultAsync(ct);
            if (id is { } i)
                row = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == i, ct);
        }
        return row ?? throw await NotThere.CertificateAsync(db, name, ct);
    }
}
