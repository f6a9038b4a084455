using System.Xml;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors.Tomcat;

/// <summary>An attribute with its places: from the blank before its name to behind its closing quote, and of its value.</summary>
internal sealed record XmlAttribute(string Name, string Value, int Start, int End, int ValueStart, int ValueEnd);

/// <summary>An element with its places in the file's text.</summary>
internal sealed class XmlElement(string name, int start, int line, XmlElement? parent, IReadOnlyList<XmlAttribute> attributes)
{
    public string Name => name;
    public int Start => start;
    public int Line => line;
    public XmlElement? Parent => parent;
    public IReadOnlyList<XmlAttribute> Attributes => attributes;
    public List<XmlElement> Children { get; } = [];

    /// <summary>Behind its start tag.</summary>
    public int TagEnd { get; init; }

    /// <summary>It ends in its start tag.</summary>
    public bool IsEmpty { get; init; }

    /// <summary>Behind its end tag.</summary>
    public int End { get; set; }

    public XmlAttribute? Find(string attribute) => attributes.FirstOrDefault(a => a.Name == attribute);

    public string? Value(string attribute) => Find(attribute)?.Value;

    public IEnumerable<XmlElement> All(string child) => Children.Where(c => c.Name == child);
}

/// <summary>A well-formed XML file with the place of each thing in it, so that a change touches nothing else. Nothing outside of the file is read.</summary>
internal static class XmlText
{
    private const int MostNesting = 50;

    /// <param name="text">A <see cref="ByteText"/>.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/> with file and line.</exception>
    public static XmlElement Read(string file, string text)
    {
        ThrowUnlessWellFormed(file, text);
        XmlElement? root = null;
        var open = new Stack<XmlElement>();
        var at = 0;
        while ((at = text.IndexOf('<', at)) >= 0)
        {
            if (Skipped(text, at) is { } behind)
                at = behind;
            else if (text[at + 1] == '/')
            {
                at = text.IndexOf('>', at) + 1;
                open.Pop().End = at;
            }
            else
            {
                var element = StartTag(text, at, open.Count > 0 ? open.Peek() : null);
                at = element.TagEnd;
                (open.Count > 0 ? open.Peek().Children : null)?.Add(element);
                root ??= element;
                if (!element.IsEmpty)
                    open.Push(element);
                if (open.Count > MostNesting)
                    throw Broken(file, element.Line, $"elements are nested more than {MostNesting} deep");
            }
        }
        return root!;
    }

    /// <summary>Whether it is one at all is another's affair: the platform's reader, which knows the whole of XML.</summary>
    private static void ThrowUnlessWellFormed(string file, string text)
    {
        try
        {
            using var reader = XmlReader.Create(
                new MemoryStream(ByteText.Bytes(text)),
                new() { DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null }
            );
            while (reader.Read()) { }
        }
        catch (XmlException e)
        {
            throw Broken(file, Math.Max(1, e.LineNumber), e.Message.Split(" Line ")[0].TrimEnd('.'));
        }
    }

    private static BeaconProblem Broken(string file, int line, string what) =>
        new(ProblemCode.ConfigurationBroken, $"{file}, line {line}: {what}.", "Correct it first; nothing was changed.");

    /// <summary>Behind a comment, a section of text or an instruction; null for anything else.</summary>
    private static int? Skipped(string text, int at)
    {
        foreach (var (begin, end) in new[] { ("<!--", "-->"), ("<![CDATA[", "]]>"), ("<?", "?>") })
            if (string.CompareOrdinal(text, at, begin, 0, begin.Length) == 0)
                return text.IndexOf(end, at, StringComparison.Ordinal) + end.Length;
        return null;
    }

    private static XmlElement StartTag(string text, int start, XmlElement? parent)
    {
        var at = start + 1;
        while (!char.IsWhiteSpace(text[at]) && text[at] is not '>' and not '/')
            at++;
        var name = text[(start + 1)..at];
        var attributes = new List<XmlAttribute>();
        while (true)
        {
            var blank = at;
            while (char.IsWhiteSpace(text[at]))
                at++;
            if (text[at] is '>' or '/')
                break;
            var equals = text.IndexOf('=', at);
            var quote = equals + 1;
            while (char.IsWhiteSpace(text[quote]))
                quote++;
            var end = text.IndexOf(text[quote], quote + 1);
            var value = System.Net.WebUtility.HtmlDecode(text[(quote + 1)..end]);
            attributes.Add(new(text[at..equals].Trim(), value, blank, end + 1, quote + 1, end));
            at = end + 1;
        }
        var isEmpty = text[at] == '/';
        var tagEnd = text.IndexOf('>', at) + 1;
        return new(name, start, text.AsSpan(0, start).Count('\n') + 1, parent, attributes)
        {
            TagEnd = tagEnd,
            IsEmpty = isEmpty,
            End = tagEnd,
        };
    }

    /// <summary>As a value between double quotes.</summary>
    public static string Quoted(string value) => value.Replace("&", "&amp;").Replace("<", "&lt;").Replace("\"", "&quot;");
}
