using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace OrderlyBeacon.Contracts;

/// <summary>
/// JSON as a whole body (RFC 8259), for client and agent. The library's own way, bit by bit from a stream, brings so many types for each message into a program that is
/// compiled ahead that its tables are a quarter larger; they are made ready at each start.
/// </summary>
public static class JsonBody
{
    public static HttpContent Of<T>(T value, JsonTypeInfo<T> type) =>
        new ByteArrayContent(JsonSerializer.SerializeToUtf8Bytes(value, type)) { Headers = { ContentType = new("application/json") } };

    /// <exception cref="JsonException">It is not JSON, or not of this form.</exception>
    public static async Task<T?> ReadAsync<T>(HttpContent content, JsonTypeInfo<T> type, CancellationToken ct) =>
        JsonSerializer.Deserialize(await content.ReadAsByteArrayAsync(ct), type);
}
