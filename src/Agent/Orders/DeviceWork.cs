using OrderlyBeacon.Agent.Devices;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Does orders about devices that this agent reaches: the key is made on the device and stays there.</summary>
/// <param name="sign">Sends a CSR to the service, which answers with the order's edition.</param>
internal sealed class DeviceWork(DeviceBook devices, Func<long, string, CancellationToken, Task<OrderEdition>> sign, TimeProvider clock)
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
        using var device = devices.Connect(order.Device!, access);
        step(await device.GreetAsync(ct));
        // Only what works is kept.
        devices.Keep(order.Device!, access);
    }

    public async Task<IReadOnlyList<LookReport>> ObtainAsync(Order order, Action<string> step, CancellationToken ct)
    {
        using var device = devices.Connect(order.Device!);
        var subject = string.IsNullOrEmpty(order.Subject) ? DistinguishedName.Empty : DistinguishedName.Parse(order.Subject);
        var request = new DeviceRequest(order.Id, subject, [.. order.Names!.Select(AlternativeName.Parse)], KeySpec.Parse(order.Key!));
        step("the device makes the key and the request");
        var csr = await device.RequestAsync(request, ct);
        step("the authority signs");
        var edition = await sign(order.Id, csr, ct);
        var root = Armor.Write(Armor.Certificate, Convert.FromBase64String(order.Anchors![0]));
        await device.InstallAsync(request, edition.Chain, root, step, ct);
        if (await LookAsync(device, order, edition.Serial, ct) is not { } looks)
            throw await NotServedAsync(device, request, order, step, ct);
        if (looks.Count > 0)
            step($"{order.Device} serves it at {looks[0].Address}:{looks[0].Port}");
        await device.ConfirmAsync(request, ct);
        return looks;
    }

    private static async Task<BeaconProblem> NotServedAsync(
        IDevice device,
        DeviceRequest request,
        Order order,
        Action<string> step,
        CancellationToken ct
    )
    {
        var front = await device.FrontAsync(ct);
        var seen = $"{order.Device} has the answer, and does not serve it at {front?.Address}:{front?.Port}.";
        step("it is not served; the device gets back what it had");
        return await device.TakeBackAsync(request, ct)
            ? new(
                ProblemCode.SwapUndone,
                $"{seen} It runs with what it had.",
                "Look at the device which certificate its listener uses; then repeat."
            )
            : new(ProblemCode.SwapUndone, seen, "Look at the device itself which certificate its listener uses.");
    }

    /// <summary>What clients meet counts, not what the device says.</summary>
    /// <returns>Empty when the device does not say where; null when something else is served.</returns>
    private async Task<IReadOnlyList<LookReport>?> LookAsync(IDevice device, Order order, string serial, CancellationToken ct)
    {
        if (await device.FrontAsync(ct) is not { } front)
            return [];
        var name = order.Names!.FirstOrDefault(n => !n.Contains(':') && !n.StartsWith('*')) ?? order.Device!;
        LookReport? look = null;
        for (var i = 0; i < Looks; i++)
        {
            look = await TlsProbe.LookAsync(new(front.Address, front.Port, name, front.Protocol), clock, ct);
            if (look.Chain.Count > 0 && Core.Issuing.X509.Read(Convert.FromBase64String(look.Chain[0])).Serial.Hex == serial)
                return [look];
            await Task.Delay(TimeSpan.FromMilliseconds(250), clock, ct);
        }
        return null;
    }
}
