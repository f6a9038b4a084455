using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;

/// <summary>A value in a PHP file, with its place.</summary>
/// <param name="Text">What a quoted string says; null for everything else.</param>
/// <param name="Entries">Of an array; null for everything else.</param>
internal sealed record PhpValue(int Start, int End, string? Text, IReadOnlyList<PhpEntry>? Entries)
{
    /// <summary>The last entry with a key counts, as it does for PHP.</summary>
    public PhpEntry? Find(string key) => Entries?.LastOrDefault(e => e.Key == key);
}

/// <summary>An entry of an array.</summary>
/// <param name="Key">A key that is a quoted string; null for others.</param>
internal sealed record PhpEntry(int Start, string? Key, PhpValue Value)
{
    public int End => Value.End;
}

/// <summary><c>$variable['index'] = value;</c>, or without the index.</summary>
internal sealed record PhpAssignment(string Variable, string? Index, PhpValue Value, int Line);

/// <summary>
/// What a PHP file assigns, where it does so by plain arrays and quoted strings: nothing of it is run. Whatever else a value is counts as not known.
/// </summary>
internal sealed class PhpArrays
{
    private const int MostNesting = 40,
        MostEntries = 20_000;
    private readonly string _file,
        _text;
    private int _at,
        _entries;

    private PhpArrays(string file, string text) => (_file, _text) = (file, text);

    public List<PhpAssignment> Assignments { get; } = [];

    /// <summary>There is more in it than assignments: a condition, a loop, another file.</summary>
    public bool HasOther { get; private set; }

    /// <param name="text">A <see cref="ByteText"/>.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    public static PhpArrays Read(string file, string text)
    {
        var php = new PhpArrays(file, text);
        php.Statements();
        return php;
    }

    private void Statements()
    {
        var open = _text.IndexOf("<?php", StringComparison.Ordinal);
        if (open < 0)
            throw Broken(0, "there is no <?php in it");
        _at = open + "<?php".Length;
        for (Skip(); _at < _text.Length && !Is("?>"); Skip())
            Statement();
    }

    private void Statement()
    {
        var line = LineAt(_at);
        if (Is("$") && Name() is { } variable)
        {
            Skip();
            var index = TakeIndex(out var isPlain);
            Skip();
            if (isPlain && Is("=") && !Is("==") && !Is("=>"))
            {
                _at++;
                var value = Value(0);
                Skip();
                if (!Is(";"))
                    throw Broken(_at, "a ; is missing after what is assigned");
                _at++;
                Assignments.Add(new(variable, index, value, line));
                return;
            }
        }
        HasOther |= !Is("declare") && !Is("use ") && !Is("namespace ");
        PassOver(";");
        _at = Math.Min(_text.Length, _at + 1);
    }

    private string? Name()
    {
        var start = ++_at;
        while (_at < _text.Length && (char.IsAsciiLetterOrDigit(_text[_at]) || _text[_at] == '_'))
            _at++;
        return _at == start ? null : _text[start.._at];
    }

    private string? TakeIndex(out bool isPlain)
    {
        isPlain = true;
        if (!Is("["))
            return null;
        _at++;
        var index = Value(0);
        Skip();
        isPlain = index.Text is not null && Is("]");
        if (isPlain)
            _at++;
        return index.Text;
    }

    private PhpValue Value(int depth)
    {
        if (depth > MostNesting)
            throw Broken(_at, $"arrays are nested more than {MostNesting} deep");
        Skip();
        var start = _at;
        string? text = null;
        IReadOnlyList<PhpEntry>? entries = null;
        if (_at < _text.Length && _text[_at] is '\'' or '"')
            text = Quoted();
        else if (Is("["))
            entries = Entries(1, ']', depth);
        else if (ArrayWord() is { } length)
            entries = Entries(length, ')', depth);
        var end = _at;
        Skip();
        // Followed by an operator, it is a part of something that would have to be worked out.
        if (end > start && (_at >= _text.Length || _text[_at] is ',' or ']' or ')' or ';' || Is("=>")))
        {
            _at = end;
            return new(start, end, text, entries);
        }
        PassOver(",", "]", ")", ";", "=>");
        end = _at;
        while (end > start && char.IsWhiteSpace(_text[end - 1]))
            end--;
        if (end == start)
            throw Broken(start, "a value is missing");
        return new(start, end, null, null);
    }

