using System.Net;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Looks around on the host: services, what they serve, the store.</summary>
internal static class Surroundings
{
    private const int MaxNames = 10;

    public static async Task<AgentReport> DescribeAsync(
        Instances instances,
        CertificateStore store,
        BoundBook bounds,
        TimeProvider clock,
        CancellationToken ct
    )
    {
        var services = new List<FoundService>();
        BeaconProblem? problem = null;
        foreach (var c in instances.All)
        {
            var found = Instances.Discover(c);
            problem ??= found.Problem;
            foreach (var s in found.Services)
            {
                var named = WithCertificateNames(s with { Name = instances.LabelOf(c, s.Name) }, store, bounds);
                services.Add(
                    named with
                    {
                        Looks = await LooksAsync(named, clock, ct),
                        RequiresTls = bounds.Demands.Find(named.Name) is { KeepsClearText: false },
                        Lowest = bounds.Demands.Find(named.Name)?.Lowest,
                    }
                );
            }
        }
        var addresses = services
            .SelectMany(s => s.Endpoints)
            .Select(e => e.Address)
            .Where(a => IPAddress.TryParse(a, out var ip) && !ip.Equals(IPAddress.Any))
            .Distinct()
            .ToList();
        return new(
            Program.Version,
            clock.GetUtcNow(),
            addresses,
            services,
            store.List(),
            problem is null ? null : new(problem.Slug, problem.Message, problem.Cure)
        );
    }

    /// <summary>Intermediates that go along with the store's own certificates, and the roots that are trusted for the service; each once.</summary>
    public static IReadOnlyList<StoreAuthorityInfo> Authorities(CertificateStore store, AgentIdentity identity)
    {
        var along = store.Entries().SelectMany(e => Certificates(e.ChainPath).Skip(1)).Select(x => Info("intermediate", x));
        var anchors = Certificates(identity.AnchorsPath).Select(x => Info("anchor", x));
        return
        [
            .. along
                .Concat(anchors)
                .DistinctBy(a => (a.Kind, a.Thumbprint))
                .OrderBy(a => a.Kind)
                .ThenBy(a => a.Subject)
                .Take(MostAuthorities),
        ];

        static StoreAuthorityInfo Info(string kind, X509 x) =>
            new(kind, x.Subject.ToString(), x.Issuer.ToString(), x.Thumbprint.Hex, x.NotAfter);
    }

    /// <summary>Who signs for a federation here, and who has learnt of what it publishes.</summary>
    public static IReadOnlyList<FoundProvider> Providers(Instances instances, FetchBook fetches) =>
        [.. instances.All.OfType<IFederation>().SelectMany(s => s.Providers(s.Files).Select(p => fetches.Count(s, p)))];

    private const int MostAuthorities = 100;

    /// <summary>Empty where a death has left a part of an entry.</summary>
    private static IEnumerable<X509> Certificates(string path)
    {
        try
        {
            return [.. Armor.Read(File.ReadAllBytes(path)).Blocks.Select(b => X509.Read(b.Der))];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return [];
        }
    }

    /// <summary>Who has bound a certificate to a server that does not say its names has said by that what clients call it.</summary>
    public static FoundService WithCertificateNames(FoundService s, CertificateStore store, BoundBook bounds)
    {
        if (!s.NamesAreAssumed || bounds.Find(s.Name) is not { } bound || store.InUse(bound.Certificate) is not { } entry)
            return s;
        if (CertificateStore.LeafOf(entry) is not { } leaf)
            return s;
        var names = leaf.Names.Where(n => n.Kind is NameKind.Dns or NameKind.Ip).Select(n => n.Value).ToList();
        return names.Count == 0 ? s : s with { Names = names };
    }

    /// <summary>Its first name at every TLS endpoint, its other names at the first one; without TLS, whether it answers at all.</summary>
    public static async Task<IReadOnlyList<LookReport>> LooksAsync(FoundService s, TimeProvider clock, CancellationToken ct)
    {
        var looks = new List<LookReport>();
        var tls = s.Endpoints.Where(e => e.Tls).Take(6).ToList();
        var first = s.Names.FirstOrDefault(n => !n.StartsWith('*')) ?? s.Name;
        if (tls.Count == 0)
            return s.Endpoints.Count == 0 ? [] : [await TlsProbe.KnockAsync(s.Endpoints[0].Address, s.Endpoints[0].Port, first, clock, ct)];
        foreach (var e in tls)
            looks.Add(await TlsProbe.LookAsync(new(e.Address, e.Port, first, e.Protocol), clock, ct));
        if (looks[0].Outcome == LookOutcome.Served)
            foreach (var other in s.Names.Where(n => n != first && !n.StartsWith('*')).Take(MaxNames))
                looks.Add(await TlsProbe.LookAsync(new(tls[0].Address, tls[0].Port, other, tls[0].Protocol), clock, ct));
        return [.. looks.Select(l => l with { Service = s.Name })];
    }
}
