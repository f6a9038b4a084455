using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Records;

/// <summary>
/// Whether a certificate's next key has to be told in DNS before it is served; then its host makes key and CSR alone, and the edition follows when its records are out
/// (<see cref="RollKeys"/>).
/// </summary>
public sealed class BeginRollover(BeaconDb db, TlsaLookup tlsa, RolloverBook book, TimeProvider clock)
{
    /// <summary>Asks DNS about all places where records of a request's services may be: to be called before the transaction in which it is carried out.</summary>
    public async Task LookUpAsync(Request request, CancellationToken ct)
    {
        if (tlsa.IsThere && request.HostId is { } host)
            await tlsa.NowAsync(
                await OwnersAsync(request.CertificateName, host, Shapes.Strings(request.NamesJson), Shapes.Strings(request.BindToJson), ct),
                ct
            );
    }

    /// <summary>The same of a certificate that is renewed as it is.</summary>
    public async Task LookUpAsync(Certificates.Certificate certificate, CancellationToken ct)
    {
        if (tlsa.IsThere && certificate.HostId is { } host)
            await tlsa.NowAsync(await OwnersAsync(certificate.Name, host, Shapes.Strings(certificate.NamesJson), [], ct), ct);
    }

    /// <summary>Whether the request's edition has to wait for records. By what DNS has said within the last minute; what it was not asked may have some.</summary>
    public async Task<bool> IsNeededAsync(Request request, Hosts.Host host, CancellationToken ct)
    {
        if (!tlsa.IsThere || request.Outside is not null || host.Device is not null)
            return false;
        var names = Shapes.Strings(request.NamesJson);
        return tlsa.MayHave(await OwnersAsync(request.CertificateName, host.Id, names, Shapes.Strings(request.BindToJson), ct));
    }

    /// <summary>The host has made the key: its records come next. Inside the transaction that ends the order.</summary>
    public async Task RunAsync(Hosts.Host host, WorkOrder order, Request request, OrderResult result, CancellationToken ct)
    {
        var csr = CertificationRequest.Read(Encoding.UTF8.GetBytes(result.Csr ?? "")).ThrowIfUnusable();
        await AnswerCsr.CheckCsrAsync(db, csr, request, ct);
        request.Prepared(csr.Der.ToArray());
        var names = Shapes.Strings(request.NamesJson);
        var owners = await OwnersAsync(request.CertificateName, host.Id, names, order.Content.Services ?? [], ct);
        var rollover = KeyRollover.Begin(order.CertificateId!.Value, request.Id, csr.PublicKey.Fingerprint(), owners, clock.GetUtcNow());
        db.Rollovers.Add(rollover);
        await db.SaveChangesAsync(ct);
        await db.Note(
            clock.GetUtcNow(),
            Actor.Agent(host.Name),
            JournalAction.RolloverBegun,
            request.CertificateName,
            $"request {request.Id}: its next key is made; its records come first"
        );
        book.At(rollover.Id, clock.GetUtcNow());
    }

    private async Task<IReadOnlyList<string>> OwnersAsync(
        string certificate,
        int host,
        IReadOnlyList<string> names,
        IReadOnlyList<string> services,
        CancellationToken ct
    )
    {
        var rows = await (
            from s in db.Services.AsNoTracking()
            where s.HostId == host
            where
                services.Contains(s.Name)
                || db.Bindings.Any(b => b.ServiceId == s.Id && db.Certificates.Any(c => c.Id == b.CertificateId && c.Name == certificate))
            select s.EndpointsJson
        ).ToListAsync(ct);
        return TlsaLookup.OwnersOf(names, rows.SelectMany(Shapes.Endpoints));
    }
}
