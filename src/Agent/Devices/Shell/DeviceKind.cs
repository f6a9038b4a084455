using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>Who makes a device's private key.</summary>
internal enum KeyMaker
{
    /// <summary>The device, with its own openssl; where there is none, the agent.</summary>
    OnDevice,

    /// <summary>The agent, which sends it with the answer.</summary>
    ByAgent,
}

/// <summary>What may stand in a file of a device.</summary>
internal enum DevicePart
{
    Key,
    Leaf,
    Intermediates,
    Root,
}

/// <summary>A file that a device reads.</summary>
/// <param name="Holds">In this order.</param>
/// <param name="Mode">As <c>0600</c>.</param>
/// <param name="Owner">As <c>www:www</c>; null for whoever the shell runs as.</param>
internal sealed record DeviceFile(string Path, IReadOnlyList<DevicePart> Holds, string Mode, string? Owner);

/// <summary>A kind of device with a shell: <c>Kinds/device.schema.json</c> says what each field means.</summary>
internal sealed record DeviceKind(string Kind, string Title, IReadOnlyList<DeviceFile> Files, string Restart, int Port)
{
    public string Shell { get; init; } = "sh -s";
    public KeyMaker Key { get; init; } = KeyMaker.OnDevice;
    public string Folder { get; init; } = "/var/lib/beacon-device";
    public string? Test { get; init; }
    public ProbeProtocol Protocol { get; init; } = ProbeProtocol.Tls;
    public int Kept { get; init; } = 3;
}
