using System.Globalization;
using System.Text.RegularExpressions;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>Reads a kind of device; what is not understood is named with its line.</summary>
internal static partial class DeviceKindYaml
{
    private const int MostFiles = 8,
        MostKept = 20,
        MostText = 1000;

    /// <summary>The fields of a kind, of one of its files, and of its look, as the schema has them.</summary>
    public static readonly IReadOnlyList<string> Fields =
        ["kind", "title", "shell", "key", "folder", "files", "test", "restart", "look", "keep"],
        FileFields = ["path", "holds", "mode", "owner"],
        LookFields = ["port", "protocol"];

    private static readonly Dictionary<string, ProbeProtocol> Protocols = new()
    {
        ["tls"] = ProbeProtocol.Tls,
        ["smtp"] = ProbeProtocol.Smtp,
        ["imap"] = ProbeProtocol.Imap,
        ["pop3"] = ProbeProtocol.Pop3,
        ["ftp"] = ProbeProtocol.Ftp,
        ["ldap"] = ProbeProtocol.Ldap,
    };

    private static readonly Dictionary<string, DevicePart> Parts = new()
    {
        ["key"] = DevicePart.Key,
        ["leaf"] = DevicePart.Leaf,
        ["intermediates"] = DevicePart.Intermediates,
        ["root"] = DevicePart.Root,
    };

    private static readonly Dictionary<string, KeyMaker> Makers = new()
    {
        ["on-device"] = KeyMaker.OnDevice,
        ["by-agent"] = KeyMaker.ByAgent,
    };

    /// <param name="from">Where it stands, for what is said of it.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ConfigurationBroken"/>.</exception>
    public static DeviceKind Read(string text, string from)
    {
        try
        {
            var stream = Load(text);
            if (stream.Documents is not [{ RootNode: YamlMappingNode root }])
                throw new BeaconProblem(ProblemCode.ConfigurationBroken, $"{from} is not one mapping of fields to values.", Cure);
            return Read(new Section(root, Fields, from));
        }
        catch (YamlException e)
        {
            var why = e.Message.Split("): ")[^1];
            throw new BeaconProblem(ProblemCode.ConfigurationBroken, $"{from}, line {e.Start.Line}: {why}", "Correct the YAML there.", e);
        }
    }

    private static YamlStream Load(string text)
    {
        var stream = new YamlStream();
        try
        {
            stream.Load(new StringReader(text));
            return stream;
        }
        // Its own word for some that are no YAML.
        catch (Exception e) when (e is InvalidOperationException or ArgumentException)
        {
            throw new YamlException("this is no YAML", e);
        }
    }

    private const string Cure = "Compare it with device.schema.json and with the kinds that came with the agent.";

    private static DeviceKind Read(Section s)
    {
        var look = s.Map("look", LookFields);
        var kind = new DeviceKind(
            s.Text("kind", KindForm()),
            s.Text("title"),
            [.. s.Maps("files", FileFields, MostFiles).Select(ReadFile)],
            s.Text("restart"),
            look.Number("port", 1, 65535)
        );
        var files = kind.Files;
        if (files.Select(f => f.Path).Distinct(StringComparer.Ordinal).Count() < files.Count)
            throw s.Bad("files", "names one path twice");
        foreach (var needed in new[] { DevicePart.Key, DevicePart.Leaf })
            if (!files.Any(f => f.Holds.Contains(needed)))
                throw s.Bad("files", $"has no file that holds the {needed.ToString().ToLowerInvariant()}");
        return kind with
        {
            Shell = s.TextOr("shell") ?? kind.Shell,
            Key = s.Has("key") ? s.Word("key", Makers) : kind.Key,
            Folder = s.Has("folder") ? s.Text("folder", PathForm()).TrimEnd('/') : kind.Folder,
            Test = s.TextOr("test"),
            Protocol = look.Has("protocol") ? look.Word("protocol", Protocols) : kind.Protocol,
            Kept = s.Has("keep") ? s.Number("keep", 1, MostKept) : kind.Kept,
        };
    }

