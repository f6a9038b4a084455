namespace OrderlyBeacon.Service.Concerns;

/// <summary>A host's first label, as people say it.</summary>
internal static class ShortName
{
    public static string Of(string host) => host.Split('.')[0];
}
