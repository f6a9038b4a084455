using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Federation;

/// <summary>A step of one provider with one edition, the next one or the one that it has become.</summary>
/// <param name="Files">The edition's own files, in the form that the server reads.</param>
/// <param name="Thumbprint">SHA-256 of the edition's certificate, hexadecimal.</param>
internal sealed record FederationChange(string Entity, FederationAct Act, UsedFiles Files, string Thumbprint);

/// <summary>A server that signs what it says about people, for partners that know its certificates from its metadata (SAML 2.0 Metadata).</summary>
internal interface IFederation : IConnector
{
    /// <summary>Who is served by it, with what each signs and publishes. Never throws for what stands in the files.</summary>
    IReadOnlyList<FoundProvider> Providers(IFiles files);

    /// <summary>Works out a step; touches nothing. No edit: it is done already.</summary>
    /// <exception cref="Core.BeaconProblem">The provider is not there, is in another state, or has a form that is not changed.</exception>
    ChangeSet PlanStep(FederationChange change, IFiles files);

    /// <summary>The certificates that its metadata names for signatures, as partners get them.</summary>
    /// <exception cref="Core.BeaconProblem"><see cref="Core.ProblemCode.Unreachable"/>: it cannot be had, or cannot be read.</exception>
    Task<IReadOnlyList<Thumbprint>> PublishedAsync(string entity, CancellationToken ct);

    /// <summary>Where requests for its metadata are logged; null when nobody said.</summary>
    string? AccessLog { get; }

    /// <summary>The path of its metadata in that log.</summary>
    /// <exception cref="Core.BeaconProblem">Its configuration does not say it.</exception>
    string MetadataPath(string entity);
}
