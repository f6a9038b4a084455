using System.Security.Claims;

namespace OrderlyBeacon.Service.People;

/// <summary>Who is calling: a person with groups, or a host's agent.</summary>
public sealed record Caller(string Name, IReadOnlyList<string> Groups, string? Host)
{
    public const string Scheme = "beacon";
    private const string GroupClaim = "group";
    private const string HostClaim = "host";

    /// <summary>As it stands in the journal.</summary>
    public string Actor => Host is null ? Name : "agent:" + Host;

    /// <summary>The address the call came from.</summary>
    public string? From { get; init; }

    public bool IsAdministrator => Groups.Contains(Person.Administrators);

    public ClaimsPrincipal Principal(string method)
    {
        var id = new ClaimsIdentity(method);
        id.AddClaim(new(ClaimTypes.Name, Name));
        foreach (var g in Groups)
            id.AddClaim(new(GroupClaim, g));
        if (Host is not null)
            id.AddClaim(new(HostClaim, Host));
        return new(id);
    }

    public static Caller Of(ClaimsPrincipal p) =>
        new(p.Identity?.Name ?? "", [.. p.FindAll(GroupClaim).Select(c => c.Value)], p.FindFirst(HostClaim)?.Value);

    /// <summary>Taken by endpoints as a parameter.</summary>
    public static ValueTask<Caller?> BindAsync(HttpContext context) =>
        new(Of(context.User) with { From = context.Connection.RemoteIpAddress?.ToString() });
}

/// <summary>Names of the authorization policies.</summary>
public static class Policies
{
    /// <summary>Anybody who is signed in may read.</summary>
    public const string Person = "person";

    /// <summary>May ask for certificates and bind them: administrators and zone holders.</summary>
    public const string Requester = "requester";

    /// <summary>May approve others' requests.</summary>
    public const string Approver = "approver";
    public const string Administrator = "administrator";
    public const string Agent = "agent";
}
