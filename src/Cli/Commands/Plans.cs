using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>What an order would change, shown before it is made.</summary>
internal static class Plans
{
    public static int Preview(string text, bool json)
    {
        if (json)
        {
            Json(text);
            return 0;
        }
        var plan = Api.Read(text, BeaconJson.Default.OrderInfo).Plan!;
        foreach (var s in plan.Steps)
            Hanging("· ", 2, s);
        foreach (var w in plan.Warnings)
            Hanging(Yellow("◐") + " ", 2, w);
        foreach (var c in plan.Changes)
        {
            Line();
            Rich(Bold(c.Path));
            Diff(c.Diff);
        }
        if (plan.Changes.Count == 0)
            Line("No file changes.");
        Line();
        Line("Nothing was changed. Leave out --preview to do it.");
        return 0;
    }
}
