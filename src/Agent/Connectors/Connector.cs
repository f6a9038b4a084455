using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>One server on this host: a kind and its configuration.</summary>
/// <param name="Kind">As in agent.json: <c>nginx</c>, <c>postfix</c> …</param>
/// <param name="Name">The kind, with a number from the second of its kind on: <c>nginx-2</c>.</param>
/// <param name="Config">Its main configuration file or folder.</param>
internal readonly record struct InstanceId(string Kind, string Name, string Config)
{
    public override string ToString() => $"{Kind} at {Config}";
}

/// <summary>In which form a server wants its certificate and key.</summary>
internal enum StoreForm
{
    /// <summary>Two PEM files: the certificates, leaf first, and the key.</summary>
    Pair,

    /// <summary>One PEM file: the key, then the certificates, leaf first.</summary>
    KeyFirstBundle,

    /// <summary>One PEM file: the certificates, leaf first, then the key.</summary>
    KeyLastBundle,

    /// <summary>A PKCS#12 keystore with key and certificates, its passphrase in a file beside it.</summary>
    Keystore,
}

/// <summary>What a server needs of the store.</summary>
/// <param name="Reader">The account that opens the files; null when it does so as the agent's own account.</param>
internal sealed record Needs(StoreForm Form, ServerAccount? Reader = null)
{
    /// <summary>What its entry has to be called in a keystore; null when any name will do.</summary>
    public string? Label { get; init; }

    /// <summary>It takes keys that may leave their keystore, and no others.</summary>
    public bool IsReleased { get; init; }
}

/// <summary>What a connector found. A problem means that nothing of this server can be changed now.</summary>
internal sealed record Discovery(IReadOnlyList<FoundService> Services, BeaconProblem? Problem)
{
    public static Discovery Of(Func<IEnumerable<FoundService>> find)
    {
        try
        {
            return new([.. find()], null);
        }
        catch (BeaconProblem p)
        {
            return new([], p);
        }
    }
}

/// <summary>A file with its content before and after; null when it is not there.</summary>
internal sealed record FileEdit(string Path, string? Before, string? After);

/// <summary>A service that shall serve a certificate.</summary>
/// <param name="Service">Its name within its instance.</param>
/// <param name="Files">What the server will read.</param>
/// <param name="Port">Where a service without TLS shall listen, if that takes a listener of its own; null leaves it to the connector.</param>
/// <param name="CertificateNames">Names of the certificate that a client can ask for.</param>
internal sealed record BindChange(string Service, UsedFiles Files, int? Port, IReadOnlyList<string> CertificateNames)
{
    /// <summary>The kind of its key: some servers have settings for each.</summary>
    public KeyAlgorithm Key { get; init; } = KeyAlgorithm.Ec;
}

/// <summary>A change of one service, worked out and not yet made.</summary>
/// <param name="Names">What clients call the service. The first must be in its certificate, unless the names are assumed.</param>
/// <param name="Targets">Where the new edition has to be seen.</param>
internal sealed record ChangeSet(
    string Service,
    IReadOnlyList<string> Names,
    IReadOnlyList<FileEdit> Edits,
    IReadOnlyList<Probe> Targets,
    IReadOnlyList<(string Address, int Port)> NewPorts,
    IReadOnlyList<string> Steps,
    IReadOnlyList<string> Warnings
)
{
    public bool NamesAreAssumed { get; init; }

    /// <summary>A change that ends the use without TLS: what has to be seen afterwards is worked out from the endpoints.</summary>
    public static ChangeSet RequiringTls(
        string service,
        IReadOnlyList<FileEdit> edits,
        IReadOnlyList<string> steps,
        params string[] warnings
    ) => new(service, [], edits, [], [], steps, warnings);
}

/// <summary>A place in the configuration that is read elsewhere in a test: the link to the edition is not turned yet.</summary>
internal readonly record struct ReadInstead(string Path, string From)
{
    public string In(string text) => text.Replace(ByteText.From(Path), ByteText.From(From), StringComparison.Ordinal);
}

