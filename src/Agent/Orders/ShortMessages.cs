using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>What is left to say where the service does not take all of it, being too much or unreadable to it.</summary>
internal static class ShortMessages
{
    /// <summary>A service with a text that the service does not take is left out and told, so that all others are not lost for one line of one site.</summary>
    public static AgentReport WithoutOverlong(AgentReport report)
    {
        if (report.Services.FirstOrDefault(IsOverlong) is not { } odd)
            return report;
        var place = odd.Places.FirstOrDefault(p => p.Length <= AgentReport.MostText) ?? odd.Connector;
        return report with
        {
            Services = [.. report.Services.Where(s => !IsOverlong(s))],
            Problem =
                report.Problem
                ?? new(
                    BeaconProblem.SlugOf(ProblemCode.TooLarge),
                    $"A service at {place} has a name or a path of over {AgentReport.MostText} characters; it is not looked after.",
                    "Shorten it in the server's configuration."
                ),
        };
    }

    private static bool IsOverlong(FoundService service) =>
        service
            .Names.Concat(service.Places)
            .Append(service.Name)
            .Append(service.CertificateFile ?? "")
            .Append(service.Problem?.Message ?? "")
            .Any(text => text.Length > AgentReport.MostText);

    /// <summary>The host is there, and why no more is said of it; what the service knew before stays known.</summary>
    public static AgentReport Of(AgentReport report, BeaconProblem why) =>
        new(
            report.AgentVersion,
            report.At,
            [.. report.Addresses.Take(MostAddresses)],
            [],
            report.Entries,
            new(
                why.Slug,
                $"The service does not take what this host reports of its {report.Services.Count} services: {why.Message}",
                why.Cure
            )
        )
        {
            Anchors = report.Anchors,
            SealKey = report.SealKey,
        };

    /// <summary>How it ended, without what was seen meanwhile. What somebody waits for cannot be left out: then it has failed.</summary>
    public static OrderResult Of(OrderResult result)
    {
        var bare = new OrderResult(result.Done, Short(result.Problem), [.. result.Steps.TakeLast(MostSteps).Select(Cut)], null, null)
        {
            Csr = result.Csr,
        };
        var isAnswer = result.Plan is not null || result.Taken is not null || result.Sealed is not null || result.Anchors is not null;
        return isAnswer ? bare with { Done = false, Problem = bare.Problem ?? TooMuch } : bare;
    }

    private static ProblemInfo? Short(ProblemInfo? problem) =>
        problem is null ? null : problem with { Message = Cut(problem.Message), Cure = Cut(problem.Cure) };

    private static string Cut(string text) => text.Length > MostShown ? text[..MostShown] + " …" : text;

    private const int MostAddresses = 100,
        MostSteps = 20,
        MostShown = 500;

    private static ProblemInfo TooMuch { get; } =
        new(
            BeaconProblem.SlugOf(ProblemCode.TooLarge),
            "What came of it is more than the service takes.",
            "Order it again for fewer services or entries at a time."
        );
}
