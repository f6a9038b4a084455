using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>What certificates are called here. A name tells whose a certificate is, so nobody takes one that speaks of somebody else.</summary>
public static class CertificateNaming
{
    /// <summary>The service's own certificates end so.</summary>
    public const string System = "@system";

    private const string AgentPrefix = "agent:";

    public static string OfAgent(string host) => AgentPrefix + host;

    /// <summary>For a CSR that somebody brought: it never takes a host's place.</summary>
    public static string OfCsr(string firstName, string person) => $"{firstName}@{person}";

    /// <summary>A new certificate is called after no host but those in it: the name would be taken when that host comes.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/>.</exception>
    public static void ThrowIfOfAnotherHost(string name, IReadOnlyList<AlternativeName> names)
    {
        if (name.Contains('.') && AlternativeName.TryParse(name, out var host, out _) && !names.Contains(host!))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"A certificate called \"{name}\" would have that name in it, and this one has not.",
                "Call it after one of its names, or give a word of your own without dots (client: --as NAME)."
            );
    }

    /// <summary>Whether a certificate can be called so at all.</summary>
    public static bool CanBe(string name) =>
        name.Length is > 0 and <= 200 && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_' or '*' or '@' or ':');

    /// <summary>A name that a person gives.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> when it cannot be one, <see cref="ProblemCode.NotAllowed"/> when it is reserved.</exception>
    public static string Given(string text, string person)
    {
        var name = text.Trim();
        if (!CanBe(name))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{name}\" cannot be a certificate's name.",
                "Use letters, digits, dots and hyphens; give one with --as NAME."
            );
        var at = name.IndexOf('@');
        var isOwn = at < 0 || name[(at + 1)..].Equals(person, StringComparison.OrdinalIgnoreCase);
        // An IPv6 address has colons too: only the word in front is reserved.
        if (!isOwn || name.StartsWith(AgentPrefix, StringComparison.OrdinalIgnoreCase))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"\"{name}\" is a reserved name: certificates of agents begin with agent:, those of the service end with @system, and what ends with @ and a person's name is that person's.",
                "Give it another name (client: --as NAME)."
            );
        return name;
    }
}
