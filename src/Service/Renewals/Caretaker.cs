using System.Runtime.InteropServices;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>The regular round: orders what is due, issues CRLs in time, renews the service's own certificate, forgets what is old.</summary>
internal sealed partial class Caretaker(
    IServiceScopeFactory scopes,
    Wake wake,
    WatchConcerns watch,
    RefusedSignIns refused,
    TimeProvider clock,
    ILogger<Caretaker> log
) : BackgroundService
{
    private static readonly TimeSpan Round = TimeSpan.FromSeconds(2);

    /// <summary>What could not be done in one round is tried again after this.</summary>
    private static readonly TimeSpan Soon = TimeSpan.FromSeconds(10);

    /// <summary>Bytes that an idle service may allocate before they are worth a collection.</summary>
    private const long WorthCollecting = 6 << 20;
    private DateTimeOffset _nextHousekeeping;
    private long _allocated;
    private readonly Guarded _guarded = new(scopes, log);
    private int _rounds,
        _collections;

    protected override async Task ExecuteAsync(CancellationToken stopping)
    {
        using var timer = new PeriodicTimer(Round, clock);
        try
        {
            await _guarded.RunAsync("concerns", (s, ct) => watch.BeginAsync(s.GetRequiredService<BeaconDb>(), ct), stopping);
            while (await timer.WaitForNextTickAsync(stopping))
            {
                GiveMemoryBack();
                await RoundAsync(stopping);
            }
        }
        catch (OperationCanceledException) { }
        await _guarded.RunAsync("hosts' last signs", (s, _) => SeenAsync(s, all: true, CancellationToken.None), CancellationToken.None);
    }

    /// <summary>One round: all that is due now, in its order.</summary>
    internal async Task RoundAsync(CancellationToken ct)
    {
        if (watch.IsAwayToTell)
            await _guarded.RunAsync("silent hosts", (s, ct) => watch.AwayAsync(s.GetRequiredService<BeaconDb>(), ct), ct);
        if (refused.Any)
            wake.Within(Soon);
        if (!wake.IsTime())
            return;
        await _guarded.RunAsync("renewals", RenewDueAsync, ct);
        await _guarded.RunAsync(
            "CRL",
            (s, ct) => s.GetRequiredService<PublishCrl>().RunAsync(Actor.System, "due", CrlOccasion.Due, ct),
            ct
        );
        await _guarded.RunAsync("own certificate", (s, ct) => s.GetRequiredService<ServiceCertificate>().RenewIfDueAsync(ct), ct);
        await _guarded.RunAsync("approved requests", FinishAsync, ct);
        await _guarded.RunAsync("OCSP responder", (s, ct) => s.GetRequiredService<ResponderCertificates>().RenewIfDueAsync(ct), ct);
        await _guarded.RunAsync("refused sign-ins", (s, ct) => refused.WriteAsync(s.GetRequiredService<BeaconDb>(), ct), ct);
        await _guarded.RunAsync("what is due", DueAsync, ct);
        await _guarded.RunAsync(
            "the house's concerns",
            (s, ct) => watch.HouseAsync(s.GetRequiredService<BeaconDb>(), s.GetRequiredService<HouseConcerns>(), ct),
            ct
        );
        if (clock.GetUtcNow() >= _nextHousekeeping)
        {
            await _guarded.RunAsync("housekeeping", TidyAsync, ct);
            await _guarded.RunAsync("hosts' last signs", (s, ct) => SeenAsync(s, all: false, ct), ct);
            _nextHousekeeping = clock.GetUtcNow() + TimeSpan.FromHours(1);
        }
    }

    private async Task DueAsync(IServiceProvider services, CancellationToken ct)
    {
        var db = services.GetRequiredService<BeaconDb>();
        wake.At(await watch.DueAsync(db, ct));
        wake.At(await db.Certificates.MinAsync(c => c.NextActionAt, ct));
        wake.At(services.GetRequiredService<CrlShelf>().NextDueAfter(clock.GetUtcNow()));
    }

    private async Task FinishAsync(IServiceProvider services, CancellationToken ct)
    {
        if (await services.GetRequiredService<DecideRequest>().FinishOpenAsync(ct))
            wake.Within(Soon);
    }

    private static Task SeenAsync(IServiceProvider services, bool all, CancellationToken ct) =>
        services.GetRequiredService<Hosts.Presence>().WriteAsync(services.GetRequiredService<BeaconDb>(), all, ct);

    /// <summary>What the start and the first calls needed is given back, and every minute what was left since if it is worth it, unless there is so much to do that the collector runs by itself: an idle service is a small one.</summary>
    private void GiveMemoryBack()
    {
        _rounds++;
        if (_rounds is not (3 or 12) && _rounds % 30 != 0)
            return;
        var (collections, allocated) = (GC.CollectionCount(0), GC.GetTotalAllocatedBytes());
        var isBusy = collections - _collections >= 2;
        _collections = collections;
        if (_rounds >= 30 && (isBusy || allocated - _allocated < WorthCollecting))
            return;
        GC.Collect(2, GCCollectionMode.Aggressive, blocking: true, compacting: true);
        // What the runtime and OpenSSL freed lies with the C library until then.
        _ = malloc_trim(0);
        _allocated = allocated;
    }

    /// <summary>malloc_trim(3) of glibc.</summary>
    [LibraryImport("libc")]
    private static partial int malloc_trim(nuint pad);

    private async Task RenewDueAsync(IServiceProvider services, CancellationToken ct)
    {
        var db = services.GetRequiredService<BeaconDb>();
        var now = clock.GetUtcNow();
        var due = await db
            .Certificates.AsNoTracking()
            .Where(c => c.NextActionAt != null && c.NextActionAt <= now && c.HostId != null && c.Profile != "agent")
            .OrderBy(c => c.NextActionAt)
            .Select(c => c.Id)
            .Take(50)
            .ToListAsync(ct);
        foreach (var id in due)
        {
            await using var scope = scopes.CreateAsyncScope();
            try
            {
                await scope.ServiceProvider.GetRequiredService<OrderRenewal>().RunAsync(id, null, ct);
            }
            catch (BeaconProblem p)
            {
                await NoteFailureAsync(id, p, ct);
            }
        }
    }

    private async Task NoteFailureAsync(int id, BeaconProblem problem, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        await using var write = await db.BeginWriteAsync(ct);
        var certificate = await db.Certificates.SingleAsync(c => c.Id == id, ct);
        var current = await db
            .Editions.AsNoTracking()
            .Where(e => e.CertificateId == id && e.State == EditionState.Current)
            .FirstOrDefaultAsync(ct);
        var now = clock.GetUtcNow();
        var first = certificate.LastError != $"{problem.Message} {problem.Cure}";
        certificate.Failed(
            $"{problem.Message} {problem.Cure}",
            RenewalPolicy.RetryAt(now, current?.NotBefore ?? now, current?.NotAfter ?? now.AddDays(90), certificate.Failures + 1)
        );
        if (first)
            await db.Note(now, Actor.Renewal, JournalAction.CertificateFailed, certificate.Name, problem.Message);
        await write.CommitAsync(ct);
    }

    /// <summary>Orders that change nothing: nobody asks for them after a day.</summary>
    private static readonly OrderKind[] Passing = [OrderKind.Plan, OrderKind.Preview, OrderKind.Look, OrderKind.Sweep, OrderKind.TellTrust];

    private static async Task TidySweepsAsync(BeaconDb db, DateTimeOffset now, CancellationToken ct)
    {
        var old = now.AddDays(-90);
        // By number: the findings of all others are not read for it.
        var gone = await db.Sweeps.Where(s => s.EndedAt < old).Select(s => s.Id).ToListAsync(ct);
        foreach (var number in gone)
        {
            await db.SweepFindings.Where(f => f.SweepId == number).ExecuteDeleteAsync(ct);
            await db.Sweeps.Where(s => s.Id == number).ExecuteDeleteAsync(ct);
        }
        var left = new ProblemInfo("host-away", "Its host was removed meanwhile.", "Start it again from another host.");
        foreach (
            var s in await db
                .Sweeps.Where(s => s.State == SweepState.Running && !db.Hosts.Any(h => h.Id == s.HostId && h.State == HostState.Joined))
                .ToListAsync(ct)
        )
            s.Fail(JsonSerializer.Serialize(left, BeaconJson.Default.ProblemInfo), now);
        await db.SaveChangesAsync(ct);
    }

    private async Task TidyAsync(IServiceProvider services, CancellationToken ct)
    {
        var db = services.GetRequiredService<BeaconDb>();
        var now = clock.GetUtcNow();
        await using var write = await db.BeginWriteAsync(ct);
        var dayAgo = now.AddDays(-1);
        await db.AnsweredPosts.Where(a => a.At < dayAgo).ExecuteDeleteAsync(ct);
        await db.Sessions.Where(s => s.Until < now).ExecuteDeleteAsync(ct);
        await db.Consents.Where(c => c.At < dayAgo).ExecuteDeleteAsync(ct);
        await db.Orders.Where(o => o.EndedAt < dayAgo && Passing.Contains(o.Kind)).ExecuteDeleteAsync(ct);
        await TidySweepsAsync(db, now, ct);
        await write.CommitAsync(ct);
    }

    /// <summary>At start: a CSR request that was cut off between its record and its edition is withdrawn, since nobody has the answer.</summary>
    public static async Task MendAsync(BeaconDb db, DateTimeOffset now, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        foreach (var r in await db.Requests.Where(r => r.State == RequestState.Draft).ToListAsync(ct))
        {
            r.Refuse("The service was stopped before it could answer; submit it again.", "system");
            await db.Note(
                now,
                Actor.System,
                JournalAction.RequestCutOff,
                $"request {r.Id}",
                "the service was stopped before it was answered"
            );
        }
        await write.CommitAsync(ct);
    }
}
