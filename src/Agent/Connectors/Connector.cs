using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>What a connector found. A problem means that nothing of this server can be changed now.</summary>
internal sealed record Discovery(IReadOnlyList<FoundService> Services, BeaconProblem? Problem);

/// <summary>A file with its content before and after.</summary>
internal sealed record FileEdit(string Path, string Before, string After);

/// <summary>Where the new edition has to be seen.</summary>
internal sealed record ProbeTarget(string Address, int Port, string ServerName);

/// <summary>What was in the configuration before we came: enough to take a binding out again.</summary>
/// <param name="AddedListeners">Arguments of the listen directives that we added.</param>
/// <param name="OldCertificate">The certificate file that was named before; null when there was none.</param>
internal sealed record BoundRecord(
    string Service,
    string Certificate,
    IReadOnlyList<string> AddedListeners,
    string? OldCertificate,
    string? OldKey
);

/// <summary>A change of one service, worked out and not yet made.</summary>
internal sealed record ServicePlan(
    string Service,
    IReadOnlyList<string> Names,
    IReadOnlyList<FileEdit> Edits,
    IReadOnlyList<ProbeTarget> Targets,
    IReadOnlyList<(string Address, int Port)> NewPorts,
    IReadOnlyList<string> Steps,
    IReadOnlyList<string> Warnings,
    BoundRecord? Bound
);

/// <summary>
/// One real server. A caller plans, has the configuration tested as it is and as it will be, writes the edits itself (through Swap), and asks to take them up.
/// </summary>
internal interface IConnector
{
    string Kind { get; }

    Discovery Discover();

    /// <param name="files">What the server will read.</param>
    /// <exception cref="BeaconProblem">The service is not there, or has a form that is not changed.</exception>
    ServicePlan PlanBinding(string service, string certificate, UsedFiles files, int? port, BoundRecord? earlier);

    /// <param name="files">What we put in, to be recognised.</param>
    ServicePlan PlanRemoval(BoundRecord bound, UsedFiles files);

    /// <summary>The server's own test on a copy of its configuration with the edits; nothing that it uses is touched.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    /// <param name="instead">A path in the configuration that is read elsewhere in the test: the link is not turned yet.</param>
    void Test(IReadOnlyList<FileEdit> edits, (string Path, string ReadFrom)? instead = null);

    /// <summary>Whether the server runs.</summary>
    bool IsRunning();

    /// <summary>Has the running server take up what is on the disk, without dropping connections.</summary>
    void TakeUp();

    /// <summary>
    /// Whether nothing of the server from before the last <see cref="TakeUp"/> accepts connections any more. Until then a client
    /// may still meet the old edition, whatever one look saw.
    /// </summary>
    bool IsSettled();

    /// <summary>Starts it when it has died.</summary>
    void Start();

    /// <summary>Why it did not take something up, from its own log; null when it does not say.</summary>
    string? LastComplaint(DateTimeOffset since);
}
