namespace OrderlyBeacon.Service.Bindings;

/// <summary>One name of a service, to find it by.</summary>
public sealed class ServiceName
{
    public int ServiceId { get; private init; }

    /// <summary>As its agent said it, in lower case.</summary>
    public string Name { get; private init; } = "";

    public static ServiceName Of(int serviceId, string name) => new() { ServiceId = serviceId, Name = name };
}
