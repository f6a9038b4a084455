using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;

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
        var lines = denied.Select(s =>
            new RecordToDo(
                s.Owner,
                s.Life,
                TlsaRecord.OfKey(TlsaRecord.OwnCertificate, leaf.PublicKey.Fingerprint()).ToString(),
                true,
                true
            ).Line
        );
        throw new BeaconProblem(
            ProblemCode.RecordsMismatch,
            $"DNS speaks of another certificate at {string.Join(", ", denied.Select(s => s.Owner).Take(5))}: clients that go by TLSA records would refuse this one.",
            $"Add to the zone, and bind it after {denied.Max(s => s.Life)} seconds: {string.Join("; ", lines.Take(5))}"
        );
    }

    private bool Lets(TlsaSet set, X509 leaf) =>
        set.Records.Any(r => r.IsOfServer && r.Matches(leaf)) || TlsaPlan.IsCovered(set, [.. registry.All]);
}
