using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>
/// Opens, worsens and closes concerns. <see cref="BeaconDb"/> calls it before each commit with what the transaction touched, so that no change can forget it; the regular
/// round calls it for what only time has changed.
/// </summary>
public sealed class ConcernKeeper(BeaconOptions options, TimeProvider clock)
{
    private const int AtOnce = 400;

    /// <summary>Judges what was touched, inside the open transaction.</summary>
    public async Task JudgeAsync(BeaconDb db, Touched touched, CancellationToken ct)
    {
        await touched.WriteNamesAsync(db, ct);
        await touched.SpreadAsync(db, ct);
        foreach (var ids in touched.Certificates.Chunk(AtOnce))
            await CertificatesAsync(db, ids, ct);
        foreach (var ids in touched.Services.Chunk(AtOnce))
            await ServicesAsync(db, ids, ct);
        foreach (var ids in touched.Hosts.Chunk(AtOnce))
            await HostsAsync(db, ids, ct);
        foreach (var ids in touched.Requests.Chunk(AtOnce))
            await RequestsAsync(db, ids, ct);
    }

    private async Task CertificatesAsync(BeaconDb db, int[] ids, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        // An agent's own certificate is told with its host.
        var rows = await db.Certificates.Where(c => ids.Contains(c.Id) && c.Profile != "agent").ToDictionaryAsync(c => c.Name, ct);
        var claims = await ForeignClaims.FindAsync(db, ids, ct);
        var found = new List<Found>();
        foreach (var info in await CertificateQueries.InfosAsync(db, [.. rows.Values.Select(c => c.Id)], now, ct))
        {
            var row = rows[info.Name];
            row.JudgeNextAt(JudgeCertificate.NextAt(info, now));
            // One concern at most: its own come before what others say of it.
            if (JudgeCertificate.Run(row.Id, info) is { } concern)
            {
                if (!await Replaced.IsAsync(db, row.Id, info, ct))
                    found.Add(concern);
            }
            else if (claims.GetValueOrDefault(row.Id) is { } claim)
                found.Add(claim);
        }
        await ReconcileAsync(db, ConcernSubject.Certificate, [.. ids.Select(i => (long)i)], found, now, ct);
    }

    private async Task ServicesAsync(BeaconDb db, int[] ids, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        var found = new List<Found>();
        var rows = await db.Services.Where(s => ids.Contains(s.Id)).ToDictionaryAsync(s => s.Id, ct);
        foreach (var row in rows.Values)
            row.JudgeNextAt(null);
        foreach (var (id, info) in await ServiceQueries.InfosAsync(db, ids, options.SoonDays, now, ct))
        {
            var row = rows[id];
            row.JudgeNextAt(JudgeService.NextAt(info, row.ServedUntil, options.SoonDays, now));
            if (JudgeService.Run(id, info) is { } concern)
                found.Add(concern);
        }
        await ReconcileAsync(db, ConcernSubject.Service, [.. ids.Select(i => (long)i)], found, now, ct);
    }

    private async Task HostsAsync(BeaconDb db, int[] ids, CancellationToken ct)
    {
        var found = new List<Found>();
        var joined = await db.Hosts.AsNoTracking().Where(h => ids.Contains(h.Id) && h.State == HostState.Joined).ToListAsync(ct);
        foreach (var h in joined)
            if (Shapes.Problem(h.ProblemJson) is { } p)
                found.Add(
                    new(
                        ConcernSubject.Host,
                        h.Id,
                        ConcernKind.HostProblem,
                        ShortName.Of(h.Name),
                        Severity.Now,
                        p.Message,
                        "Nothing on it can be changed or renewed.",
                        p.Cure
                    )
                    {
                        Command = ShellCommand.Of($"beacon host show {ShortName.Of(h.Name)}"),
                        Link = $"/hosts/{h.Name}",
                    }
                );
        // Who is away is seen by the watch alone; of what is not joined any more nothing is told.
        var there = joined.Select(h => (long)h.Id).ToHashSet();
        await ReconcileAsync(
            db,
            ConcernSubject.Host,
            [.. ids.Select(i => (long)i)],
            found,
            clock.GetUtcNow(),
            ct,
            c => c.Kind == ConcernKind.HostAway && there.Contains(c.SubjectId)
        );
    }

    private async Task RequestsAsync(BeaconDb db, long[] ids, CancellationToken ct)
    {
        var waiting = await db
            .Requests.AsNoTracking()
            .Where(r =>
                ids.Contains(r.Id)
                && (r.State == RequestState.WaitingForApproval || (r.State == RequestState.WaitingOutside && r.Outside != null))
            )
            .ToListAsync(ct);
        var found = waiting.Select(r => r.Outside is not null && r.State == RequestState.WaitingOutside ? Outside(r) : Waiting(r));
        await ReconcileAsync(db, ConcernSubject.Request, ids, [.. found], clock.GetUtcNow(), ct);
    }

    private static Found Outside(Request r) =>
        new(
            ConcernSubject.Request,
            r.Id,
            ConcernKind.WaitingOutside,
            $"request {r.Id}",
            Severity.Soon,
            r.HeldJson is null
                ? $"{r.CertificateName} waits for the answer of {r.Outside}."
                : $"{r.Outside} answered for {r.CertificateName}, and not what was asked.",
            "Nothing goes on until its answer is brought.",
            r.HeldJson is null
                ? "Carry its CSR there, and bring the answer."
                : "Accept the answer as it is, or have it issued again as it was asked."
        )
        {
            Command = r.HeldJson is null ? ShellCommand.Of($"beacon request csr {r.Id}") : ShellCommand.Of($"beacon request show {r.Id}"),
            Link = $"/requests/{r.Id}",
        };

    private static Found Waiting(Request r) =>
        new(
            ConcernSubject.Request,
            r.Id,
            ConcernKind.WaitingForApproval,
            $"request {r.Id}",
            Severity.Soon,
            $"{r.Requester} asks for {r.CertificateName}; it needs approval.",
            $"{r.Requester} waits.",
            "Approve or refuse it."
        )
        {
            Command = ShellCommand.Of($"beacon request show {r.Id}"),
            Link = $"/requests/{r.Id}",
        };

    /// <summary>Makes the rows of these subjects say what was found, and nothing else.</summary>
    /// <param name="kept">Rows that somebody else keeps.</param>
    public static async Task ReconcileAsync(
        BeaconDb db,
        ConcernSubject of,
        long[] ids,
        IReadOnlyCollection<Found> found,
        DateTimeOffset now,
        CancellationToken ct,
        Func<OpenConcern, bool>? kept = null
    )
    {
        var rows = await db.Concerns.Where(c => c.Of == of && ids.Contains(c.SubjectId)).ToListAsync(ct);
        var known = rows.Where(r => kept?.Invoke(r) != true).ToLookup(r => r.SubjectId);
        foreach (var f in found)
            if (known[f.SubjectId].FirstOrDefault(r => r.IsOf(f)) is { } row)
                row.Is(f);
            else
                db.Concerns.Add(OpenConcern.Open(f, now));
        var still = found.ToLookup(f => f.SubjectId);
        db.Concerns.RemoveRange(known.SelectMany(g => g).Where(r => !still[r.SubjectId].Any(r.IsOf)));
    }
}
