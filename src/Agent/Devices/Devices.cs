using System.Text.Json;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices;

/// <summary>A device that makes its own requests and puts answers in place by itself.</summary>
internal interface IDevice : IDisposable
{
    /// <summary>Asks whether one gets in, and what it is.</summary>
    /// <returns>What it says of itself, for people.</returns>
    Task<string> GreetAsync(CancellationToken ct);

    /// <summary>Has it make a key and a CSR under a label; done again with the same label, it gives the same.</summary>
    /// <returns>The CSR, PEM.</returns>
    Task<string> RequestAsync(string label, string subject, IReadOnlyList<string> names, string key, CancellationToken ct);

    /// <summary>Puts the answer in place, in the order that it wants. Done again, it changes nothing; when it fails, the device runs with what it had.</summary>
    /// <param name="chain">Leaf first, PEM.</param>
    /// <param name="root">The trust anchor, PEM.</param>
    Task InstallAsync(string label, string chain, string root, Action<string> step, CancellationToken ct);

    /// <summary>Where clients come to it, to look whether it serves what was installed; null when it does not say.</summary>
    Task<(string Address, int Port)?> FrontAsync(CancellationToken ct);
}

/// <summary>How this agent gets into its devices: <c>devices/NAME.json</c>, mode 0600.</summary>
internal sealed class DeviceBook(string state, SealKey sealKey)
{
    private string PathOf(string name) => Path.Combine(state, "devices", CertificateStore.FolderName(name) + ".json");

    public DeviceAccess Open(string sealedAccess) =>
        JsonSerializer.Deserialize(sealKey.Open(SealPurpose.Device, sealedAccess), BeaconJson.Default.DeviceAccess)
        ?? throw new BeaconProblem(ProblemCode.DataDamaged, "What was sealed is empty.", "Do it again.");

    public void Keep(string name, DeviceAccess access) =>
        AtomicFiles.Write(PathOf(name), JsonSerializer.SerializeToUtf8Bytes(access, BeaconJson.Default.DeviceAccess), isPrivate: true);

    public void Forget(string name) => File.Delete(PathOf(name));

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public IDevice Connect(string name) =>
        File.Exists(PathOf(name))
        && JsonSerializer.Deserialize(File.ReadAllText(PathOf(name)), BeaconJson.Default.DeviceAccess) is { } access
            ? Connect(access)
            : throw new BeaconProblem(
                ProblemCode.NotFound,
                $"This agent does not know how to get into {name}.",
                $"Tell it again: beacon device add {name}."
            );

    public static IDevice Connect(DeviceAccess access) =>
        access.Kind == Appliance.Kind
            ? new Appliance(access)
            : throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"This agent does not know devices of the kind \"{access.Kind}\".",
                "Update the agent."
            );
}
