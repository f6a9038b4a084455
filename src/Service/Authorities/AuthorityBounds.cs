using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>The name constraints of our issuing authority: what the zones and networks have, and the service's own names. Whoever gets its key can then certify nothing else.</summary>
internal static class AuthorityBounds
{
    /// <summary>Null when the settings want none.</summary>
    public static NameConstraints? Of(BeaconOptions options)
    {
        if (options.Bounds == "none")
            return null;
        var permitted = options.Holdings.Ranges.Concat(options.NameList).ToList();
        // A form of names of which nothing is permitted would be free: all of it is excluded.
        var excluded = new List<string>();
        if (!permitted.Exists(IsOf(4)))
            excluded.Add("0.0.0.0/0");
        if (!permitted.Exists(IsOf(16)))
            excluded.Add("::/0");
        return NameConstraints.Of(permitted.Distinct(), excluded);
    }

    private static Predicate<string> IsOf(int octets) =>
        text =>
            AlternativeName.TryParse("ip:" + text.Split('/')[0], out var n, out _)
            && System.Net.IPAddress.Parse(n!.Value).GetAddressBytes().Length == octets;

    /// <summary>Zones and networks of the settings that lie outside of what an authority may certify.</summary>
    public static IReadOnlyList<string> Outside(BeaconOptions options, NameConstraints? bounds) =>
        bounds is null
            ? []
            :
            [
                .. options.Holdings.Zones.Select(z => z.Zone.Ascii).Where(z => bounds.FirstAgainst([AlternativeName.Parse(z)]) is not null),
                .. options
                    .Holdings.Networks.Where(n => bounds.FirstAgainst([AlternativeName.Ip(n.Network.First)]) is not null)
                    .Select(n => n.Network.ToString()),
            ];
}
