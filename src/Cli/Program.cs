using System.CommandLine;
using System.CommandLine.Parsing;
using OrderlyBeacon.Cli.Ceremonies;
using OrderlyBeacon.Cli.Commands;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

internal static class Program
{
    public const string Version = BuildFacts.Version;

    /// <summary>On every read.</summary>
    public static Option<bool> Json { get; } = new("--json") { Description = "Print the service's answer as JSON.", Recursive = true };

    /// <summary>Commands that are made together.</summary>
    /// <param name="Verbs">What they are called; a test sees to it.</param>
    internal sealed record Group(string[] Verbs, Func<IEnumerable<Command>> Make);

    internal static readonly Group[] Groups =
    [
        new(["status", "lookahead", "look"], TodayCommands.All),
        new(["host", "service"], HostCommands.All),
        new(["bind", "unbind", "require-tls"], BindingCommands.All),
        new(["request"], RequestCommands.All),
        new(["profile"], ProfileCommands.All),
        new(["directory"], DirectoryCommands.All),
        new(["store"], StoreCommands.All),
        new(["sweep"], SweepCommands.All),
        new(["mail"], MailCommand.All),
        new(["federation"], FederationCommands.All),
        new(["trust"], TrustCommands.All),
        new(["outside"], OutsideCommands.All),
        new(["device"], DeviceCommands.All),
        new(["backup"], BackupCommand.All),
        new(["cert", "inspect"], CertificateCommands.All),
        new(["authority", "journal"], AuthorityCommands.All),
        new(["sign-in", "sign-out", "person", "consent", "completion"], SessionCommands.All),
        new(["ceremony"], CeremonyCommands.All),
    ];

    public static async Task<int> Main(string[] args)
    {
        if (args is ["--version"])
        {
            // Asked by scripts often: nothing else is loaded for it.
            Console.Out.WriteLine(Version);
            return 0;
        }
        var root = new RootCommand("Orderly Beacon's client: certificates for every server, from request to renewal.") { Json };
        // Most calls name their command: the others are made only for help, completion and what was mistyped.
        var meant = args.Length == 0 ? null : Array.Find(Groups, g => g.Verbs.Contains(args[0]));
        foreach (var group in meant is null ? Groups : [meant])
        foreach (var c in group.Make())
            root.Add(c);
        RefuseUnknownOptions(root);
        var parsed = root.Parse(args);
        if (Mistakes.Say(parsed))
            return ExitCodes.Usage;
        var code = await parsed.InvokeAsync();
        return parsed.Errors.Count > 0 ? ExitCodes.Usage : code;
    }

    /// <summary>What takes words would take an option that is mistyped for one of them.</summary>
    private static void RefuseUnknownOptions(Command command)
    {
        foreach (var option in command.Options.Where(o => o.AllowMultipleArgumentsPerToken))
            option.Validators.Add(r => Refuse(r, r.Tokens));
        foreach (var argument in command.Arguments)
            argument.Validators.Add(r => Refuse(r, r.Tokens));
        foreach (var inner in command.Subcommands)
            RefuseUnknownOptions(inner);

        static void Refuse(SymbolResult result, IReadOnlyList<Token> words)
        {
            foreach (var word in words.Where(t => t.Value.StartsWith("--", StringComparison.Ordinal)))
                result.AddError($"{word.Value} is no option of this command.");
        }
    }

    /// <summary>Runs a command's work: problems become a message with its cure and an exit code.</summary>
    public static void Does(this Command command, Func<ParseResult, CancellationToken, Task<int>> work) =>
        command.SetAction(
            async (r, ct) =>
            {
                try
                {
                    return await work(r, ct);
                }
                catch (BeaconProblem p)
                {
                    Screen.Problem(p);
                    return ExitCodes.Of(p.Code);
                }
                catch (OperationCanceledException)
                {
                    await Console.Error.WriteLineAsync("beacon: stopped; what was ordered goes on by itself.");
                    return ExitCodes.Waiting;
                }
                catch (System.Text.Json.JsonException e)
                {
                    Screen.Problem(
                        new(
                            ProblemCode.Internal,
                            "What came back is not what this client understands: " + e.Message.Split(" Path:")[0],
                            "Use the client that came with the service: beacon --version."
                        )
                    );
                    return ExitCodes.Failed;
                }
                catch (Exception e) when (e is IOException or UnauthorizedAccessException)
                {
                    Screen.Problem(new(ProblemCode.CannotWrite, e.Message, "Check the file and its folder."));
                    return ExitCodes.Usage;
                }
                catch (Exception e)
                {
                    Screen.Problem(Unexpected.Keep(e));
                    return ExitCodes.Failed;
                }
            }
        );
}