    private static DeviceFile ReadFile(Section s)
    {
        var file = new DeviceFile(
            s.Text("path", PathForm()),
            s.Words("holds", Parts),
            s.Text("mode", ModeForm()),
            s.Has("owner") ? s.Text("owner", OwnerForm()) : null
        );
        // The last digit is everybody's.
        if (file.Holds.Contains(DevicePart.Key) && file.Mode[^1] != '0')
            throw s.Bad("mode", $"lets everybody at the key in {file.Path}");
        return file;
    }

    [GeneratedRegex("^[a-z][a-z0-9-]{0,39}$", RegexOptions.CultureInvariant)]
    private static partial Regex KindForm();

    [GeneratedRegex(@"^/[^\x00-\x1f]*[^\x00-\x1f/]$", RegexOptions.CultureInvariant)]
    private static partial Regex PathForm();

    [GeneratedRegex("^0[0-7]{3}$", RegexOptions.CultureInvariant)]
    private static partial Regex ModeForm();

    [GeneratedRegex("^[a-z_][a-z0-9_-]*(:[a-z_][a-z0-9_-]*)?$", RegexOptions.CultureInvariant)]
    private static partial Regex OwnerForm();

    /// <summary>A mapping whose fields are known.</summary>
    private sealed class Section
    {
        private readonly string _from;
        private readonly YamlMappingNode _map;
        private readonly Dictionary<string, YamlNode> _values = [];

        public Section(YamlMappingNode map, IReadOnlyList<string> fields, string from)
        {
            (_from, _map) = (from, map);
            foreach (var (key, value) in map.Children)
            {
                var name = (key as YamlScalarNode)?.Value ?? "";
                if (!fields.Contains(name))
                    throw Bad(key, $"the field \"{name}\" is none of {string.Join(", ", fields)}");
                _values[name] = value;
            }
        }

        public bool Has(string field) => _values.ContainsKey(field);

        public BeaconProblem Bad(string field, string what) => Bad(_values.GetValueOrDefault(field, _map), $"{field} {what}");

        private BeaconProblem Bad(YamlNode at, string what) =>
            new(ProblemCode.ConfigurationBroken, $"{_from}, line {at.Start.Line}: {what}.", Cure);

        private YamlNode Value(string field) =>
            _values.TryGetValue(field, out var v) ? v : throw Bad(_map, $"the field {field} is missing");

        private string Scalar(YamlNode node, string field) =>
            node is YamlScalarNode { Value: { Length: > 0 and <= MostText } text } && !text.Any(char.IsControl)
                ? text
                : throw Bad(node, $"{field} is not one line of text");

        public string Text(string field, Regex? form = null)
        {
            var text = Scalar(Value(field), field);
            return form is null || form.IsMatch(text) ? text : throw Bad(field, $"cannot be \"{text}\"");
        }

        public string? TextOr(string field) => Has(field) ? Text(field) : null;

        public int Number(string field, int least, int most) =>
            int.TryParse(Text(field), NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n >= least && n <= most
                ? n
                : throw Bad(field, $"is a number from {least} to {most}");

        public T Word<T>(string field, Dictionary<string, T> words) => Word(Value(field), field, words);

        private T Word<T>(YamlNode node, string field, Dictionary<string, T> words) =>
            words.TryGetValue(Scalar(node, field), out var word)
                ? word
                : throw Bad(node, $"{field} is one of {string.Join(", ", words.Keys)}");

        public IReadOnlyList<T> Words<T>(string field, Dictionary<string, T> words)
        {
            List<T> read = Value(field) is YamlSequenceNode s ? [.. s.Children.Select(c => Word(c, field, words))] : [];
            return read.Count > 0 && read.Distinct().Count() == read.Count ? read : throw Bad(field, "is a list of different words");
        }

        public Section Map(string field, IReadOnlyList<string> fields) =>
            Value(field) is YamlMappingNode m ? new(m, fields, _from) : throw Bad(field, "is a mapping of fields to values");

        public IReadOnlyList<Section> Maps(string field, IReadOnlyList<string> fields, int most) =>
            Value(field) is YamlSequenceNode { Children.Count: > 0 } s
            && s.Children.Count <= most
            && s.Children.All(c => c is YamlMappingNode)
                ? [.. s.Children.Cast<YamlMappingNode>().Select(c => new Section(c, fields, _from))]
                : throw Bad(field, $"is a list of one to {most} mappings");
    }
}
