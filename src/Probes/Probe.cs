using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>Where to look, what to ask for, and how a client comes to TLS there.</summary>
/// <param name="Name">The server name that a client asks for.</param>
public sealed record Probe(string Address, int Port, string Name, ProbeProtocol Protocol = ProbeProtocol.Tls);
