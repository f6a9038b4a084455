using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

/// <summary>
/// The JSON of <see cref="BeaconJson"/>, for the shapes alone that an agent sends and receives. What people see would be a third of its program, and of what it writes to memory at
/// each start.
/// </summary>
[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, RespectNullableAnnotations = true)]
[JsonSerializable(typeof(AgentReport))]
[JsonSerializable(typeof(DeviceAccess))]
[JsonSerializable(typeof(FilePart))]
[JsonSerializable(typeof(ImportContent))]
[JsonSerializable(typeof(OrderCsr))]
[JsonSerializable(typeof(OrderEdition))]
[JsonSerializable(typeof(OrderList))]
[JsonSerializable(typeof(OrderResult))]
[JsonSerializable(typeof(OrderStep))]
[JsonSerializable(typeof(Problem))]
public sealed partial class AgentMessageJson : JsonSerializerContext;
