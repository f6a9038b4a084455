using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>
/// Looks at an address for somebody who wants to know all of it: besides what a client is served, the versions that are taken, the stapled answer, and what goes without TLS.
/// It opens six connections or so; what is looked at regularly is asked for its certificate alone.
/// </summary>
public static class WholeLook
{
    public static async Task<LookReport> RunAsync(Probe probe, TimeProvider clock, CancellationToken ct)
    {
        var look = await TlsProbe.LookAsync(probe, clock, ct);
        if (look.Outcome is LookOutcome.Served)
            look = look with { Versions = await VersionsTaken.AskAsync(probe, ct), Staple = await StapledAnswer.AskAsync(probe, ct) };
        // Where TLS begins at once, nothing goes before it.
        if (probe.Protocol == ProbeProtocol.Tls || !ClearText.IsKnown(probe.Protocol) || look.Outcome is LookOutcome.NoAnswer)
            return look;
        return look with { Readable = await ReadableAsync(probe, ct) };
    }

    private static async Task<IReadOnlyList<Readable>?> ReadableAsync(Probe probe, CancellationToken ct)
    {
        try
        {
            return await ClearText.ReadableAsync(new(probe.Address, probe.Port, Tls: true) { Protocol = probe.Protocol }, probe.Name, ct);
        }
        catch (IOException)
        {
            return null;
        }
    }
}
