using System.Text.Json;
using OrderlyBeacon.Agent.Devices.Shell;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices;

/// <summary>How this agent gets into its devices: <c>devices/NAME.json</c>, mode 0600, and a folder <c>devices/NAME</c> with what it needs for those with a shell.</summary>
internal sealed class DeviceBook(string state, SealKey sealKey, TimeProvider clock)
{
    private readonly DeviceKinds _kinds = new(Path.Combine(state, "device-kinds"));

    private string FolderOf(string name) => Path.Combine(state, "devices", CertificateStore.FolderName(name));

    private string PathOf(string name) => FolderOf(name) + ".json";

    public DeviceAccess Open(string sealedAccess) =>
        JsonSerializer.Deserialize(sealKey.Open(SealPurpose.Device, sealedAccess), AgentMessageJson.Default.DeviceAccess)
        ?? throw new BeaconProblem(ProblemCode.DataDamaged, "What was sealed is empty.", "Do it again.");

    public void Keep(string name, DeviceAccess access) =>
        AtomicFiles.Write(
            PathOf(name),
            JsonSerializer.SerializeToUtf8Bytes(access, AgentMessageJson.Default.DeviceAccess),
            isPrivate: true
        );

    public void Forget(string name)
    {
        File.Delete(PathOf(name));
        if (Directory.Exists(FolderOf(name)))
            Directory.Delete(FolderOf(name), recursive: true);
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public IDevice Connect(string name) =>
        File.Exists(PathOf(name))
        && JsonSerializer.Deserialize(File.ReadAllText(PathOf(name)), AgentMessageJson.Default.DeviceAccess) is { } access
            ? Connect(name, access)
            : throw new BeaconProblem(
                ProblemCode.NotFound,
                $"This agent does not know how to get into {name}.",
                $"Tell it again: beacon device add {name}."
            );

    public IDevice Connect(string name, DeviceAccess access) =>
        access.Kind == Appliance.Kind
            ? new Appliance(access)
            : new ShellDevice(_kinds.Get(access.Kind), new(SshAddress.Parse(access.Address), name, FolderOf(name)), access, clock);
}
