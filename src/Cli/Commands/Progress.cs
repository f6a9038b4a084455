using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Follows an order to its end, a line for each step.</summary>
internal static class Progress
{
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(2);

    public static async Task<int> FollowAsync(Api api, long order, string success, bool json, CancellationToken ct)
    {
        var shown = 0;
        var until = DateTimeOffset.UtcNow + Patience;
        while (true)
        {
            var text = await api.TextAsync($"/api/v1/orders/{order}", ct);
            var o = Api.Read(text, BeaconJson.Default.OrderInfo);
            if (!json)
                foreach (var s in o.Steps.Skip(shown))
                    Hanging($"  {Grey("·")} ", 4, s);
            shown = Math.Max(shown, o.Steps.Count);
            switch (o.State)
            {
                case OrderState.Done
                    when o.Kind == OrderKind.Prepare && await Rollovers.FollowAsync(api, o, success, json, until, ct) is { } code:
                    return code;
                case OrderState.Done:
                    if (json)
                    {
                        Json(text);
                        return 0;
                    }
                    ShowDone(o, success);
                    return ExitCodes.Done;
                case OrderState.Failed or OrderState.Cancelled:
                    if (json)
                    {
                        Json(text);
                        return ExitCodes.Failed;
                    }
                    Rich(
                        o.State == OrderState.Cancelled ? $"{Yellow("◐")} The order was cancelled." : $"{Red("✕")} {(o.Problem?.Message)}"
                    );
                    if (o.Problem?.Cure is { Length: > 0 } cure)
                        Hanging("  ", 2, $"{Grey("Cure:")} " + cure);
                    return ExitCodes.Failed;
            }
            if (DateTimeOffset.UtcNow > until)
            {
                await Console.Error.WriteLineAsync(
                    $"beacon: order {order} goes on; {o.Host} has not finished it yet. See it on the certificate: beacon cert show {o.Certificate}"
                );
                return ExitCodes.Waiting;
            }
            await Task.Delay(200, ct);
        }
    }

    private static void ShowDone(OrderInfo o, string success)
    {
        // The key is made, and an authority outside is to be asked: nothing is in place yet.
        Rich(
            o switch
            {
                { Kind: OrderKind.Prepare, Request: { } request } => (Ink)
                    $"{Yellow("◐")} The key is made. Hand in the CSR: beacon request csr {request}. Then bring the answer: beacon request answer FILE",
                { Kind: OrderKind.Obtain, Device: { } device } => $"{Green("○")} {o.Certificate} is on {device}.",
                _ => $"{Green("○")} {success}",
            }
        );
        foreach (var l in o.Looks)
            Hanging(
                "  ",
                2,
                l.Accepted
                    ? $"Clients accept it: {l.ServerName} at {l.Address}:{l.Port}, {l.Protocol}, serial {l.Served?.Serial}."
                    : $"{l.ServerName} at {l.Address}:{l.Port}: {l.Problems.FirstOrDefault()?.Reason}"
            );
    }
}
