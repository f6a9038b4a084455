using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Records;

/// <summary>
/// Takes each open rollover a step further when its time has come: the next key's records, the wait, the edition, and the end of the old records. What is met in DNS is looked at
/// anew each time, so a step that was cut off is done again, and what a person does by hand is seen.
/// </summary>
public sealed class RollKeys(
    BeaconDb db,
    TlsaLookup tlsa,
    FinishPrepared finish,
    AuthorityRegistry registry,
    RolloverBook book,
    Changes changes,
    TimeProvider clock
)
{
    private static readonly TimeSpan Soon = TimeSpan.FromSeconds(2),
        Later = TimeSpan.FromSeconds(15),
        // For a name server that does not answer, of a certificate that is not served yet, and of one that is.
        FirstPatience = TimeSpan.FromMinutes(5),
        MostPatience = TimeSpan.FromDays(1);
    private const int AtOnce = 20,
        MostEditions = 8,
        MostTold = 10;

    public async Task RunAsync(CancellationToken ct)
    {
        foreach (var id in book.Due(AtOnce))
        {
            // Whatever goes wrong with it, the others have their turn.
            book.At(id, clock.GetUtcNow() + Later);
            var rollover = await db.Rollovers.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, ct);
            if (rollover is null or { Step: RolloverStep.Done })
                book.Ended(id);
            else
                await OneAsync(rollover, ct);
            db.ChangeTracker.Clear();
        }
    }

    private async Task OneAsync(KeyRollover r, CancellationToken ct)
    {
        if (r.Step is RolloverStep.Adding or RolloverStep.Waiting && await IsOverAsync(r, ct))
            await DropAsync(r, "its request was ended", ct);
        else if (r.Step == RolloverStep.Adding || (r.Step == RolloverStep.Waiting && r.Until <= clock.GetUtcNow()))
            await AddAsync(r, ct);
        else if (r.Step == RolloverStep.Waiting)
            // Somebody may withdraw it meanwhile.
            book.At(r.Id, Earlier(r.Until!.Value, clock.GetUtcNow() + Later));
        else if (r.Step == RolloverStep.Swapping)
            await SeeServedAsync(r, ct);
        else
            await RemoveAsync(r, ct);
    }

    private static DateTimeOffset Earlier(DateTimeOffset a, DateTimeOffset b) => a < b ? a : b;

    private Task<bool> IsOverAsync(KeyRollover r, CancellationToken ct) =>
        db.Requests.AnyAsync(q => q.Id == r.RequestId && q.State != RequestState.WaitingForHost && q.State != RequestState.Issued, ct);

    /// <summary>What DNS has and what has to become of it.</summary>
    private sealed record Met(IReadOnlyList<TlsaStep> Steps, int Life, IReadOnlyList<string> Foreign, string? Problem)
    {
        public IEnumerable<RecordChange> ToAdd =>
            Steps.Where(s => s.Add is not null).Select(s => new RecordChange(s.Found.Owner, s.Add!, s.Found.Life, true));

        public IEnumerable<RecordChange> ToRemove =>
            Steps.SelectMany(s => s.Remove.Select(x => new RecordChange(s.Found.Owner, x, s.Found.Life, false)));
    }

    private async Task<Met> MeetAsync(KeyRollover r, CancellationToken ct)
    {
        var plan = await PlanAsync(r, ct);
        var facts = await tlsa.NowAsync(r.Owners, ct);
        List<TlsaStep> steps = [.. facts.Select(f => f.Set).OfType<TlsaSet>().DistinctBy(s => s.Owner).Select(plan.For)];
        var unknown = facts.FirstOrDefault(f => f.Set is null);
        var problem =
            unknown is not null && await MustKnowAsync(r, ct) ? $"DNS does not say it of {unknown.Asked}: {unknown.Problem}." : null;
        var life = steps.Where(s => s.Found.Records.Any(x => x.IsOfKey(r.NextKey))).Select(s => s.Found.Life).DefaultIfEmpty(0).Max();
        var foreign = steps.SelectMany(s => s.Foreign.Select(f => (s.Found.Owner, Record: f))).ToList();
        var known = await KnownElsewhereAsync([.. foreign.Select(f => f.Record.Data)], ct);
        return new(
            steps,
            life,
            [.. foreign.Where(f => !known.Contains(f.Record.Data)).Select(f => $"{f.Owner}. IN TLSA {f.Record}")],
            problem
        );
    }

    /// <summary>
    /// Whether it waits until DNS answers. Where there were records, always. Where nobody knows of any, for a while: a name server that is away is no reason to let a certificate
    /// expire.
    /// </summary>
    private async Task<bool> MustKnowAsync(KeyRollover r, CancellationToken ct)
    {
        if (r.LongestLife > 0 || await db.Rollovers.AnyAsync(x => x.CertificateId == r.CertificateId && x.LongestLife > 0, ct))
            return true;
        var end = await db
            .Editions.Where(e => e.CertificateId == r.CertificateId && e.State == EditionState.Current)
            .Select(e => (DateTimeOffset?)e.NotAfter)
            .FirstOrDefaultAsync(ct);
        var patience = end is { } until ? (until - r.At) / 4 : FirstPatience;
        return clock.GetUtcNow() < r.At + (patience < MostPatience ? patience : MostPatience);
    }

    private async Task<TlsaPlan> PlanAsync(KeyRollover r, CancellationToken ct)
    {
        var editions = await db
            .Editions.AsNoTracking()
            .Where(e => e.CertificateId == r.CertificateId)
            .OrderByDescending(e => e.Id)
            .Take(MostEditions)
            .ToListAsync(ct);
        var isComing =
            r.Step is RolloverStep.Adding or RolloverStep.Waiting || editions.Any(e => IsUsed(e) && e.KeyFingerprint == r.NextKey);
        return new(
            isComing ? r.NextKey : "",
            [.. editions.Where(IsUsed).Select(e => X509.Read(e.Der))],
            [.. editions.Where(e => !IsUsed(e)).Select(e => X509.Read(e.Der))],
            isComing ? [] : [r.NextKey],
            [.. registry.All]
        );
    }

    private static bool IsUsed(Edition e) => e.State != EditionState.Previous;

    /// <summary>Of digests, those that are keys of other certificates of ours: two servers may share a name.</summary>
    private async Task<HashSet<string>> KnownElsewhereAsync(List<string> digests, CancellationToken ct)
    {
        if (digests.Count == 0)
            return [];
        var keys = await db
            .Editions.Where(e => digests.Contains(e.KeyFingerprint) && e.State != EditionState.Previous)
            .Select(e => e.KeyFingerprint)
            .ToListAsync(ct);
        keys.AddRange(
            await db.Rollovers.Where(x => x.Step != RolloverStep.Done && digests.Contains(x.NextKey)).Select(x => x.NextKey).ToListAsync(ct)
        );
        return [.. keys];
    }

    private async Task AddAsync(KeyRollover r, CancellationToken ct)
    {
        var met = await MeetAsync(r, ct);
        var (problem, added) = (met.Problem, met.ToAdd.Where(c => MayWrite(r, c)).ToList());
        if (added.Count > 0)
            (met, problem) = await ChangeAsync(r, met, added, JournalAction.RolloverAdded, ct);
        var missing = r.IsSkipped ? [] : met.ToAdd.ToList();
        if (missing.Find(c => !r.Owners.Contains(c.Owner)) is { } led)
            problem ??=
                $"Its records are aliases of {led.Owner}, which may be somebody else's: ask whose they are before anything is added there.";
        if (!r.IsSkipped && (missing.Count > 0 || problem is not null))
        {
            await KeepAsync(r, met, missing, problem, row => row.AddAgain(), ct);
            book.At(r.Id, clock.GetUtcNow() + (problem is null && missing.All(c => MayWrite(r, c)) ? Soon : Later));
        }
        // What was waited for has passed, and everything is still there.
        else if (r.Step == RolloverStep.Waiting || met.Life == 0)
            await FinishAsync(r, met, ct);
        else
        {
            var until = clock.GetUtcNow().AddSeconds(Math.Max(met.Life, r.LongestLife));
            await KeepAsync(r, met, [], null, row => row.Wait(until), ct);
            await NoteAsync(
                r,
                JournalAction.RolloverWaits,
                $"its records are in DNS; the set before may be kept elsewhere until {until:HH:mm:ss} UTC",
                ct
            );
            book.At(r.Id, Earlier(until, clock.GetUtcNow() + Later));
        }
    }

    private async Task FinishAsync(KeyRollover r, Met met, CancellationToken ct)
    {
        try
        {
            await finish.RunAsync(r, ct);
            book.At(r.Id, clock.GetUtcNow() + Soon);
        }
        catch (BeaconProblem p)
        {
            db.ChangeTracker.Clear();
            if (p.Code is ProblemCode.RequestRefused or ProblemCode.HostGone || await IsOverAsync(r, ct))
                await DropAsync(r, $"{p.Message} {p.Cure}", ct);
            else
                await KeepAsync(r, met, [], $"{p.Message} {p.Cure}", _ => { }, ct);
        }
    }

    /// <summary>The key will not be used: its own records go again.</summary>
    private async Task DropAsync(KeyRollover r, string why, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        (await db.Rollovers.SingleAsync(x => x.Id == r.Id, ct)).Remove(isDropped: true);
        var certificate = await db.Certificates.SingleAsync(c => c.Id == r.CertificateId, ct);
        // What is in use goes on; the next try comes by itself.
        if (
            certificate is { NextActionAt: null, Automatic: true }
            && await db.Editions.FirstOrDefaultAsync(e => e.CertificateId == r.CertificateId && e.State == EditionState.Current, ct)
                is { } e
        )
            certificate.Failed(why, RenewalPolicy.RetryAt(clock.GetUtcNow(), e.NotBefore, e.NotAfter, certificate.Failures + 1));
        await db.Note(clock.GetUtcNow(), Actor.System, JournalAction.RolloverDropped, certificate.Name, why);
        await write.CommitAsync(ct);
        book.At(r.Id, clock.GetUtcNow());
        changes.Tell("certificate", certificate.Name);
    }

    private async Task SeeServedAsync(KeyRollover r, CancellationToken ct)
    {
        book.At(r.Id, clock.GetUtcNow() + Soon);
        var edition = await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == r.RequestId, ct);
        if (edition is null or { State: EditionState.Next })
            return;
        var isBehind = await db.Bindings.AnyAsync(b => b.CertificateId == r.CertificateId && b.SeenSerial != edition.Serial, ct);
        if (edition.State == EditionState.Current && isBehind)
            return;
        await using var write = await db.BeginWriteAsync(ct);
        (await db.Rollovers.SingleAsync(x => x.Id == r.Id, ct)).Remove(isDropped: false);
        await write.CommitAsync(ct);
        book.At(r.Id, clock.GetUtcNow());
    }

    private async Task RemoveAsync(KeyRollover r, CancellationToken ct)
    {
        var met = await MeetAsync(r, ct);
        // Who did not wait for DNS has a key there that is not told yet: that comes first.
        var (problem, removed) = (met.Problem, met.ToAdd.Concat(met.ToRemove).Where(c => MayWrite(r, c)).ToList());
        if (removed.Count > 0)
            (met, problem) = await ChangeAsync(r, met, removed, JournalAction.RolloverRemoved, ct);
        var left = met.ToAdd.Concat(met.ToRemove).ToList();
        if (left.Count > 0 || problem is not null)
        {
            await KeepAsync(r, met, left, problem, _ => { }, ct);
            return;
        }
        await KeepAsync(r, met, [], null, row => row.End(), ct);
        await NoteAsync(r, JournalAction.RolloverEnded, r.IsDropped ? "its key is not used" : "DNS speaks of the new key alone", ct);
        book.Ended(r.Id);
    }

    /// <summary>
    /// Under the certificate's own names alone. An alias may lead to somebody else's records: whoever has made it would have their key believed there, so a person adds it.
    /// </summary>
    private bool MayWrite(KeyRollover r, RecordChange change) => r.Owners.Contains(change.Owner) && tlsa.MayWrite(change.Owner);

    /// <summary>Has the zone changed, and looks whether it is.</summary>
    /// <returns>What is met then, and what went wrong; null when nothing did.</returns>
    private async Task<(Met Met, string? Problem)> ChangeAsync(
        KeyRollover r,
        Met met,
        List<RecordChange> wanted,
        JournalAction action,
        CancellationToken ct
    )
    {
        try
        {
            await tlsa.ChangeAsync(wanted, ct);
        }
        catch (BeaconProblem p)
        {
            return (met, $"{p.Message} {p.Cure}");
        }
        var after = await MeetAsync(r, ct);
        // What a server takes without a word is not always done: an alias in the same place is enough.
        if (after.Problem is null && after.ToAdd.Concat(after.ToRemove).Intersect(wanted).FirstOrDefault() is { } ignored)
            return (after, $"The name server took the change of {ignored.Owner} and does not show it. Look at what else is there.");
        await NoteAsync(r, action, Lines(wanted), ct);
        return (after, after.Problem);
    }

    /// <summary>Writes what was met, if it is something else than before.</summary>
    private async Task KeepAsync(
        KeyRollover r,
        Met met,
        IReadOnlyList<RecordChange> left,
        string? problem,
        Action<KeyRollover> also,
        CancellationToken ct
    )
    {
        List<RecordToDo> toDo = [.. left.Select(c => new RecordToDo(c.Owner, c.Life, c.Record.ToString(), c.IsAdded, !MayWrite(r, c)))];
        await using var write = await db.BeginWriteAsync(ct);
        var row = await db.Rollovers.SingleAsync(x => x.Id == r.Id, ct);
        row.Met(met.Steps.Select(s => s.Found.Life).DefaultIfEmpty(0).Max(), toDo, met.Foreign, problem);
        also(row);
        if (db.Entry(row).State == EntityState.Unchanged)
            return;
        var name = await db.Certificates.Where(c => c.Id == r.CertificateId).Select(c => c.Name).SingleAsync(ct);
        await write.CommitAsync(ct);
        changes.Tell("certificate", name);
    }

    private static string Lines(IEnumerable<RecordChange> changes) =>
        string.Join("; ", changes.Take(MostTold).Select(c => $"{c.Owner} TLSA {c.Record}"));

    private async Task NoteAsync(KeyRollover r, JournalAction action, string detail, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var name = await db.Certificates.Where(c => c.Id == r.CertificateId).Select(c => c.Name).SingleAsync(ct);
        await db.Note(clock.GetUtcNow(), Actor.System, action, name, detail);
        await write.CommitAsync(ct);
        changes.Tell("certificate", name);
    }
}
