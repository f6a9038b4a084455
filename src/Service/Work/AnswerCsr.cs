using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>Issues the edition for an order's CSR. Asked again with the same key, it gives the same edition.</summary>
public sealed class AnswerCsr(BeaconDb db, IssueEdition issue, AuthorityRegistry registry, ProfileCatalogue profiles, Changes changes)
{
    public async Task<OrderEdition> RunAsync(Hosts.Host host, long orderId, string csrText, CancellationToken ct)
    {
        var order =
            await db.Orders.AsNoTracking().FirstOrDefaultAsync(o => o.Id == orderId && o.HostId == host.Id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no order {orderId} for {host.Name}.", "Poll for work again.");
        if (!order.IsOpen || order.RequestId is not { } requestId)
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

        var recorded = await issue.RunAsync(
            new(
                profiles.Get(request.Profile),
                request.Subject.Length > 0 ? DistinguishedName.Parse(request.Subject) : DistinguishedName.Empty,
                [.. wanted.Select(AlternativeName.Parse)],
                csr.PublicKey,
                ProfileWords.ParseLife(request.Life),
                request.CertificateId ?? 0,
                request.CertificateName,
                request.NamesJson,
                requestId,
                EditionState.Next,
                "agent:" + host.Name,
                $"request {requestId}"
            ),
            ct
        );
        changes.Tell("certificate", request.CertificateName);
        return Answer(Core.Issuing.X509.Read(recorded.Der).Serial.Hex, recorded.Der);
    }

    private OrderEdition Answer(string serial, byte[] der) => new(serial, registry.ChainPem(der));
}
