using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Cli;

/// <summary>What goes to a host's agent, or comes from it, so that the service between cannot read it.</summary>
internal static class Sealed
{
    /// <summary>The host, with the key that its agent said.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationUnsupported"/>: its agent is too old.</exception>
    public static async Task<HostDetail> HostAsync(Api api, string host, CancellationToken ct)
    {
        var detail = await api.GetAsync("/api/v1/hosts/" + Api.Escape(host), BeaconJson.Default.HostDetail, ct);
        return detail.SealKey is not null
            ? detail
            : throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"The agent of {detail.Host.Name} has said no key to seal to.",
                "Wait for its next report; an older agent wants an update."
            );
    }

    public static string To(HostDetail host, string purpose, byte[] content) =>
        Convert.ToBase64String(Sealing.Seal(Convert.FromBase64String(host.SealKey!), purpose, content));

    public static string To(HostDetail host, string purpose, string text) => To(host, purpose, Encoding.UTF8.GetBytes(text));

    public static FilePart Open(ECDiffieHellman key, string sealedText) =>
        JsonSerializer.Deserialize(Sealing.Open(key, SealPurpose.Export, Convert.FromBase64String(sealedText)), BeaconJson.Default.FilePart)
        ?? throw new BeaconProblem(ProblemCode.DataDamaged, "What came is empty.", "Try again.");
}
