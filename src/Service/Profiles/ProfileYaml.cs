using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace OrderlyBeacon.Service.Profiles;

/// <summary>A profile as YAML: what is kept under version control and carried from one service to another.</summary>
internal static class ProfileYaml
{
    private const int MostBytes = 64 << 10,
        MostDepth = 4;

    public static string Write(ProfileDefinition d)
    {
        var root = new YamlMappingNode();
        foreach (var (name, value) in JsonSerializer.SerializeToNode(d, BeaconJson.Default.ProfileDefinition)!.AsObject())
            if (value is not null)
                root.Add(name, NodeOf(value));
        using var text = new StringWriter();
        text.WriteLine("# A certificate profile of Orderly Beacon; its form is /api/profile.schema.json.");
        new YamlStream(new YamlDocument(root)).Save(text, assignAnchors: false);
        return text.ToString().Replace("\r\n", "\n").TrimEnd().Replace("\n...", "") + "\n";
    }

    private static YamlNode NodeOf(JsonNode value) =>
        value switch
        {
            JsonArray a => new YamlSequenceNode(a.Select(x => NodeOf(x!))) { Style = YamlDotNet.Core.Events.SequenceStyle.Flow },
            JsonObject o => new YamlMappingNode(
                o.Where(x => x.Value is not null).Select(x => KeyValuePair.Create<YamlNode, YamlNode>(x.Key, NodeOf(x.Value!)))
            ),
            _ when value.GetValueKind() == JsonValueKind.String => new YamlScalarNode(value.GetValue<string>())
            {
                Style = NeedsQuotes(value.GetValue<string>()) ? ScalarStyle.DoubleQuoted : ScalarStyle.Any,
            },
            _ => new YamlScalarNode(value.ToJsonString()),
        };

    // What would be read as a number, a truth value or nothing is quoted, so that it comes back as the text it was.
    private static bool NeedsQuotes(string s) =>
        s.Length == 0
        || s is "true" or "false" or "null" or "~"
        || double.TryParse(s, NumberStyles.Any, CultureInfo.InvariantCulture, out _);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ProfileRefused"/>, with line and field.</exception>
    public static ProfileDefinition Read(string text)
    {
        if (text.Length > MostBytes)
            throw new BeaconProblem(
                ProblemCode.TooLarge,
                $"The file has {text.Length} characters; a profile has a few hundred.",
                "Give one profile in one file."
            );
        try
        {
            var stream = new YamlStream();
            stream.Load(new StringReader(text));
            if (stream.Documents.Count != 1 || stream.Documents[0].RootNode is not YamlMappingNode root)
                throw Bad("It is not one mapping of fields to values.", "Begin with beacon profile export, and change what it wrote.");
            var json = ToJson(root, typeof(ProfileDefinition), 0);
            foreach (var needed in new[] { "id", "title", "life" })
                if (!json.AsObject().ContainsKey(needed))
                    throw Bad($"The field {needed} is missing.", "Add it.");
            // What is left out has a meaning of its own.
            var o = json.AsObject();
            foreach (var list in new[] { "keys", "keyUsage", "extendedKeyUsage", "mayAsk", "releaseTo" })
                o.TryAdd(list, new JsonArray());
            foreach (var word in new[] { "purpose", "fixed" })
                o.TryAdd(word, "");
            o.TryAdd("subject", "request");
            o.TryAdd("approvals", 0);
            o.TryAdd("authorityDepth", null);
            o.TryAdd("published", false);
            o.TryAdd("names", new JsonObject());
            var names = o["names"]!.AsObject();
            names.TryAdd("hostNames", true);
            foreach (var no in new[] { "wildcards", "addresses" })
                names.TryAdd(no, false);
            names.TryAdd("within", new JsonArray());
            names.TryAdd("most", 250);
            return JsonSerializer.Deserialize(json, BeaconJson.Default.ProfileDefinition)!;
        }
        catch (YamlException e)
        {
            throw Bad($"Line {e.Start.Line}, column {e.Start.Column}: {e.Message.Split("): ").Last()}", "Correct the YAML there.");
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException or FormatException)
        {
            throw Bad(
                $"A value is of another kind than its field wants ({(e as JsonException)?.Path?.TrimStart('$', '.') ?? e.Message}).",
                "Compare it with /api/profile.schema.json."
            );
        }
    }

    /// <param name="wanted">What the field holds: a text stays one, even where it looks like a number.</param>
    private static JsonNode ToJson(YamlNode node, Type wanted, int depth)
    {
        if (depth > MostDepth)
            throw Bad($"Line {node.Start.Line}: it is nested too deep.", "Compare it with /api/profile.schema.json.");
        switch (node)
        {
            case YamlMappingNode m:
                var o = new JsonObject();
                var fields = wanted.GetProperties().ToDictionary(p => JsonNamingPolicy.CamelCase.ConvertName(p.Name), p => p.PropertyType);
                foreach (var (key, value) in m.Children)
                {
                    var name = (key as YamlScalarNode)?.Value ?? "";
                    if (!fields.TryGetValue(name, out var type))
                        throw Bad(
                            $"Line {key.Start.Line}: the field \"{name}\" is not one of a profile's.",
                            "Use " + string.Join(", ", fields.Keys.Order()) + "."
                        );
                    o[name] = ToJson(value, type, depth + 1);
                }
                return o;
            case YamlSequenceNode s:
                return new JsonArray([.. s.Children.Select(c => ToJson(c, typeof(string), depth + 1))]);
            case YamlScalarNode text when wanted == typeof(string):
                return JsonValue.Create(text.Value ?? "");
            case YamlScalarNode { Style: ScalarStyle.Plain } p when p.Value is "true" or "false":
                return JsonValue.Create(p.Value == "true");
            case YamlScalarNode { Style: ScalarStyle.Plain } p
                when int.TryParse(p.Value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var n):
                return JsonValue.Create(n);
            case YamlScalarNode v:
                return JsonValue.Create(v.Value ?? "");
            default:
                throw Bad($"Line {node.Start.Line}: aliases are not read.", "Write the value out.");
        }
    }

    private static BeaconProblem Bad(string what, string cure) =>
        new(ProblemCode.ProfileRefused, $"The profile's file cannot be read. {what}", cure);
}
