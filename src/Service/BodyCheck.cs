using System.Collections;
using System.Collections.Concurrent;
using System.Reflection;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Service;

/// <summary>
/// Looks at each body before the endpoint does: a field that must be there and is not, and control and hidden characters where a person's text is wanted, are told by the field's name.
/// Text from agents is cleaned instead, since a report must not be lost for one odd line.
/// </summary>
internal sealed class BodyCheck : IEndpointFilter
{
    private const int MostDepth = 8,
        MostItems = 20_000;
    private static readonly ConcurrentDictionary<Type, Field[]> Known = [];
    private static readonly NullabilityInfoContext Nullability = new();

    /// <summary>Fields that hold whole files.</summary>
    private static readonly HashSet<string> Files = ["csr", "yaml", "root", "note", "reason", "chain", "diff"];

    private sealed record Field(string Name, Func<object, object?> Get, bool IsNeeded, bool ItemsNeeded);

    public ValueTask<object?> InvokeAsync(EndpointFilterInvocationContext context, EndpointFilterDelegate next)
    {
        var isAgent = context.HttpContext.Request.Path.StartsWithSegments("/api/v1/agent");
        foreach (var argument in context.Arguments)
            if (argument is not null && IsOurs(argument.GetType()))
                Check(argument, "", 0, isAgent);
        return next(context);
    }

    private static bool IsOurs(Type t) => t.Namespace == "OrderlyBeacon.Contracts" && t.IsClass;

    private static void Check(object body, string path, int depth, bool isAgent)
    {
        if (depth > MostDepth)
            throw new BeaconProblem(ProblemCode.InputInvalid, $"{path} is nested too deep.", "Compare it with /api/openapi.json.");
        foreach (var f in Known.GetOrAdd(body.GetType(), FieldsOf))
        {
            var name = path.Length == 0 ? f.Name : $"{path}.{f.Name}";
            var value = f.Get(body);
            if (value is null && f.IsNeeded)
                throw Missing(name);
            if (value is string text)
                CheckText(name, f.Name, text, isAgent);
            else if (value is IEnumerable list and not string)
                CheckItems(list, name, f, depth, isAgent);
            else if (value is not null && IsOurs(value.GetType()))
                Check(value, name, depth + 1, isAgent);
        }
    }

    private static void CheckItems(IEnumerable list, string name, Field f, int depth, bool isAgent)
    {
        var i = 0;
        foreach (var item in list)
        {
            if (i >= MostItems)
                throw new BeaconProblem(ProblemCode.TooLarge, $"{name} has over {MostItems} entries.", "Send fewer at a time.");
            var at = $"{name}[{i++}]";
            if (item is null && f.ItemsNeeded)
                throw Missing(at);
            if (item is string text)
                CheckText(at, f.Name, text, isAgent);
            else if (item is not null && IsOurs(item.GetType()))
                Check(item, at, depth + 1, isAgent);
        }
    }

    private static void CheckText(string path, string field, string text, bool isAgent)
    {
        if (isAgent)
        {
            if (text.Length > AgentReport.MostText && !Files.Contains(field))
                throw new BeaconProblem(
                    ProblemCode.TooLarge,
                    $"{path} has {text.Length} characters; at most {AgentReport.MostText} are taken.",
                    "Correct it on the host: it comes from there."
                );
            return;
        }
        var seen = Files.Contains(field) ? text.TrimStart('\uFEFF').Replace("\n", "").Replace("\r", "").Replace("\t", "") : text;
        if (HiddenText.In(seen) is { } hidden)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"{path} has a control character in it, or one that is not seen (U+{(int)hidden:X4}).",
                "Take it out; it may have come along with a copy."
            );
    }

    private static BeaconProblem Missing(string name) =>
        new(ProblemCode.InputInvalid, $"{name} is missing, or null.", "Give it; compare the body with /api/openapi.json.");

    private static Field[] FieldsOf(Type type)
    {
        lock (Nullability)
            return
            [
                .. type.GetProperties(BindingFlags.Public | BindingFlags.Instance)
                    .Where(p => p.GetIndexParameters().Length == 0 && p.Name != "EqualityContract")
                    .Select(p =>
                    {
                        var info = Nullability.Create(p);
                        var item = info.GenericTypeArguments is [var only] ? only : info.ElementType;
                        return new Field(
                            JsonNamingPolicy.CamelCase.ConvertName(p.Name),
                            p.GetValue,
                            !p.PropertyType.IsValueType && info.ReadState == NullabilityState.NotNull,
                            item?.ReadState == NullabilityState.NotNull
                        );
                    }),
            ];
    }
}
