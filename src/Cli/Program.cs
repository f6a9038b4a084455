using System.CommandLine;
using OrderlyBeacon.Cli.Ceremonies;
using OrderlyBeacon.Cli.Commands;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

internal static class Program
{
    public const string Version = BuildFacts.Version;

    /// <summary>On every read.</summary>
    public static Option<bool> Json { get; } = new("--json") { Description = "Print the service's answer as JSON.", Recursive = true };

    public static async Task<int> Main(string[] args)
    {
        if (args is ["--version"])
        {
            // Asked by scripts often: nothing else is loaded for it.
            Console.Out.WriteLine(Version);
            return 0;
        }
        var root = new RootCommand("Orderly Beacon's client: certificates for every server, from request to renewal.") { Json };
        foreach (
            var c in TodayCommands
                .All()
                .Concat(HostCommands.All())
                .Concat(RequestCommands.All())
                .Concat(ProfileCommands.All())
                .Concat(BackupCommand.All())
                .Concat(CertificateCommands.All())
                .Concat(AuthorityCommands.All())
                .Concat(SessionCommands.All())
                .Concat(CeremonyCommands.All())
        )
            root.Add(c);
        var parsed = root.Parse(args);
        var code = await parsed.InvokeAsync();
        return parsed.Errors.Count > 0 ? ExitCodes.Usage : code;
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
