using System.Globalization;
using System.Security.Claims;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Service.People;

/// <summary>Who is calling: a person with groups, or a host's agent.</summary>
public sealed record Caller(string Name, IReadOnlyList<string> Groups, string? Host)
{
    public const string Scheme = "beacon";
    private const string GroupClaim = "group";
    private const string HostClaim = "host";
    private const string HostIdClaim = "host-row";
    private const string ProvedClaim = "proved";
    private const string SessionClaim = "session";

    public Actor Actor => Host is null ? Actor.Person(Name) : Actor.Agent(Host);

    /// <summary>The address the call came from.</summary>
    public string? From { get; init; }

    /// <summary>When the password was given last; null for agents and for calls that bring it along.</summary>
    public DateTimeOffset? ProvedAt { get; init; }

    /// <summary>The row of the host whose agent it is.</summary>
    public int? HostId { get; init; }

    /// <summary>The session's hash: of a sign-in by token or cookie.</summary>
    public string? SessionHash { get; init; }

    public Who Who => new(Host is null ? Name : "", Groups, Host);
    public bool IsAdministrator => Who.IsAdministrator;

    public ClaimsPrincipal Principal(string method)
    {
        var id = new ClaimsIdentity(method);
        id.AddClaim(new(ClaimTypes.Name, Name));
        foreach (var g in Groups)
            id.AddClaim(new(GroupClaim, g));
        if (Host is not null)
            id.AddClaim(new(HostClaim, Host));
        if (HostId is { } row)
            id.AddClaim(new(HostIdClaim, row.ToString(CultureInfo.InvariantCulture)));
        if (ProvedAt is { } at)
            id.AddClaim(new(ProvedClaim, at.ToUnixTimeMilliseconds().ToString(CultureInfo.InvariantCulture)));
        if (SessionHash is not null)
            id.AddClaim(new(SessionClaim, SessionHash));
        return new(id);
    }

    public static Caller Of(ClaimsPrincipal p) =>
        new(p.Identity?.Name ?? "", [.. p.FindAll(GroupClaim).Select(c => c.Value)], p.FindFirst(HostClaim)?.Value)
        {
            ProvedAt = p.FindFirst(ProvedClaim) is { } c
                ? DateTimeOffset.FromUnixTimeMilliseconds(long.Parse(c.Value, CultureInfo.InvariantCulture))
                : null,
            HostId = p.FindFirst(HostIdClaim) is { } row ? int.Parse(row.Value, CultureInfo.InvariantCulture) : null,
            SessionHash = p.FindFirst(SessionClaim)?.Value,
        };

    /// <summary>Taken by endpoints as a parameter.</summary>
    public static ValueTask<Caller?> BindAsync(HttpContext context) =>
        new(Of(context.User) with { From = context.Connection.RemoteIpAddress?.ToString() });
}
