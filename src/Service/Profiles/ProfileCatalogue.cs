using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Profiles;

/// <summary>The profiles that are offered.</summary>
public sealed class ProfileCatalogue
{
    public IReadOnlyList<Profile> All { get; } = Profile.StartingSet;

    public Profile Get(string id) => All.FirstOrDefault(p => p.Id == id)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no profile \"{id}\".", "Use one of " + string.Join(", ", All.Where(p => p.ForPeople).Select(p => p.Id)) + ".");

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/> for profiles that only agents and the service use.</exception>
    public Profile GetForPeople(string id) => Get(id) is { ForPeople: true } p ? p
        : throw new BeaconProblem(ProblemCode.NotAllowed, $"The profile \"{id}\" is for agents and the service itself.", "Use one of " + string.Join(", ", All.Where(x => x.ForPeople).Select(x => x.Id)) + ".");
}

/// <summary>Words for usages and lives, the same everywhere.</summary>
internal static class ProfileWords
{
    public static IReadOnlyList<string> Of(KeyUsages usages) =>
        [.. Enum.GetValues<KeyUsages>().Where(u => u != KeyUsages.None && usages.HasFlag(u)).Select(u => BeaconProblem.SlugOf(u).Replace('-', ' '))];

    public static IReadOnlyList<string> OfExtended(IEnumerable<string>? oids) =>
        [.. (oids ?? []).Select(o => o switch { Oids.ServerAuth => "TLS server", Oids.ClientAuth => "TLS client", Oids.OcspSigning => "OCSP signing", Oids.AnyExtendedKeyUsage => "any", _ => o })];

    public static string Of(TimeSpan life) => life switch
    {
        { TotalDays: >= 1 } when life.TotalDays % 1 == 0 => $"{life.TotalDays:0}d",
        { TotalHours: >= 1 } when life.TotalHours % 1 == 0 => $"{life.TotalHours:0}h",
        { TotalMinutes: >= 1 } when life.TotalMinutes % 1 == 0 => $"{life.TotalMinutes:0}m",
        _ => $"{life.TotalSeconds:0}s",
    };

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static TimeSpan? ParseLife(string? text)
    {
        if (string.IsNullOrWhiteSpace(text)) return null;
        var t = text.Trim();
        if (t.Length is > 1 and < 8 && int.TryParse(t[..^1], System.Globalization.NumberStyles.None, null, out var n) && n > 0)
        {
            TimeSpan? life = t[^1] switch { 'd' => TimeSpan.FromDays(n), 'h' => TimeSpan.FromHours(n), 'm' => TimeSpan.FromMinutes(n), 's' => TimeSpan.FromSeconds(n), _ => null };
            if (life >= TimeSpan.FromSeconds(20)) return life;
        }
        throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{t}\" is not a life for a certificate.", "Write a number and d, h, m or s, as in 90d or 12h; 20s is the least.");
    }
}

internal static class ProfileEndpoints
{
    public static void MapProfiles(this RouteGroupBuilder api) =>
        api.MapGet("/profiles", (ProfileCatalogue catalogue) => TypedResults.Ok(catalogue.All.Select(p => new ProfileInfo(p.Id, p.Revision, p.Title, p.Purpose, ProfileWords.Of(p.Life),
            [.. p.Keys.Select(k => k.ToString())], ProfileWords.Of(p.KeyUsage), ProfileWords.OfExtended(p.ExtendedKeyUsage), p.Names.Wildcards, p.Names.Addresses, p.ForPeople,
            BeaconProblem.SlugOf(p.Approval).Replace('-', ' '))).ToList())).WithName("listProfiles").WithTags("Profiles");
}