    private int? ArrayWord()
    {
        if (!Is("array"))
            return null;
        var after = _at + "array".Length;
        while (after < _text.Length && char.IsWhiteSpace(_text[after]))
            after++;
        return after < _text.Length && _text[after] == '(' ? after + 1 - _at : null;
    }

    private List<PhpEntry> Entries(int opening, char closing, int depth)
    {
        var start = _at;
        _at += opening;
        var entries = new List<PhpEntry>();
        while (true)
        {
            Skip();
            if (_at >= _text.Length)
                throw Broken(start, $"an array is not closed by {closing}");
            if (_text[_at] == closing)
            {
                _at++;
                return entries;
            }
            if (++_entries > MostEntries)
                throw Broken(_at, $"it has more than {MostEntries} entries");
            entries.Add(Entry(depth));
            Skip();
            if (Is(","))
                _at++;
            else if (_at < _text.Length && _text[_at] != closing)
                throw Broken(_at, "a comma is missing between two entries");
        }
    }

    private PhpEntry Entry(int depth)
    {
        var start = _at;
        var first = Value(depth + 1);
        Skip();
        if (!Is("=>"))
            return new(start, null, first);
        _at += 2;
        return new(start, first.Text, Value(depth + 1));
    }

    /// <summary>A quoted string; null when PHP would put something into it.</summary>
    private string? Quoted()
    {
        var (start, quote) = (_at, _text[_at]);
        var said = new System.Text.StringBuilder();
        var isPlain = true;
        for (_at++; _at < _text.Length && _text[_at] != quote; _at++)
        {
            var c = _text[_at];
            isPlain &= quote == '\'' || c is not '$' and not '\\';
            if (c == '\\' && _at + 1 < _text.Length)
            {
                var next = _text[++_at];
                if (next != quote && next != '\\')
                    said.Append('\\');
                c = next;
            }
            said.Append(c);
        }
        if (_at >= _text.Length)
            throw Broken(start, $"a {quote} is not closed");
        _at++;
        return isPlain ? said.ToString() : null;
    }

    /// <summary>Goes on to one of some marks outside of brackets and strings, or to the end.</summary>
    private void PassOver(params string[] marks)
    {
        var (start, open) = (_at, 0);
        for (Skip(); _at < _text.Length; Skip())
        {
            if (open == 0 && marks.Any(Is))
                return;
            if (Is("<<<"))
                throw Broken(_at, "a text of several lines (<<<) stands in it, which is not read");
            var c = _text[_at];
            if (c is '\'' or '"')
            {
                Quoted();
                continue;
            }
            open += c switch
            {
                '[' or '(' or '{' => 1,
                ']' or ')' or '}' => -1,
                _ => 0,
            };
            if (open < 0)
                throw Broken(_at, $"a {c} closes nothing");
            _at++;
            // A block ends a statement by itself.
            if (open == 0 && c == '}' && marks is [";"])
            {
                _at--;
                return;
            }
        }
        if (open > 0)
            throw Broken(start, "a bracket is not closed");
    }

    /// <summary>Blanks and comments.</summary>
    private void Skip()
    {
        while (_at < _text.Length)
        {
            if (char.IsWhiteSpace(_text[_at]))
                _at++;
            else if (Is("//") || Is("#") && !Is("#["))
            {
                var end = _text.IndexOf('\n', _at);
                _at = end < 0 ? _text.Length : end;
            }
            else if (Is("/*"))
            {
                var end = _text.IndexOf("*/", _at + 2, StringComparison.Ordinal);
                if (end < 0)
                    throw Broken(_at, "a comment is not closed");
                _at = end + 2;
            }
            else
                return;
        }
    }

    private bool Is(string mark) => string.CompareOrdinal(_text, _at, mark, 0, mark.Length) == 0;

    private int LineAt(int at) => _text.AsSpan(0, Math.Min(at, _text.Length)).Count('\n') + 1;

    private BeaconProblem Broken(int at, string what) =>
        new(ProblemCode.ConfigurationBroken, $"{_file}, line {LineAt(at)}: {what}.", $"Correct it; php -l {_file} may show the same.");
}
