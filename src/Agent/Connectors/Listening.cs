namespace OrderlyBeacon.Agent.Connectors;

/// <summary>Addresses as configurations write them.</summary>
internal static class Listening
{
    /// <summary>Where to connect to: what stands for every address, or for this machine, is its loopback address.</summary>
    public static string Reachable(string written) =>
        written switch
        {
            "" or "*" or "0.0.0.0" or "localhost" => "127.0.0.1",
            "::" or "[::]" or "::*" => "::1",
            ['[', .., ']'] => written[1..^1],
            _ => written,
        };
}
