using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Devices;

/// <summary>What a device is asked to make a key for.</summary>
/// <param name="Order">Done again after a kill, an order is the same request.</param>
internal sealed record DeviceRequest(long Order, DistinguishedName Subject, IReadOnlyList<AlternativeName> Names, KeySpec Key)
{
    /// <summary>What it is called on the device.</summary>
    public string Label => $"beacon-{Order}";
}

/// <summary>Where clients come to a device.</summary>
internal sealed record DeviceFront(string Address, int Port, ProbeProtocol Protocol);

/// <summary>
/// A device whose certificate an agent looks after from afar: <see cref="RequestAsync"/>, then <see cref="InstallAsync"/>; after the look <see cref="ConfirmAsync"/> or
/// <see cref="TakeBackAsync"/>. Each may be killed and done again with the same request.
/// </summary>
internal interface IDevice : IDisposable
{
    /// <summary>Asks whether one gets in, and what it is.</summary>
    /// <returns>What it says of itself, for people.</returns>
    Task<string> GreetAsync(CancellationToken ct);

    /// <summary>Has a key and a CSR made; done again, it gives the same.</summary>
    /// <returns>The CSR, PEM.</returns>
    Task<string> RequestAsync(DeviceRequest request, CancellationToken ct);

    /// <summary>Puts the answer in place, in the order that it wants. Done again, it changes nothing; when it fails, the device runs with what it had.</summary>
    /// <param name="chain">Leaf first, PEM.</param>
    /// <param name="root">The trust anchor, PEM.</param>
    Task InstallAsync(DeviceRequest request, string chain, string root, Action<string> step, CancellationToken ct);

    /// <summary>Where clients come to it, to look whether it serves what was installed; null when it does not say.</summary>
    Task<DeviceFront?> FrontAsync(CancellationToken ct);

    /// <summary>It was seen: what would put the old one back goes.</summary>
    Task ConfirmAsync(DeviceRequest request, CancellationToken ct);

    /// <summary>It was not seen: puts the old one back, where the device can.</summary>
    /// <returns>Whether the device runs with what it had.</returns>
    Task<bool> TakeBackAsync(DeviceRequest request, CancellationToken ct);
}
