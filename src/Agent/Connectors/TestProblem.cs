using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>What a server's own test has to say, in one form for all.</summary>
internal static class TestProblem
{
    /// <param name="complaint">The server's words, with file and line.</param>
    /// <param name="isNow">The configuration as it is was tested, before any change.</param>
    /// <param name="sameTest">A command that shows the same.</param>
    public static BeaconProblem Of(string server, string complaint, bool isNow, string sameTest) =>
        new(
            ProblemCode.ConfigurationBroken,
            $"{server} does not accept {(isNow ? "its configuration as it is now, before any change" : "the changed configuration")}: {complaint.TrimEnd('.')}.",
            isNow
                ? $"Correct it first ({sameTest} shows the same); nothing was changed."
                : $"Nothing was changed. Correct what {server} names, then try again."
        );
}
