using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Records;

/// <summary>Whether clients that go by DNS accept an edition that somebody binds to a service now.</summary>
public sealed class MatchRecords(TlsaLookup tlsa, AuthorityRegistry registry)
{
    /// <param name="port">Where the service shall answer, when its configuration does not say.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.RecordsMismatch"/>.</exception>
    public async Task ThrowUnlessAsync(HostService service, int? port, Edition edition, CancellationToken ct)
    {
        // What is served already cannot get worse.
        if (!tlsa.IsThere || service.ServedSerial == edition.Serial)
            return;
        var leaf = X509.Read(edition.Der);
        var endpoints = Shapes.Endpoints(service.EndpointsJson);
        if (port is { } own)
            endpoints.Add(new("", own, true));
        var facts = await tlsa.NowAsync(TlsaLookup.OwnersOf(leaf.Names.Select(n => n.ToString()), endpoints), ct);
        var denied = facts.Select(f => f.Set).OfType<TlsaSet>().Where(s => s.Records.Count > 0 && !Lets(s, leaf)).ToList();
        if (denied.Count == 0)
            return;
        var lines = denied.Select(d => LineFor(d, leaf));
        throw new BeaconProblem(
            ProblemCode.RecordsMismatch,
            $"DNS speaks of another certificate at {string.Join(", ", denied.Select(s => s.Owner).Take(5))}: clients that go by TLSA records would refuse this one.",
            $"Add to the zone, and bind it after {denied.Max(s => s.Life)} seconds: {string.Join("; ", lines.Take(5))}"
        );
    }

    /// <summary>What DNS says of each name and port of a service, beside what it serves.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public async Task<List<ServiceRecords>> OfServiceAsync(BeaconDb db, int host, string name, CancellationToken ct)
    {
        var service =
            await db.Services.AsNoTracking().FirstOrDefaultAsync(s => s.HostId == host && s.Name == name, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no service \"{name}\" there.", "See beacon service list.");
        if (!tlsa.IsThere)
            return [];
        var edition = service.ServedSerial is { } serial
            ? await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.Serial == serial, ct)
            : null;
        var leaf = edition is null ? null : X509.Read(edition.Der);
        var owners = TlsaLookup.OwnersOf(
            Shapes.Strings(service.NamesJson).Select(n => "dns:" + n),
            Shapes.Endpoints(service.EndpointsJson)
        );
        return
        [
            .. (await tlsa.ReadAsync(owners, ct))
                .OrderBy(f => f.Asked, StringComparer.Ordinal)
                .Select(f => Judge(f, leaf, service.ServedSerial is null)),
        ];
    }

    private ServiceRecords Judge(TlsaFacts facts, X509? leaf, bool servesNothing)
    {
        if (facts.Set is not { } set)
            return new(facts.Asked, 0, [], RecordStanding.NotKnown, facts.Problem);
        List<string> records = [.. set.Records.Select(r => r.ToString())];
        if (records.Count == 0)
            return new(set.Owner, 0, [], RecordStanding.None, null);
        // Who goes by DNS then does not do without TLS (RFC 7672, section 2.2).
        if (leaf is null && servesNothing)
            return new(set.Owner, set.Life, records, RecordStanding.Mismatch, "DNS promises TLS there, and none is served.");
        if (leaf is null)
            return new(set.Owner, set.Life, records, RecordStanding.NotKnown, "What is served there is not a certificate of ours.");
        return Lets(set, leaf)
            ? new(set.Owner, set.Life, records, RecordStanding.Matches, null)
            : new(set.Owner, set.Life, records, RecordStanding.Mismatch, null) { Missing = LineFor(set, leaf) };
    }

    private static string LineFor(TlsaSet set, X509 leaf) =>
        new RecordToDo(
            set.Owner,
            set.Life,
            TlsaRecord.OfKey(TlsaRecord.OwnCertificate, leaf.PublicKey.Fingerprint()).ToString(),
            true,
            true
        ).Line;

    private bool Lets(TlsaSet set, X509 leaf) =>
        set.Records.Any(r => r.IsOfServer && r.Matches(leaf)) || TlsaPlan.IsCovered(set, [.. registry.All]);
}
