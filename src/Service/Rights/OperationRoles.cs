using System.Text.Json.Nodes;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Service.Rights;

/// <summary>States in the OpenAPI document which role each operation needs: <c>x-role</c>, and the same in words.</summary>
internal sealed class OperationRoles : IOpenApiOperationTransformer
{
    public Task TransformAsync(OpenApiOperation operation, OpenApiOperationTransformerContext context, CancellationToken cancellationToken)
    {
        if (context.Description.ActionDescriptor.EndpointMetadata.OfType<OperationMark>().FirstOrDefault() is not { } mark)
            return Task.CompletedTask;
        var right = RightsTable.Of(mark.Operation);
        operation.Extensions ??= new Dictionary<string, IOpenApiExtension>();
        operation.Extensions["x-role"] = new JsonNodeExtension(JsonValue.Create(BeaconProblem.SlugOf(right.Role)));
        operation.Description = $"For {RightsOf.Word(right.Role)}.{(right.Fresh ? " Wants a password of the last minutes." : "")}";
        return Task.CompletedTask;
    }
}
