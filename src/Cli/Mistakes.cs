using System.CommandLine;
using System.CommandLine.Invocation;
using System.CommandLine.Parsing;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>What was typed wrong, in words: a value that is none of its kind, or out of its range; a command or an option that is not there.</summary>
internal static class Mistakes
{
    /// <summary>An option for how many rows a list shows at most.</summary>
    public static Option<int?> Most() => AtLeastOne(new Option<int?>("--most") { Description = "No more than this many." });

    /// <param name="usual">How many when nothing is said.</param>
    public static Option<int> Most(int usual) =>
        AtLeastOne(new Option<int>("--most") { Description = "No more than this many.", DefaultValueFactory = _ => usual });

    private static T AtLeastOne<T>(T option)
        where T : Option
    {
        option.Validators.Add(r =>
        {
            if (r.Tokens is [{ Value: var said }] && int.TryParse(said, out var n) && n < 1)
                r.AddError($"{option.Name} is {n}, and wants 1 or more.");
        });
        return option;
    }

    /// <summary>Says it when nothing else can: false leaves it to the library.</summary>
    public static bool Say(ParseResult parsed)
    {
        if (parsed.Action is not ParseErrorAction)
            return false;
        if (parsed.UnmatchedTokens is [var first, ..])
        {
            Screen.Problem(NotThere(first, parsed));
            return true;
        }
        // A command that wants another one behind it gets its help.
        if (parsed.Errors.Any(e => e.SymbolResult is not (OptionResult or ArgumentResult)))
            return false;
        var said = parsed.Errors.Select(WordsOf).Distinct();
        Screen.Problem(new(ProblemCode.InputInvalid, string.Join(' ', said), $"See {NameOf(parsed.CommandResult)} --help."));
        return true;
    }

    /// <param name="first">What no command and no argument takes.</param>
    private static BeaconProblem NotThere(string first, ParseResult parsed)
    {
        var name = NameOf(parsed.CommandResult);
        var others = parsed.CommandResult.Command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name).ToList();
        if (others.Count > 0 && !first.StartsWith('-'))
        {
            var cure = Spelling.Closest(first, others) is { } near
                ? $"Did you mean {name} {near}?"
                : $"Use one of {string.Join(", ", others)}.";
            return new(ProblemCode.InputInvalid, $"\"{first}\" is no command of {name}.", $"{cure} See {name} --help.");
        }
        // An option that is not there is taken for a word that the command wants, and what it was given for one too many.
        var option = parsed.Tokens.Where(t => t.Type == TokenType.Argument).Select(t => t.Value).FirstOrDefault(v => v.StartsWith('-'));
        return option is null
            ? new(ProblemCode.InputInvalid, $"\"{first}\" is one word too many for {name}.", $"See {name} --help.")
            : new(ProblemCode.InputInvalid, $"{option} is no option of this command.", $"See {name} --help.");
    }

    private static string WordsOf(ParseError error)
    {
        var (place, type) = error.SymbolResult switch
        {
            OptionResult o => (o.Option.Name, o.Option.ValueType),
            ArgumentResult { Parent: OptionResult o } => (o.Option.Name, o.Option.ValueType),
            ArgumentResult a => ($"<{a.Argument.Name}>", a.Argument.ValueType),
            _ => throw new InvalidOperationException("a mistake in no value"),
        };
        var values = error.SymbolResult.Tokens.Select(t => t.Value).ToList();
        if (values.Count == 0)
            return error.SymbolResult is OptionResult { IdentifierToken: not null } ? $"{place} wants a value." : $"{place} is missing.";
        // Where only some words are taken, the library says so in a line, and they follow it.
        if (error.Message.Split('\n', StringSplitOptions.TrimEntries) is [[.., ':'] refused, .. { Length: > 0 } permitted])
        {
            var said = values.Find(v => refused.Contains($"'{v}'", StringComparison.Ordinal));
            return $"{place} is \"{said}\", and wants one of {string.Join(", ", permitted.Select(p => p.Trim('\'')))}.";
        }
        var unread = values.Find(v => error.Message.Contains($"'{v}'", StringComparison.Ordinal));
        return unread is null || KindOf(type) is not { } kind ? error.Message : $"{place} is \"{unread}\", and wants {kind}.";
    }

    private static string? KindOf(Type type) =>
        (Nullable.GetUnderlyingType(type) ?? type) switch
        {
            var t when t == typeof(int) || t == typeof(long) => "a whole number",
            var t when t == typeof(double) => "a number",
            _ => null,
        };

    private static string NameOf(CommandResult command) =>
        command.Parent is CommandResult outer ? $"{NameOf(outer)} {command.Command.Name}" : "beacon";
}
