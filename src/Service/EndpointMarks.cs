using Microsoft.AspNetCore.Http.Metadata;

namespace OrderlyBeacon.Service;

/// <summary>The name that a property has in the query. The framework's own attribute for it lies in its library for controllers, which nothing else here would load.</summary>
[AttributeUsage(AttributeTargets.Property)]
internal sealed class InQueryAttribute : Attribute, IFromQueryMetadata
{
    /// <inheritdoc/>
    public string? Name { get; set; }
}

/// <summary>How much a call may bring, where that is not what all may.</summary>
/// <param name="MaxRequestBodySize">Octets.</param>
internal sealed record BodyLimit(long? MaxRequestBodySize) : IRequestSizeLimitMetadata;
