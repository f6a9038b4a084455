using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>
/// Orders a certificate's next edition: the same line as a first request, with the same names decided again. An edition that was issued before
/// but did not get into its services is tried again rather than issued twice.
/// </summary>
public sealed class OrderRenewal(
    BeaconDb db,
    DecideAgain again,
    CarryOutRequest carryOut,
    RolloverBook rollovers,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    /// <returns>The order's number.</returns>
    /// <param name="by">The person who asks for it; null for the regular round.</param>
    /// <exception cref="BeaconProblem">It cannot be renewed now; why is on record.</exception>
    public async Task<long> RunAsync(int certificateId, Caller? by, CancellationToken ct)
    {
        var actor = by?.Actor ?? Actor.Renewal;
        await LookUpAsync(certificateId, ct);
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        var certificate = await db.Certificates.SingleAsync(c => c.Id == certificateId, ct);
        if (by is not null)
            MayAct.ThrowUnless(Operation.RenewCertificate, by, MayAct.Of(certificate));
        if (certificate.HostId is not { } hostId)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{certificate.Name}\" was issued for a CSR; its key is not on a host of ours.",
                "Whoever has the key makes the next request."
            );
        if (certificate.IsBrought)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{certificate.Name}\" was brought from elsewhere; nothing here may issue it anew as it is.",
                $"Request it here under its name: beacon request new --as {certificate.Name}; the services bound to it move along."
            );
        var host = await db.Hosts.SingleAsync(h => h.Id == hostId, ct);
        host.ThrowIfGone();
        if (
            await db
                .Orders.Where(o => o.CertificateId == certificateId && (o.State == OrderState.Queued || o.State == OrderState.Taken))
                .Select(o => (long?)o.Id)
                .FirstOrDefaultAsync(ct) is
            { } open
        )
            return open;

        // What did not get into a device is made anew: the device keeps one request at a time.
        var renewed =
            host.Device is null && await RetryNextEditionAsync(certificate, hostId, now, ct) is { } retried
                ? new Renewed(retried, null)
                : await RequestAsync(certificate, host, actor, now, ct);
        await write.CommitAsync(ct);
        bell.Ring(host.AgentHostId);
        changes.Tell("certificate", certificate.Name);
        return renewed.Order ?? throw renewed.Problem!;
    }

    /// <summary>Directory and DNS are asked before the transaction; inside of it, what they said is at hand.</summary>
    private async Task LookUpAsync(int certificateId, CancellationToken ct)
    {
        var row = await db
            .Certificates.AsNoTracking()
            .Where(c => c.Id == certificateId)
            .Select(c => new { Certificate = c, Host = db.Hosts.AsNoTracking().FirstOrDefault(h => h.Id == c.HostId) })
            .SingleAsync(ct);
        await again.LookUpAsync(Shapes.Strings(row.Certificate.NamesJson), row.Host, ct);
        await carryOut.LookUpAsync(row.Certificate, ct);
    }

    private async Task<long?> RetryNextEditionAsync(Certificate certificate, int hostId, DateTimeOffset now, CancellationToken ct)
    {
        var next = await db
            .Editions.Where(e => e.CertificateId == certificate.Id && e.State == EditionState.Next && e.RevokedAt == null)
            .OrderByDescending(e => e.Id)
            .FirstOrDefaultAsync(ct);
        if (next is null || certificate.Policy.PlannedFor(next.NotBefore, next.NotAfter, next.Serial) <= now)
            return null;
        var bound = await carryOut.BoundServicesAsync(certificate.Id, ct);
        var order = WorkOrder.Of(
            now,
            hostId,
            new Order(
                0,
                OrderKind.Bind,
                certificate.Name,
                null,
                null,
                null,
                next.Serial,
                [.. bound.Select(b => b.Name)],
                bound.Select(b => b.Port).FirstOrDefault(p => p is not null),
                null,
                null,
                carryOut.Anchors()
            ),
            certificate.Id,
            null
        );
        db.Orders.Add(order);
        certificate.Waiting();
        await db.SaveChangesAsync(ct);
        await db.Note(now, Actor.Renewal, JournalAction.RenewalTriedAgain, certificate.Name, $"serial {next.Serial}, order {order.Id}");
        return order.Id;
    }

    /// <summary>
    /// The next request, decided with the facts of now. What needs approval is recorded and waits for it, while the edition in use goes on; what is refused is
    /// recorded too, so that its owner finds out why.
    /// </summary>
    private async Task<Renewed> RequestAsync(
        Certificate certificate,
        Hosts.Host host,
        Actor actor,
        DateTimeOffset now,
        CancellationToken ct
    )
    {
        if (await StillOpenAsync(certificate, ct) is { } open)
            return new(null, open);
        var request = new Request
        {
            At = now,
            Requester = certificate.Owner,
            Cause = "renewal",
            CertificateName = certificate.Name,
            HostId = host.Id,
            Profile = certificate.Profile,
            Subject = certificate.Subject,
            NamesJson = certificate.NamesJson,
            Key = certificate.Key,
            Life = certificate.Life,
            Outside = certificate.Outside,
        };
        var decided = await again.RunAsync(request, host, certificate, ct);
        request.Grant(DecideAgain.Json(decided));
        db.Requests.Add(request);
        await db.SaveChangesAsync(ct);
        if (decided.Overall == Core.Profiles.Verdict.Granted)
        {
            var order = await carryOut.RunAsync(request, now, ct);
            await db.Note(now, actor, JournalAction.RenewalOrdered, certificate.Name, $"request {request.Id}, order {order.Id}, new key");
            return new(order.Id, null);
        }
        var why = DecideAgain.Why(decided);
        if (decided.Overall == Core.Profiles.Verdict.NeedsApproval)
        {
            request.WaitForApproval(decided.PeopleNeeded);
            await db.Note(now, actor, JournalAction.RenewalWaits, certificate.Name, $"request {request.Id}: {why}");
            return new(null, NeedsApproval(certificate, request.Id, why));
        }
        request.Refuse(why, "rules");
        await db.Note(now, actor, JournalAction.RenewalRefused, certificate.Name, $"request {request.Id}: {why}");
        return new(
            null,
            new(
                ProblemCode.RequestRefused,
                $"\"{certificate.Name}\" cannot be renewed as it is: {why}",
                "Request it anew with names that its owner may have, or give it to another owner: beacon cert give."
            )
        );
    }

    /// <summary>The renewal before this one has not ended; null when it has.</summary>
    private async Task<BeaconProblem?> StillOpenAsync(Certificate certificate, CancellationToken ct)
    {
        if (await WaitingAsync(certificate, ct) is { } waiting)
            return NeedsApproval(certificate, waiting, $"request {waiting} is still waiting.");
        if (await RollingAsync(certificate, ct) is { } rollover)
        {
            // Whoever asks has perhaps just added what it waits for.
            rollovers.At(rollover, clock.GetUtcNow());
            return new(
                ProblemCode.WrongState,
                $"The next key of \"{certificate.Name}\" waits until DNS speaks of it; the edition follows by itself.",
                $"DNS is asked again now. See what it waits for: beacon cert show {certificate.Name}."
            );
        }
        return certificate.Outside is { } authority && await OutThereAsync(certificate, ct) is { } there
            ? new(
                ProblemCode.WrongState,
                $"Request {there} waits for the answer of {authority} already.",
                $"Carry its CSR there (beacon request csr {there}), and bring the answer: beacon request answer FILE."
            )
            : null;
    }

    private async Task<int?> RollingAsync(Certificate c, CancellationToken ct) =>
        await db
            .Rollovers.Where(r => r.CertificateId == c.Id && (r.Step == RolloverStep.Adding || r.Step == RolloverStep.Waiting))
            .Select(r => (int?)r.Id)
            .FirstOrDefaultAsync(ct);

    private async Task<long?> WaitingAsync(Certificate c, CancellationToken ct) =>
        await db
            .Requests.Where(r => r.CertificateName == c.Name && r.Cause == "renewal" && r.State == RequestState.WaitingForApproval)
            .Select(r => (long?)r.Id)
            .FirstOrDefaultAsync(ct);

    private async Task<long?> OutThereAsync(Certificate c, CancellationToken ct) =>
        await db
            .Requests.Where(r => r.CertificateName == c.Name && r.Outside != null && r.State == RequestState.WaitingOutside)
            .Select(r => (long?)r.Id)
            .FirstOrDefaultAsync(ct);

    private static BeaconProblem NeedsApproval(Certificate c, long request, string why) =>
        new(
            ProblemCode.RequestRefused,
            $"\"{c.Name}\" waits for an approval before it is renewed: {why}",
            $"Approve it: beacon request approve {request}."
        );

    /// <summary>What came of it: an order, or what stands in the way. Both are kept.</summary>
    private sealed record Renewed(long? Order, BeaconProblem? Problem);
}
