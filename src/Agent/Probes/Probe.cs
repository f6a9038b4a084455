using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Probes;

/// <summary>Where to look, what to ask for, and how a client comes to TLS there.</summary>
/// <param name="Name">The server name that a client asks for.</param>
internal sealed record Probe(string Address, int Port, string Name, ProbeProtocol Protocol = ProbeProtocol.Tls);
