using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>Issues the edition for an order's CSR, after it was decided again with the facts of now. Asked again with the same key, it gives the same edition.</summary>
public sealed class AnswerCsr(
    BeaconDb db,
    IssueEdition issue,
    AuthorityRegistry registry,
    DecideAgain again,
    Changes changes,
    TimeProvider clock
)
{
    public async Task<OrderEdition> RunAsync(Hosts.Host host, long orderId, string csrText, CancellationToken ct)
    {
        var order =
            await db.Orders.AsNoTracking().FirstOrDefaultAsync(o => o.Id == orderId && o.HostId == host.Id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no order {orderId} for {host.Name}.", "Poll for work again.");
        if (!order.IsOpen || order.Kind != OrderKind.Obtain || order.RequestId is not { } requestId)
            throw new BeaconProblem(ProblemCode.WrongState, $"Order {orderId} asks for no certificate now.", "Poll for work again.");
        var csr = CertificationRequest.Read(System.Text.Encoding.UTF8.GetBytes(csrText)).ThrowIfUnusable();
        var fingerprint = csr.PublicKey.Fingerprint();
        if (await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == requestId, ct) is { } earlier)
            return earlier.KeyFingerprint == fingerprint
                ? Answer(earlier.Serial, earlier.Der)
                : throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"Request {requestId} was answered for another key already.",
                    "The order ends here; a new request is made with a new key."
                );
        var request = await db.Requests.AsNoTracking().SingleAsync(r => r.Id == requestId, ct);
        await CheckCsrAsync(db, csr, request, ct);
        // A device's order is done by the agent of another host; what is decided is the device's.
        var about = request.HostId == host.Id ? host : await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == request.HostId, ct);
        about.ThrowIfGone();
        var der = await IssueAsync(request, about, csr.PublicKey, Actor.Agent(host.Name), ct);
        return Answer(X509.Read(der).Serial.Hex, der);
    }

    /// <summary>Decides it again, and issues it.</summary>
    /// <returns>The edition, DER.</returns>
    internal async Task<byte[]> IssueAsync(Request request, Hosts.Host about, PublicKeyInfo key, Actor actor, CancellationToken ct)
    {
        var granted = await GrantAsync(request, about, ct);
        var recorded = await issue.RunAsync(
            granted,
            key,
            new(request.CertificateName, EditionState.Next, actor, $"request {request.Id}")
            {
                CertificateId = request.CertificateId ?? 0,
                RequestId = request.Id,
                Life = ProfileWords.ParseLife(request.Life),
            },
            ct
        );
        changes.Tell("certificate", request.CertificateName);
        return recorded.Der;
    }

    /// <summary>Whether a CSR asks for what was granted, with a key of its own.</summary>
    internal static async Task CheckCsrAsync(BeaconDb db, CertificationRequest csr, Request request, CancellationToken ct)
    {
        var fingerprint = csr.PublicKey.Fingerprint();
        if (await db.Editions.AnyAsync(e => e.KeyFingerprint == fingerprint, ct))
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                "This key has an edition already; each edition gets a key of its own.",
                "Make a new key."
            );
        var wanted = Shapes.Strings(request.NamesJson);
        var given = csr.Names.Select(n => n.ToString()).ToList();
        if (wanted.Except(given).Any() || given.Except(wanted).Any())
            throw new BeaconProblem(
                ProblemCode.RequestMalformed,
                $"The names in the CSR ({string.Join(", ", given)}) are not those that were granted ({string.Join(", ", wanted)}).",
                "Make the CSR again from the order."
            );
        if (csr.PublicKey.Spec.ToString() != request.Key)
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                $"The key is {csr.PublicKey.Spec}, the order asks for {request.Key}.",
                "Make the key again from the order."
            );
    }

    /// <summary>What is not granted any more ends here: the request says why, and the order fails with the same words.</summary>
    private async Task<GrantedDecision> GrantAsync(Request request, Hosts.Host host, CancellationToken ct)
    {
        string why;
        try
        {
            var existing = await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Id == request.CertificateId, ct);
            var decided = await again.RunAsync(request, host, existing, ct);
            if (decided.Granted is { } granted)
                return granted;
            why = DecideAgain.Why(decided);
        }
        catch (BeaconProblem p) when (p.Code is ProblemCode.WrongState or ProblemCode.RequestRefused or ProblemCode.NotFound)
        {
            why = p.Message;
        }
        await using var write = await db.BeginWriteAsync(ct);
        var row = await db.Requests.SingleAsync(r => r.Id == request.Id, ct);
        if (row.State == RequestState.WaitingForHost)
        {
            row.RefuseLate($"It was granted, and is not any more: {why}");
            await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestRefused, $"request {request.Id}", why);
            await write.CommitAsync(ct);
        }
        changes.Tell("request", request.Id.ToString());
        throw new BeaconProblem(
            ProblemCode.RequestRefused,
            $"Request {request.Id} was granted, and is not any more: {why}",
            "Request it again with names that the requester may have now."
        );
    }

    /// <summary>An edition with what is sent along with it.</summary>
    internal IReadOnlyList<X509> ChainOf(X509 leaf) => [leaf, .. registry.Above(leaf)];

    private OrderEdition Answer(string serial, byte[] der) => new(serial, registry.ChainPem(der));
}
