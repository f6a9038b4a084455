using System.CommandLine;
using System.Text;
using Microsoft.Win32.SafeHandles;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>Asks for what nobody shall see.</summary>
internal static class Secrets
{
    public static readonly Option<int?> PassphraseFd = new("--passphrase-fd")
    {
        Description = "Read the passphrase from this file descriptor; otherwise it is asked for, unseen.",
    };

    public static string Passphrase(ParseResult r, string prompt, bool twice)
    {
        if (r.GetValue(PassphraseFd) is { } fd)
        {
            try
            {
                using var stream = new FileStream(new SafeFileHandle(fd, ownsHandle: false), FileAccess.Read);
                using var reader = new StreamReader(stream, Encoding.UTF8);
                return reader.ReadLine() is { Length: > 0 } line
                    ? line
                    : throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"Nothing came from file descriptor {fd}.",
                        "Open it for the command, as in --passphrase-fd 3 3<file."
                    );
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or ArgumentException)
            {
                throw new BeaconProblem(
                    ProblemCode.InputInvalid,
                    $"File descriptor {fd} cannot be read.",
                    "Open it for the command, as in --passphrase-fd 3 3<file."
                );
            }
        }
        var first = Ask(prompt, "--passphrase-fd N");
        if (twice && Ask("Once more: ", "--passphrase-fd N") != first)
            throw new BeaconProblem(ProblemCode.InputInvalid, "The two are not the same; nothing was made.", "Begin again.");
        return first;
    }

    /// <param name="otherwise">The option to give where there is no terminal.</param>
    public static string Ask(string prompt, string otherwise)
    {
        if (Console.IsInputRedirected)
            throw new BeaconProblem(ProblemCode.InputInvalid, "There is no terminal to ask at.", $"Give {otherwise}.");
        Console.Error.Write(prompt);
        var text = new StringBuilder();
        while (Console.ReadKey(intercept: true) is { Key: not ConsoleKey.Enter } k)
            if (k.Key == ConsoleKey.Backspace)
            {
                if (text.Length > 0)
                    text.Length--;
            }
            else if (!char.IsControl(k.KeyChar))
                text.Append(k.KeyChar);
        Console.Error.WriteLine();
        return text.ToString();
    }
}
