using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>What changes a service: its certificate, and whether it can be used without TLS.</summary>
internal static class BindingCommands
{
    public static IEnumerable<Command> All() => [Bind(), Unbind(), RequireTls()];

    private static Command Bind()
    {
        var certificate = new Argument<string>("certificate") { Description = "The certificate's name." };
        var to = new Option<string>("--to") { Description = "The service: HOST/NAME.", Required = true };
        var port = new Option<int?>("--port") { Description = "Port for the new TLS listener." };
        var preview = new Option<bool>("--preview") { Description = "Show what would change; change nothing." };
        var leaveOut = LeaveOut();
        var bind = new Command("bind", "Put a certificate into a service.") { certificate, to, port, leaveOut, preview };
        bind.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var s = await HostCommands.FindAsync(api, r.GetValue(to)!, ct);
                var path = $"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}";
                var wish = new BindWish(r.GetValue(certificate), r.GetValue(port)) { LeaveOut = r.GetValue(leaveOut) };
                if (r.GetValue(preview))
                    return await PreviewAsync(api, path, wish, r.GetValue(Program.Json), ct);
                var order = Api.Read(
                    await api.PostAsync(path + "/binding", wish, BeaconJson.Default.BindWish, ct),
                    BeaconJson.Default.OrderAccepted
                ).Order;
                return await Progress.FollowAsync(
                    api,
                    order,
                    $"{s.Host.Split('.')[0]}/{s.Name} serves {r.GetValue(certificate)}.",
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return bind;
    }

    public static Option<string[]> LeaveOut() =>
        new("--leave-out")
        {
            Description = "A name of the service that the certificate may lack: clients that use it will refuse it. Repeat it for more.",
        };

    private static Command Unbind()
    {
        var which = new Argument<string>("service") { Description = "HOST/NAME." };
        var preview = new Option<bool>("--preview") { Description = "Show what would change; change nothing." };
        var unbind = new Command("unbind", "Put a service back as it was before it was bound.") { which, preview };
        unbind.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var s = await HostCommands.FindAsync(api, r.GetValue(which)!, ct);
                var path = $"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}";
                if (r.GetValue(preview))
                    return await PreviewAsync(api, path, new(null, null), r.GetValue(Program.Json), ct);
                using var answer = await api.ProvenAsync(() => new(HttpMethod.Delete, path + "/binding"), ct);
                var order = Api.Read(await answer.Content.ReadAsStringAsync(ct), BeaconJson.Default.OrderAccepted).Order;
                return await Progress.FollowAsync(
                    api,
                    order,
                    $"{s.Host.Split('.')[0]}/{s.Name} is as it was before.",
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return unbind;
    }

    private static Command RequireTls()
    {
        var which = new Argument<string>("service") { Description = "HOST/NAME." };
        var undo = new Option<bool>("--undo") { Description = "Allow clear text again, where it was ended from here." };
        var preview = new Option<bool>("--preview") { Description = "Show what would change; change nothing." };
        var require = new Command(
            "require-tls",
            "End what a service lets pass without TLS. Its agent tries it without afterwards; where that still works, everything is put back."
        )
        {
            which,
            undo,
            preview,
        };
        require.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var s = await HostCommands.FindAsync(api, r.GetValue(which)!, ct);
                var path = $"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}/tls-required";
                var wish = new TlsWish(!r.GetValue(undo));
                if (r.GetValue(preview))
                    return Plans.Preview(
                        await api.PostAsync(path + "/plan", wish, BeaconJson.Default.TlsWish, ct),
                        r.GetValue(Program.Json)
                    );
                using var answer = await api.ProvenAsync(() => new(wish.Required ? HttpMethod.Put : HttpMethod.Delete, path), ct);
                var order = Api.Read(await answer.Content.ReadAsStringAsync(ct), BeaconJson.Default.OrderAccepted).Order;
                var about = $"{s.Host.Split('.')[0]}/{s.Name}";
                return await Progress.FollowAsync(
                    api,
                    order,
                    wish.Required ? $"{about} requires TLS." : $"{about} can be used without TLS again.",
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return require;
    }

    private static async Task<int> PreviewAsync(Api api, string path, BindWish wish, bool json, CancellationToken ct) =>
        Plans.Preview(await api.PostAsync(path + "/plan", wish, BeaconJson.Default.BindWish, ct), json);
}
