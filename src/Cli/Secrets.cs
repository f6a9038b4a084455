using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>Asks for what nobody shall see.</summary>
internal static class Secrets
{
    /// <param name="otherwise">The option to give where there is no terminal.</param>
    public static string Ask(string prompt, string otherwise)
    {
        if (Console.IsInputRedirected) throw new BeaconProblem(ProblemCode.InputInvalid, "There is no terminal to ask at.", $"Give {otherwise}.");
        Console.Error.Write(prompt);
        var text = new StringBuilder();
        while (Console.ReadKey(intercept: true) is { Key: not ConsoleKey.Enter } k)
            if (k.Key == ConsoleKey.Backspace) { if (text.Length > 0) text.Length--; }
            else if (!char.IsControl(k.KeyChar)) text.Append(k.KeyChar);
        Console.Error.WriteLine();
        return text.ToString();
    }
}
