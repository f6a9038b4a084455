using System.CommandLine;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>An offline root, from founding to renewal: no service, no network, everything in one folder.</summary>
internal static class CeremonyCommands
{
    public static IEnumerable<Command> All() =>
        [
            new("ceremony", "An offline root: create it, sign with it, keep it. Needs no service and no network.")
            {
                MakeRoot.Found(),
                MakeRoot.Adopt(),
                KeepRoot.Show(),
                SignWithRoot.Sign(),
                KeepRoot.Revoke(),
                KeepRoot.IssueCrl(),
                KeepRoot.Renew(),
                RecoveryKeyCommand.Make(),
            },
        ];
}
