using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Devices that a host's agent reaches.</summary>
internal static class DeviceCommands
{
    public static IEnumerable<Command> All() => [new("device", "Devices without an agent, reached by that of a host.") { Add() }];

    private static Command Add()
    {
        var name = new Argument<string>("name") { Description = "The device's full name, as its users call it." };
        var via = new Option<string>("--via") { Description = "The host whose agent reaches it.", Required = true };
        var kind = new Option<string>("--kind")
        {
            Description = "What it is: appliance; or one with a shell that the agent knows, as hypervisor or panel.",
            DefaultValueFactory = _ => "appliance",
        };
        var address = new Option<string>("--address")
        {
            Description = "Where its keepers' API or its shell is, as https://HOST:PORT or ssh://ACCOUNT@HOST:PORT.",
            Required = true,
        };
        var token = new Option<string?>("--token-file")
        {
            Description = "File with the token of a keeper of an appliance. It is sealed to the agent; the service cannot read it.",
        };
        var port = new Option<int?>("--port")
        {
            Description = "Where clients come to a device with a shell, when it is not the port of its kind.",
        };
        var fingerprint = new Option<string?>("--fingerprint")
        {
            Description =
                "SHA-256 of the certificate or host key that the device shows. Left out, nothing is sent to it, and the agent says which it is.",
        };
        var owner = new Option<string?>("--owner") { Description = "Who may request for it: a person's name, or group:NAME." };
        var add = new Command("add", "Say that a device is there and how an agent gets into it; again, to change it.")
        {
            name,
            via,
            kind,
            address,
            token,
            fingerprint,
            port,
            owner,
        };
        add.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var host = await Sealed.HostAsync(api, r.GetValue(via)!, ct);
                var access = new DeviceAccess(
                    r.GetValue(kind)!,
                    r.GetValue(address)!,
                    r.GetValue(token) is { } file ? (await File.ReadAllTextAsync(file, ct)).Trim() : null,
                    r.GetValue(fingerprint)
                )
                {
                    Port = r.GetValue(port),
                };
                var wish = new DeviceWish(
                    host.Host.Name,
                    access.Kind,
                    access.Address,
                    Sealed.To(host, SealPurpose.Device, JsonSerializer.SerializeToUtf8Bytes(access, BeaconJson.Default.DeviceAccess)),
                    r.GetValue(owner)
                );
                var text = await api.PutAsync(
                    $"/api/v1/hosts/{Api.Escape(r.GetValue(name)!)}/device",
                    wish,
                    BeaconJson.Default.DeviceWish,
                    ct
                );
                var order = Api.Read(text, BeaconJson.Default.OrderAccepted).Order;
                return await Progress.FollowAsync(
                    api,
                    order,
                    $"{r.GetValue(name)} is reached by {host.Host.Name}. Request for it: beacon request new --host {r.GetValue(name)} --name {r.GetValue(name)}",
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return add;
    }
}
