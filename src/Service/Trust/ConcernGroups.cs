using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Hosts;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Joins concerns of one cause: a few are told one by one, many at once with where to find them.</summary>
internal static class ConcernGroups
{
    /// <summary>More than this many of one cause are one concern.</summary>
    public const int MostSingle = 5;

    public static Concern OfServices(string state, int count, Concern one, IReadOnlyList<ServiceInfo> few) =>
        one with
        {
            About = $"{count} services",
            Reason = $"{Words(state)}: {string.Join(", ", few.Take(3).Select(s => $"{Short(s.Host)}/{s.Name}"))} and {count - 3} more.",
            Command = ShellCommand.Of($"beacon service list --state {state}"),
            Link = $"/hosts?view=services&state={state}",
        };

    public static Concern OfHosts(int count, IReadOnlyList<Hosts.Host> few) =>
        new(
            Severity.Now,
            "host-away",
            $"{count} hosts",
            $"Their agents have not been heard from: {string.Join(", ", few.Take(3).Select(h => Short(h.Name)))} and {count - 3} more.",
            "Nothing on them is renewed or looked at.",
            "Start the agents, or look for what keeps them from reaching the service.",
            "beacon host list --state away --sort seen",
            "/hosts?state=away&sort=seen"
        );

    /// <summary>Certificates in one state that have become many.</summary>
    public static IEnumerable<Concern> Of(IReadOnlyList<Concern> concerns) =>
        concerns
            .GroupBy(c => (c.Kind, c.Severity, Where: c.Link?.Split('/', '?').ElementAtOrDefault(1)))
            .SelectMany(IEnumerable<Concern> (g) => g.Count() <= MostSingle || g.Key.Where != "certificates" ? g : [Joined([.. g])]);

    private static Concern Joined(IReadOnlyList<Concern> same) =>
        same[0] with
        {
            About = $"{same.Count} certificates",
            Reason =
                $"{Words(same[0].Kind)}: {string.Join(", ", same.Take(3).Select(c => c.About))} and {same.Count - 3} more. The first says: {same[0].Reason}",
            Command = "beacon cert list",
            Link = "/certificates",
        };

    private static string Words(string state)
    {
        var words = ServiceQueries.Word(state);
        return char.ToUpperInvariant(words[0]) + words[1..];
    }

    private static string Short(string host) => host.Split('.')[0];
}
