using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Nginx;

/// <summary>One directive with its place in the text: everything between the places is left as it is.</summary>
/// <param name="Args">Arguments without their quotes.</param>
/// <param name="Start">Index of the name.</param>
/// <param name="End">Index after the semicolon or the closing brace.</param>
/// <param name="ArgSpans">Places of the arguments, quotes included.</param>
/// <param name="Children">What is inside the braces; null without a block.</param>
/// <param name="BodyEnd">Index of the closing brace, or of the semicolon.</param>
internal sealed record Directive(
    string Name,
    IReadOnlyList<string> Args,
    int Start,
    int End,
    IReadOnlyList<(int Start, int End)> ArgSpans,
    IReadOnlyList<Directive>? Children,
    int BodyEnd,
    int Line
)
{
    public IEnumerable<Directive> Named(string name) => (Children ?? []).Where(c => c.Name == name);
}

/// <summary>A configuration file taken apart.</summary>
internal sealed record NginxFile(string Path, string Text, IReadOnlyList<Directive> Directives);

/// <summary>
/// Reads nginx's configuration language: words, single and double quotes, backslashes, comments, blocks, and the raw blocks of scripting modules.
/// </summary>
internal static class NginxSyntax
{
    public const int MaxBytes = 4 << 20;
    private const int MaxDepth = 32;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    public static NginxFile Read(string path, string text)
    {
        if (text.Length > MaxBytes)
            throw new BeaconProblem(ProblemCode.TooLarge, $"{path} is larger than 4 MiB.", "Split the file.");
        var reader = new Reader(path, text);
        var list = reader.ReadBlock(0);
        return new(path, text, list);
    }

    private sealed class Reader(string path, string text)
    {
        private int _at;
        private int _line = 1;

        public List<Directive> ReadBlock(int depth)
        {
            if (depth > MaxDepth)
                throw Broken("blocks are nested too deeply");
            var list = new List<Directive>();
            while (true)
            {
                SkipBlanks();
                if (_at >= text.Length)
                {
                    if (depth > 0)
                        throw Broken("a block is not closed before the end of the file");
                    return list;
                }
                if (text[_at] == '}')
                {
                    if (depth == 0)
                        throw Broken("there is a closing brace without its block");
                    return list;
                }
                if (text[_at] is ';' or '{')
                    throw Broken($"unexpected \"{text[_at]}\"");
                list.Add(ReadDirective(depth));
            }
        }

        private Directive ReadDirective(int depth)
        {
            var (start, line) = (_at, _line);
            var name = ReadWord();
            var args = new List<string>();
            var spans = new List<(int, int)>();
            while (true)
            {
                SkipBlanks();
                if (_at >= text.Length)
                    throw Broken($"\"{name}\" (line {line}) is not ended by a semicolon");
                switch (text[_at])
                {
                    case ';':
                        _at++;
                        return new(name, args, start, _at, spans, null, _at - 1, line);
                    case '}':
                        throw Broken($"\"{name}\" (line {line}) is not ended by a semicolon");
                    case '{':
                        _at++;
                        if (name.EndsWith("_by_lua_block", StringComparison.Ordinal))
                            SkipRaw();
                        else
                        {
                            var children = ReadBlock(depth + 1);
                            _at++;
                            return new(name, args, start, _at, spans, children, _at - 1, line);
                        }
                        return new(name, args, start, _at, spans, [], _at - 1, line);
                    default:
                        var from = _at;
                        args.Add(ReadWord());
                        spans.Add((from, _at));
                        if (args.Count > 10_000)
                            throw Broken($"\"{name}\" has too many arguments");
                        break;
                }
            }
        }

        private string ReadWord()
        {
            var word = new StringBuilder();
            if (text[_at] is '"' or '\'')
            {
                var (quote, line) = (text[_at++], _line);
                while (true)
                {
                    if (_at >= text.Length)
                        throw Broken($"a quote opened in line {line} is not closed");
                    var c = text[_at++];
                    if (c == '\n')
                        _line++;
                    if (c == quote)
                        break;
                    if (c == '\\' && _at < text.Length)
                    {
                        var escaped = text[_at++];
                        if (escaped == '\n')
                            _line++;
                        if (escaped is not ('"' or '\'' or '\\'))
                            word.Append('\\');
                        word.Append(escaped);
                        continue;
                    }
                    word.Append(c);
                }
                // nginx wants a blank, a semicolon or a brace after a closing quote.
                if (_at < text.Length && !char.IsWhiteSpace(text[_at]) && text[_at] is not (';' or '{' or '}' or ')'))
                    throw Broken($"unexpected \"{text[_at]}\" after a closing quote");
                return word.ToString();
            }
            while (_at < text.Length)
            {
                var c = text[_at];
                if (
                    char.IsWhiteSpace(c)
                    || c is ';'
                    || (c == '{' && !(word.Length > 0 && word[^1] == '$'))
                    || (c == '}' && !InVariable(word))
                )
                    break;
                _at++;
                if (c == '\\' && _at < text.Length)
                {
                    word.Append(c).Append(text[_at]);
                    if (text[_at++] == '\n')
                        _line++;
                    continue;
                }
                word.Append(c);
            }
            return word.ToString();
        }

        private static bool InVariable(StringBuilder word)
        {
            for (var i = word.Length - 1; i > 0; i--)
            {
                if (word[i] == '}')
                    return false;
                if (word[i] == '{')
                    return word[i - 1] == '$';
            }
            return false;
        }

        private void SkipBlanks()
        {
            while (_at < text.Length)
            {
                var c = text[_at];
                if (c == '#')
                {
                    while (_at < text.Length && text[_at] != '\n')
                        _at++;
                    continue;
                }
                if (!char.IsWhiteSpace(c) && c != '\uFEFF')
                    return;
                if (c == '\n')
                    _line++;
                _at++;
            }
        }

        private void SkipRaw()
        {
            var (depth, line) = (1, _line);
            while (depth > 0)
            {
                if (_at >= text.Length)
                    throw Broken($"a script block opened in line {line} is not closed");
                var c = text[_at++];
                if (c == '\n')
                    _line++;
                else if (c == '{')
                    depth++;
                else if (c == '}')
                    depth--;
            }
        }

        private BeaconProblem Broken(string why) =>
            new(ProblemCode.ConfigurationBroken, $"{path}, line {_line}: {why}.", "Correct the file; nginx -t shows the same place.");
    }
}
