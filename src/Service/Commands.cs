using System.CommandLine;
using OrderlyBeacon.Service.Keeping;

namespace OrderlyBeacon.Service;

/// <summary>What <c>beacond</c> does when it is given words; without any it serves, by its settings alone.</summary>
internal static class Commands
{
    public static Task<int> RunAsync(string[] args)
    {
        var root = new RootCommand(
            "The service of Orderly Beacon. Without a command it serves until it is stopped. Its settings are variables BEACON_NAME, or lie beside it in appsettings.json: see docs/guide/service.md."
        )
        {
            RestoreCommand.Make(),
        };
        return root.Parse(args).InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
    }
}
