using System.Net;

namespace OrderlyBeacon.Core.Names;

/// <summary>How a certificate's names relate to the name a client asked for (RFC 9525 section 6).</summary>
public enum NameMatch
{
    /// <summary>An alternative name fits.</summary>
    Fits,

    /// <summary>There are alternative names, but none fits.</summary>
    NoneFits,

    /// <summary>There are no alternative names; the common name would fit, and clients do not look there.</summary>
    OnlyCommonName,

    /// <summary>There are no alternative names at all, and the common name does not fit either.</summary>
    NoAlternativeNames,
}

/// <summary>Matching as clients do it: alternative names only, a star stands for exactly one label.</summary>
public static class HostNameMatch
{
    public static NameMatch Of(string asked, IReadOnlyList<AlternativeName> names, string? commonName)
    {
        if (IPAddress.TryParse(asked, out var ip))
        {
            var text = ip.ToString();
            if (names.Any(n => n.Kind == NameKind.Ip && n.Value == text))
                return NameMatch.Fits;
        }
        else if (names.Any(n => n.Kind == NameKind.Dns && DnsFits(asked, n.Value)))
            return NameMatch.Fits;

        if (names.Any(n => n.Kind is NameKind.Dns or NameKind.Ip))
            return NameMatch.NoneFits;
        return commonName is not null && DnsFits(asked, commonName) ? NameMatch.OnlyCommonName : NameMatch.NoAlternativeNames;
    }

    /// <summary>Whether a pattern such as <c>*.thistledown.example</c> stands for the name asked for.</summary>
    public static bool DnsFits(string asked, string pattern)
    {
        var a = asked.TrimEnd('.');
        // A final dot in a certificate is part of the name there, and no client looks past it.
        var p = pattern;
        if (!p.StartsWith("*.", StringComparison.Ordinal))
            return a.Equals(p, StringComparison.OrdinalIgnoreCase);
        var dot = a.IndexOf('.');
        return dot > 0 && a.AsSpan(dot + 1).Equals(p.AsSpan(2), StringComparison.OrdinalIgnoreCase);
    }
}
