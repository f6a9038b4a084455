using System.Net;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>The computer that a certificate is for, as the directory knows it.</summary>
/// <param name="Account">Its account, as <c>WEB01$</c>.</param>
/// <param name="Names">Its DNS names, in the form of <see cref="DnsName.Ascii"/>.</param>
/// <param name="ServiceNames">Host parts of its service principals, with the principal: <c>www.thistledown.example</c> → <c>HTTP/www.thistledown.example</c>.</param>
/// <param name="Groups">Groups that it is in, nested ones too.</param>
/// <param name="AsOf">When the directory said so.</param>
public sealed record ComputerFacts(
    string Account,
    IReadOnlyCollection<string> Names,
    IReadOnlyDictionary<string, string> ServiceNames,
    IReadOnlyCollection<string> Groups,
    DateTimeOffset AsOf
);

/// <summary>What DNS answered about a name.</summary>
/// <param name="Chain">Names that the aliases lead over, the last one the name that has the addresses; empty without an alias (RFC 1034 section 3.6.2).</param>
/// <param name="Problem">Why there is no answer, as a sentence's part; null when there is one.</param>
public sealed record DnsFacts(IReadOnlyList<string> Chain, IReadOnlyList<string> Addresses, string? Problem)
{
    /// <summary>So many steps are followed; who needs more has a loop or a mistake.</summary>
    public const int MostSteps = 8;

    /// <summary>In one line, as people read it.</summary>
    public string Text(string name) =>
        Problem is not null
            ? $"DNS: {Problem}."
            : $"DNS: {string.Join(" → ", Chain.Prepend(name))}{(Addresses.Count > 0 ? " → " + string.Join(", ", Addresses.Take(4)) : "")}.";
}

/// <summary>What DNS answered about an address.</summary>
/// <param name="Names">What it is called (RFC 1035 section 3.5).</param>
/// <param name="Confirmed">Those of the names that lead back to the address.</param>
public sealed record ReverseFacts(IReadOnlyList<string> Names, IReadOnlyList<string> Confirmed, string? Problem);

/// <summary>Names that no certificate of ours may carry, whoever asks, and such that only exist inside.</summary>
public static class SpecialNames
{
    private static readonly (string Zone, string Why)[] Reserved =
    [
        ("localhost", "means every host itself (RFC 6761 section 6.3)"),
        ("invalid", "never exists (RFC 6761 section 6.4)"),
        ("onion", "is not in DNS (RFC 7686)"),
        ("arpa", "is for addresses and the like (RFC 3172)"),
    ];

    private static readonly string[] Inside = ["local", "internal", "home.arpa", "lan", "intranet", "corp", "private"];

    /// <returns>Null when it is none of them.</returns>
    public static string? WhyReserved(DnsName name) =>
        Array.Find(Reserved, r => IsIn(name.Ascii, r.Zone)) is { Zone: not null } found
        && name.Ascii != "home.arpa"
        && !IsIn(name.Ascii, "home.arpa")
            ? found.Why
            : null;

    /// <summary>Why nobody outside can know this name; null when somebody can.</summary>
    public static string? WhyInside(DnsName name)
    {
        if (!name.Ascii.Contains('.'))
            return "has no dot: it is a different host in each network";
        if (Array.Find(Inside, z => IsIn(name.Ascii, z)) is { } zone)
            return $"is in .{zone}, which nobody outside can look up";
        return null;
    }

    /// <summary>Whether an address is one that each network can have for itself (RFC 1918, RFC 4193).</summary>
    public static bool IsInside(IPAddress address) => Private.Any(n => n.Contains(address));

    private static readonly Network[] Private =
    [
        .. new[] { "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7" }.Select(Network.Parse),
    ];

    private static bool IsIn(string name, string zone) => name == zone || name.EndsWith("." + zone, StringComparison.Ordinal);
}
