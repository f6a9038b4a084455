using System.Net;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Probes;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Looks around on the host: services, what they serve, the store.</summary>
internal static class Surroundings
{
    private const int MaxNames = 10;

    public static async Task<AgentReport> DescribeAsync(
        IReadOnlyList<IConnector> connectors,
        CertificateStore store,
        TimeProvider clock,
        CancellationToken ct
    )
    {
        var services = new List<FoundService>();
        BeaconProblem? problem = null;
        foreach (var c in connectors)
        {
            var found = Discover(c);
            problem ??= found.Problem;
            foreach (var s in found.Services)
            {
                if (services.Find(x => x.Name == s.Name) is { } same)
                    problem ??= Twice(same, s);
                else
                    services.Add(s with { Looks = await LooksAsync(s, clock, ct) });
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

    private static BeaconProblem Twice(FoundService first, FoundService second) =>
        new(
            ProblemCode.NameAmbiguous,
            $"Two servers on this host have a service {first.Name}: {Of(first)} and {Of(second)}. Only the first is looked after.",
            "Give one of them another first name in its configuration."
        );

    private static string Of(FoundService s) => $"{s.Connector} at {s.Places.FirstOrDefault() ?? "an unknown place"}";

    /// <summary>What is wrong with one server must not keep the others from being reported.</summary>
    private static Discovery Discover(IConnector c)
    {
        try
        {
            return c.Discover();
        }
        catch (Exception e) when (e is not (OperationCanceledException or OutOfMemoryException))
        {
            return new(
                [],
                new BeaconProblem(
                    ProblemCode.ConfigurationUnsupported,
                    $"The configuration of {c.Kind} cannot be read: {e.Message}",
                    "Correct it, or report the message.",
                    e
                )
            );
        }
    }

    /// <summary>The service's own name at every TLS endpoint, its other names at the first one; without TLS, whether it answers at all.</summary>
    public static async Task<IReadOnlyList<LookReport>> LooksAsync(FoundService s, TimeProvider clock, CancellationToken ct)
    {
        var looks = new List<LookReport>();
        var tls = s.Endpoints.Where(e => e.Tls).Take(4).ToList();
        if (tls.Count == 0)
            return s.Endpoints.Count == 0
                ? []
                : [await TlsProbe.KnockAsync(s.Endpoints[0].Address, s.Endpoints[0].Port, s.Name, clock, ct)];
        foreach (var e in tls)
            looks.Add(await TlsProbe.LookAsync(e.Address, e.Port, s.Name, clock, ct));
        if (looks[0].Outcome == LookOutcome.Served)
            foreach (var other in s.Names.Where(n => n != s.Name && !n.StartsWith('*')).Take(MaxNames))
                looks.Add(await TlsProbe.LookAsync(tls[0].Address, tls[0].Port, other, clock, ct));
        return looks;
    }
}
