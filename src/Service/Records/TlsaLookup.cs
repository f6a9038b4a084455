using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Domain;

namespace OrderlyBeacon.Service.Records;

/// <summary>Finds the TLSA records that clients of a certificate's services go by.</summary>
public sealed class TlsaLookup(Resolver dns, ZoneUpdates zones)
{
    /// <summary>More names and ports of one certificate are not asked about.</summary>
    public const int MostOwners = 200;

    public bool IsThere => dns.IsThere;

    /// <summary>Where records may stand: each name that clients use, at each port with TLS.</summary>
    public static IReadOnlyList<string> OwnersOf(IEnumerable<string> names, IEnumerable<EndpointInfo> endpoints)
    {
        var ports = endpoints.Where(e => e.Tls || e.Protocol != ProbeProtocol.Tls).Select(e => e.Port).Distinct().Order().ToList();
        return
        [
            .. names
                .Select(n => AlternativeName.TryParse(n, out var name, out _) ? name : null)
                .OfType<AlternativeName>()
                .Where(n => n.Kind == NameKind.Dns && !n.Value.StartsWith("*.", StringComparison.Ordinal))
                .Distinct()
                .SelectMany(n => ports.Select(p => TlsaSet.OwnerOf(p, n.Value)))
                .Take(MostOwners),
        ];
    }

    /// <summary>What is in DNS now. Of those whose server does not answer, the reason.</summary>
    public async Task<IReadOnlyList<TlsaFacts>> NowAsync(IReadOnlyList<string> owners, CancellationToken ct) =>
        [.. (await dns.TlsaAsync(owners, zones.ServerOf, ct)).Values];

    /// <summary>The same for reading: what was answered within the last minute is not asked again, however often somebody looks.</summary>
    public async Task<IReadOnlyList<TlsaFacts>> ReadAsync(IReadOnlyList<string> owners, CancellationToken ct)
    {
        var known = owners.Select(dns.KnownTlsa).OfType<TlsaFacts>().ToDictionary(f => f.Asked);
        return [.. known.Values, .. await NowAsync([.. owners.Where(o => !known.ContainsKey(o))], ct)];
    }

    public bool MayWrite(string owner) => zones.MayWrite(owner);

    /// <inheritdoc cref="ZoneUpdates.RunAsync"/>
    public Task ChangeAsync(IEnumerable<RecordChange> wanted, CancellationToken ct) => zones.RunAsync(wanted, ct);

    /// <summary>Whether there are records, or nobody has asked within the last minute: for inside of a transaction, where nothing waits for a network.</summary>
    public bool MayHave(IReadOnlyList<string> owners) => dns.IsThere && owners.Any(o => dns.KnownTlsa(o) is not { Set.Records.Count: 0 });
}
