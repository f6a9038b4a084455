using System.CommandLine;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
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
        var undo = new Option<bool>("--undo") { Description = "Put back what was required from here: clear text, and old versions." };
        var preview = new Option<bool>("--preview") { Description = "Show what would change; change nothing." };
        var lowest = new Option<string?>("--lowest")
        {
            Description = "End older versions of TLS instead: 1.2 or 1.3. Clear text stays as it is.",
            HelpName = "VERSION",
        };
        lowest.AcceptOnlyFromAmong("1.2", "1.3");
        var require = new Command(
            "require-tls",
            "End what a service lets pass without TLS. Its agent tries it without afterwards; where that still works, everything is put back."
        )
        {
            which,
            lowest,
            undo,
            preview,
        };
        require.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var s = await HostCommands.FindAsync(api, r.GetValue(which)!, ct);
                var path = $"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}/tls-required";
                var wish = new TlsWish(!r.GetValue(undo)) { Lowest = LowestOf(r.GetValue(lowest)) };
                if (wish is { Required: false, Lowest: not null })
                    throw new BeaconProblem(ProblemCode.InputInvalid, "--undo puts back all of it, versions too.", "Leave --lowest out.");
                if (r.GetValue(preview))
                    return Plans.Preview(
                        await api.PostAsync(path + "/plan", wish, BeaconJson.Default.TlsWish, ct),
                        r.GetValue(Program.Json)
                    );
                using var answer = await api.ProvenAsync(() => Change(s, wish), ct);
                var order = Api.Read(await answer.Content.ReadAsStringAsync(ct), BeaconJson.Default.OrderAccepted).Order;
                return await Progress.FollowAsync(
                    api,
                    order,
                    Outcome($"{s.Host.Split('.')[0]}/{s.Name}", wish),
                    r.GetValue(Program.Json),
                    ct
                );
            }
        );
        return require;
    }

    private static LowestTls? LowestOf(string? version) =>
        version switch
        {
            "1.2" => LowestTls.Tls12,
            "1.3" => LowestTls.Tls13,
            _ => null,
        };

    private static HttpRequestMessage Change(ServiceInfo s, TlsWish wish)
    {
        var path = $"/api/v1/services/{s.Host}/{Api.Escape(s.Name)}";
        return wish.Lowest is { } lowest
            ? new(HttpMethod.Put, path + "/lowest-version") { Content = JsonBody.Of(new(lowest), BeaconJson.Default.LowestWish) }
            : new(wish.Required ? HttpMethod.Put : HttpMethod.Delete, path + "/tls-required");
    }

    private static string Outcome(string about, TlsWish wish) =>
        wish switch
        {
            { Lowest: { } lowest } => $"{about} takes no version below {TlsVersions.NameOf(lowest)}.",
            { Required: true } => $"{about} requires TLS.",
            _ => $"{about} is as it was before TLS was required of it.",
        };

    private static async Task<int> PreviewAsync(Api api, string path, BindWish wish, bool json, CancellationToken ct) =>
        Plans.Preview(await api.PostAsync(path + "/plan", wish, BeaconJson.Default.BindWish, ct), json);
}