/// <summary>Settings that a server keeps in itself: read as if they were a file, and changed by asking it.</summary>
internal interface ISettings
{
    /// <summary>Whether what is read at a path is such settings.</summary>
    bool Keeps(string path);

    /// <summary>Makes them what the text says. Nothing is asked where they are so already.</summary>
    /// <exception cref="BeaconProblem">The server refuses, or cannot be asked; nothing was changed.</exception>
    void Write(string path, string text);
}

/// <summary>A server with a setting for the lowest version of TLS that it takes.</summary>
internal interface ILimitsVersions
{
    /// <summary>Works out what has a service refuse all versions below one; touches nothing. The service has TLS, and takes such a version now.</summary>
    /// <exception cref="BeaconProblem">The service is not there, or has a form that is not changed.</exception>
    ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files);
}

/// <summary>
/// One real server. A caller plans on a view of the files, has the server test what would be, writes the edits itself (through Swap), and asks to take them up. What we put in
/// is taken out again by Swap, from its memory of the files: a connector has no part in that.
/// </summary>
internal interface IConnector
{
    InstanceId Id { get; }

    /// <summary>Whether its services are called by the names of their sites; else the server is one service, called like its instance.</summary>
    bool HasSites { get; }

    /// <exception cref="BeaconProblem">The server's account is not known on this machine.</exception>
    Needs Needs { get; }

    /// <summary>The machine's files as this server may read them.</summary>
    IFiles Files { get; }

    /// <summary>Null for servers that are configured by files alone.</summary>
    ISettings? Settings => null;

    /// <summary>Services with their names, endpoints, places and certificate in use. Never throws for what stands in the files.</summary>
    Discovery Discover(IFiles files);

    /// <summary>Works out a binding; touches nothing.</summary>
    /// <exception cref="BeaconProblem">The service is not there, or has a form that is not changed.</exception>
    ChangeSet PlanBinding(BindChange change, IFiles files);

    /// <summary>Works out what ends the use of a service without TLS; touches nothing. The service has TLS, and something of it is <see cref="Readable"/>.</summary>
    /// <exception cref="BeaconProblem">The service is not there, or has a form that is not changed.</exception>
    ChangeSet PlanRequireTls(string service, IFiles files) =>
        throw new BeaconProblem(
            ProblemCode.ConfigurationUnsupported,
            $"Nothing is known of how {Id.Kind} is told to require TLS.",
            "Change its configuration by hand."
        );

    /// <summary>
    /// What the running server says of its use without TLS, where nobody finds out from outside without a password; null when it is ended, or can be tried from outside.
    /// </summary>
    string? StillInTheClear() => null;

    /// <summary>Files by which this server says whom it trusts, besides the system's. May throw for what stands in the configuration.</summary>
    IReadOnlyList<AnchorFile> AnchorFiles(IFiles files) => [];

    /// <summary>What people have to know before the server takes anything up, where it ends its clients' connections for it; null when they go on.</summary>
    string? CutsOff => null;

    /// <summary>What people have to know before a binding is taken out; null when clients do not notice it.</summary>
    string? UnbindingWarning(ChangeSet removal) => null;

    /// <summary>Takes out a binding of an agent before 0.2, of which no files were kept; null when this connector did not exist then.</summary>
    ChangeSet? PlanEarlierRemoval(EarlierBound bound, string service, UsedFiles used, IFiles files) => null;

    /// <summary>The server's own test on a copy of a view of its configuration; nothing that it uses is touched.</summary>
    /// <param name="files">What would be; the server's own files when nothing is changed.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    void Test(IFiles files, ReadInstead? instead = null);

    /// <summary>Whether the server runs.</summary>
    bool IsRunning();

    /// <summary>Has the running server take up what is on the disk, without dropping connections unless <see cref="CutsOff"/> says so.</summary>
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
