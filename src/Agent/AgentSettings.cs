using System.Text.Json;
using System.Text.Json.Serialization;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent;

/// <summary>One server that this agent looks after.</summary>
/// <param name="Kind"><c>nginx</c>, <c>postfix</c>, <c>dovecot</c> or <c>postgresql</c>.</param>
/// <param name="Binary">The server's program, or the folder of its programs (PostgreSQL).</param>
/// <param name="Config">Its main configuration file; of Postfix, the folder.</param>
/// <param name="Prefix">The folder that relative paths in it start from.</param>
internal sealed record ConnectorSettings(string Kind, string Binary, string Config, string? Prefix)
{
    /// <summary>What clients call it, where its configuration does not say.</summary>
    public IReadOnlyList<string>? Names { get; init; }

    /// <summary>Of a provider of a federation: where partners get its metadata, when its own configuration does not say.</summary>
    public string? Metadata { get; init; }

    /// <summary>The address at which the agent gets it, when that is not the one that its name has.</summary>
    public string? MetadataAt { get; init; }

    /// <summary>The web server's log in which its requests stand.</summary>
    public string? AccessLog { get; init; }

    /// <summary>The account that reads its keys, when its files do not say.</summary>
    public string? Account { get; init; }

    /// <summary>This host's name.</summary>
    [JsonIgnore]
    public string Host { get; init; } = "localhost";
}

/// <summary>The agent's settings: <c>agent.json</c> in its state folder.</summary>
/// <param name="Service">Address of the service.</param>
/// <param name="Host">This host's name.</param>
/// <param name="ReportSeconds">How often all services are looked at.</param>
internal sealed record AgentSettings(string Service, string Host, IReadOnlyList<ConnectorSettings> Connectors, int ReportSeconds = 60)
{
    /// <summary>Trust stores that a person named; null: those at the usual places.</summary>
    public IReadOnlyList<TrustPlace>? Trust { get; init; }

    public static string FileIn(string state) => Path.Combine(state, "agent.json");

    /// <exception cref="BeaconProblem">The agent has not joined, or the file is damaged.</exception>
    public static AgentSettings Load(string state)
    {
        var path = FileIn(state);
        if (!File.Exists(path))
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no {path}: this agent has not joined.",
                "Run beacon-agent join first."
            );
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.AgentSettings)
                ?? throw new JsonException("it is empty");
        }
        catch (JsonException e)
        {
            throw new BeaconProblem(ProblemCode.DataDamaged, $"{path} cannot be read: {e.Message}", "Correct the file, or join again.", e);
        }
    }

    public void Save(string state) =>
        AtomicFiles.Write(FileIn(state), JsonSerializer.SerializeToUtf8Bytes(this, AgentJson.Default.AgentSettings), isPrivate: true);
}

[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    WriteIndented = true,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull
)]
[JsonSerializable(typeof(AgentSettings))]
[JsonSerializable(typeof(SwapRecord))]
[JsonSerializable(typeof(BoundRecord))]
[JsonSerializable(typeof(EntryFile))]
[JsonSerializable(typeof(OrderResult))]
[JsonSerializable(typeof(TrustRecord))]
[JsonSerializable(typeof(FetchRecord))]
internal sealed partial class AgentJson : JsonSerializerContext;
