using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service;

/// <summary>Says in the API document which words an <see cref="OpenWord{T}"/> can be: its converter is our own, so the platform cannot tell.</summary>
internal sealed class OpenWordSchemas : IOpenApiSchemaTransformer
{
    public Task TransformAsync(OpenApiSchema schema, OpenApiSchemaTransformerContext context, CancellationToken ct)
    {
        var type = Nullable.GetUnderlyingType(context.JsonTypeInfo.Type) ?? context.JsonTypeInfo.Type;
        var converter = type.IsEnum
            ? type.GetCustomAttributes(typeof(JsonConverterAttribute), false).Cast<JsonConverterAttribute>().FirstOrDefault()?.ConverterType
            : null;
        if (converter is { IsGenericType: true } && converter.GetGenericTypeDefinition() == typeof(OpenWord<>))
        {
            var words = (IReadOnlyCollection<string>)converter.GetProperty(nameof(OpenWord<OrderKind>.Words))!.GetValue(null)!;
            schema.Type = JsonSchemaType.String;
            schema.Enum = [.. words.Select(w => (JsonNode)w)];
        }
        return Task.CompletedTask;
    }
}
