using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Work;

/// <summary>A host has made key and CSR: the request waits for the answer of an authority that is not ours, or for records in DNS.</summary>
public sealed class TakePrepared(BeaconDb db, BeginRollover rollover, Changes changes)
{
    /// <summary>Inside the transaction that ends the order.</summary>
    /// <returns>The certificate's name.</returns>
    public async Task<string> RunAsync(Hosts.Host host, WorkOrder order, OrderResult result, DateTimeOffset now, CancellationToken ct)
    {
        var request = await db.Requests.SingleAsync(r => r.Id == order.RequestId, ct);
        // It may have been withdrawn while the key was made.
        if (request.State != RequestState.WaitingForHost)
            return request.CertificateName;
        try
        {
            if (request.Outside is null)
            {
                await rollover.RunAsync(host, order, request, result, ct);
                return request.CertificateName;
            }
            var csr = CertificationRequest.Read(Encoding.UTF8.GetBytes(result.Csr ?? "")).ThrowIfUnusable();
            await AnswerCsr.CheckCsrAsync(db, csr, request, ct);
            request.WaitForAnswer(csr.Der.ToArray(), csr.PublicKey.Fingerprint());
            await db.Note(
                now,
                Actor.Agent(host.Name),
                JournalAction.RequestWaits,
                $"request {request.Id}",
                $"its CSR waits for the answer of {request.Outside}"
            );
        }
        catch (BeaconProblem p)
        {
            request.RefuseLate($"The CSR that its host made cannot be used: {p.Message}");
            await db.Note(now, Actor.Rules, JournalAction.RequestRefused, $"request {request.Id}", p.Message);
            (await db.Certificates.SingleAsync(c => c.Id == order.CertificateId, ct)).Failed($"{p.Message} {p.Cure}", now.AddHours(1));
        }
        changes.Tell("request", request.Id.ToString());
        return request.CertificateName;
    }
}
