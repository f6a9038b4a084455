using System.Reflection;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service;

/// <summary>
/// Refuses what a call asks for in its query and the endpoint does not know: a mistyped filter would list everything, and a mistyped "preview" would do what should only be shown.
/// Agents are let through, since newer ones may say more.
/// </summary>
internal static class QueryCheck
{
    public static EndpointFilterDelegate Create(EndpointFilterFactoryContext endpoint, EndpointFilterDelegate next)
    {
        var known = endpoint.MethodInfo.GetParameters().SelectMany(NamesOf).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        return context =>
        {
            var request = context.HttpContext.Request;
            if (request.QueryString.HasValue && !request.Path.StartsWithSegments("/api/v1/agent"))
                Check(request, [.. known.Where(n => !request.RouteValues.ContainsKey(n))]);
            return next(context);
        };
    }

    private static void Check(HttpRequest request, IReadOnlyList<string> known)
    {
        if (request.Query.Keys.FirstOrDefault(k => !known.Contains(k, StringComparer.OrdinalIgnoreCase)) is not { } unknown)
            return;
        throw new BeaconProblem(
            ProblemCode.InputInvalid,
            $"There is no parameter \"{unknown}\" here.",
            known.Count == 0 ? "Leave it out: there is none." : $"Use {string.Join(", ", known)}."
        );
    }

    private static IEnumerable<string> NamesOf(ParameterInfo p)
    {
        if (p.IsDefined(typeof(AsParametersAttribute)))
            return p.ParameterType.GetProperties().Where(x => IsWord(x.PropertyType)).Select(x => NameOf(x, x.Name));
        if (IsWord(p.ParameterType))
            return [NameOf(p, p.Name!)];
        return [];
    }

    private static string NameOf(ICustomAttributeProvider from, string name) =>
        from.GetCustomAttributes(inherit: false).OfType<Microsoft.AspNetCore.Http.Metadata.IFromQueryMetadata>().FirstOrDefault()?.Name
        ?? name;

    /// <summary>What can stand in a query; other parameters are the body, or come from the service itself.</summary>
    private static bool IsWord(Type type)
    {
        var t = Nullable.GetUnderlyingType(type) ?? type;
        return t == typeof(string)
            || t.IsEnum
            || t.GetInterfaces().Any(i => i.IsGenericType && i.GetGenericTypeDefinition() == typeof(IParsable<>));
    }
}
