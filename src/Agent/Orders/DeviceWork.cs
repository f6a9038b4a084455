using OrderlyBeacon.Agent.Devices;
using OrderlyBeacon.Agent.Probes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Does orders about devices that this agent reaches: the key is made on the device and stays there.</summary>
internal sealed class DeviceWork(DeviceBook devices, ServiceClient beacon, TimeProvider clock)
{
    private const int Looks = 20;

    public async Task KeepAsync(Order order, Action<string> step, CancellationToken ct)
    {
        if (order.Sealed is not { } sealedAccess)
        {
            devices.Forget(order.Device!);
            step($"how to get into {order.Device} is forgotten");
            return;
        }
        var access = devices.Open(sealedAccess);
        using var device = DeviceBook.Connect(access);
        step(await device.GreetAsync(ct));
        // Only what works is kept.
        devices.Keep(order.Device!, access);
    }

    public async Task<IReadOnlyList<LookReport>> ObtainAsync(Order order, Action<string> step, CancellationToken ct)
    {
        using var device = devices.Connect(order.Device!);
        // One label for each order: done again after a kill, it is the same request.
        var label = $"beacon-{order.Id}";
        step("the device makes the key and the request");
        var csr = await device.RequestAsync(label, order.Subject ?? "", order.Names ?? [], order.Key!, ct);
        step("the authority signs");
        var edition = await beacon.CsrAsync(order.Id, csr, ct);
        var root = Armor.Write(Armor.Certificate, Convert.FromBase64String(order.Anchors![0]));
        await device.InstallAsync(label, edition.Chain, root, step, ct);
        return await LookAsync(device, order, edition.Serial, step, ct);
    }

    /// <summary>What clients meet counts, not what the device says.</summary>
    private async Task<IReadOnlyList<LookReport>> LookAsync(
        IDevice device,
        Order order,
        string serial,
        Action<string> step,
        CancellationToken ct
    )
    {
        if (await device.FrontAsync(ct) is not var (address, port))
            return [];
        var name = order.Names!.FirstOrDefault(n => !n.Contains(':') && !n.StartsWith('*')) ?? order.Device!;
        LookReport? look = null;
        for (var i = 0; i < Looks; i++)
        {
            look = await TlsProbe.LookAsync(new(address, port, name, ProbeProtocol.Tls), clock, ct);
            if (look.Chain.Count > 0 && Core.Issuing.X509.Read(Convert.FromBase64String(look.Chain[0])).Serial.Hex == serial)
            {
                step($"{order.Device} serves it at {address}:{port}");
                return [look];
            }
            await Task.Delay(TimeSpan.FromMilliseconds(250), clock, ct);
        }
        throw new BeaconProblem(
            ProblemCode.SwapUndone,
            $"{order.Device} has committed the answer, and does not serve it at {address}:{port}.",
            "Look at the device itself which certificate its listener uses."
        );
    }
}
