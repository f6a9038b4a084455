using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>A server with our agent. Invited with a code, joined by it once, removed at the end.</summary>
public sealed class Host
{
    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public HostState State { get; private set; }
    public string? JoinCodeHash { get; private set; }
    public DateTimeOffset? JoinCodeUntil { get; private set; }
    public DateTimeOffset? LastSeen { get; private set; }
    public string? AgentVersion { get; private set; }
    public string AddressesJson { get; private set; } = "[]";
    public string EntriesJson { get; private set; } = "[]";
    public string? ProblemJson { get; private set; }

    /// <summary>Thumbprints of the roots that its agent trusts; null while it has not said.</summary>
    public string? AnchorsJson { get; private set; }
    public DateTimeOffset? AgentCertificateEnds { get; private set; }

    public static Host Invite(string name) => new() { Name = name };

    public void NewJoinCode(string hash, DateTimeOffset until)
    {
        if (State == HostState.Joined)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"The host {Name} has joined already.",
                $"If its agent was lost, remove the host first: beacon host remove {Name}."
            );
        (State, JoinCodeHash, JoinCodeUntil) = (HostState.Invited, hash, until);
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.JoinCodeRefused"/>.</exception>
    public void CheckJoinCode(string hash, DateTimeOffset now)
    {
        if (State == HostState.Joined)
            throw Refused("has been used already");
        if (
            JoinCodeHash is null
            || !System.Security.Cryptography.CryptographicOperations.FixedTimeEquals(
                Convert.FromHexString(JoinCodeHash),
                Convert.FromHexString(hash)
            )
        )
            throw Refused("is not the one that was made last");
        if (JoinCodeUntil < now)
            throw Refused($"was good until {JoinCodeUntil:yyyy-MM-dd HH:mm} UTC only");

        BeaconProblem Refused(string why) =>
            new(ProblemCode.JoinCodeRefused, $"The join code for {Name} {why}.", $"Make a new one: beacon host invite {Name}.");
    }

    public void Join(DateTimeOffset agentCertificateEnds)
    {
        (State, JoinCodeHash, JoinCodeUntil, AgentCertificateEnds) = (HostState.Joined, null, null, agentCertificateEnds);
    }

    public void NoteAgentCertificate(DateTimeOffset ends) => AgentCertificateEnds = ends;

    public void Seen(DateTimeOffset at) => LastSeen = at;

    public void Reported(
        DateTimeOffset at,
        string version,
        string addressesJson,
        string entriesJson,
        string? problemJson,
        string? anchorsJson
    ) =>
        (LastSeen, AgentVersion, AddressesJson, EntriesJson, ProblemJson, AnchorsJson) = (
            at,
            version,
            addressesJson,
            entriesJson,
            problemJson,
            anchorsJson
        );

    public void Remove() => (State, JoinCodeHash) = (HostState.Removed, null);

    public void ThrowIfGone()
    {
        if (State == HostState.Removed)
            throw new BeaconProblem(
                ProblemCode.HostGone,
                $"The host {Name} was removed.",
                $"Invite it again first: beacon host invite {Name}."
            );
    }
}
