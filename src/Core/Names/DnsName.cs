namespace OrderlyBeacon.Core.Names;

/// <summary>What is wrong with a text that should be a name for a certificate.</summary>
public enum NameFault
{
    /// <summary>Nothing is wrong.</summary>
    None,

    /// <summary>There is no text.</summary>
    Empty,

    /// <summary>Over 253 characters (RFC 1035 section 3.1 less the dots' encoding).</summary>
    TooLong,

    /// <summary>A label is over 63 characters (RFC 1035 section 2.3.4).</summary>
    LabelTooLong,

    /// <summary>Two dots in a row, or a dot at the start.</summary>
    EmptyLabel,

    /// <summary>There is a blank in it.</summary>
    Blank,

    /// <summary>There is an underscore in it: no host name has one (RFC 5280 section 4.2.1.6, preferred name syntax).</summary>
    Underscore,

    /// <summary>A label starts or ends with a hyphen.</summary>
    HyphenAtEdge,

    /// <summary>A star alone would stand for every name.</summary>
    BareWildcard,

    /// <summary>A star may stand only as the whole first label, once (RFC 9525 section 6.3).</summary>
    WildcardMisplaced,

    /// <summary>The name below a star needs two labels at least.</summary>
    WildcardTooWide,

    /// <summary>A character that no host name has.</summary>
    BadCharacter,

    /// <summary>An address range where one address is wanted.</summary>
    AddressWithMask,

    /// <summary>An address where a DNS name is wanted.</summary>
    LooksLikeAddress,

    /// <summary>Numbers and dots that are no address.</summary>
    BadAddress,

    /// <summary>An international name that has no ASCII form (RFC 5891).</summary>
    BadInternational,

    /// <summary>It has a scheme, a port or a path.</summary>
    LooksLikeUrl,
}

/// <summary>
/// A DNS name as certificates carry it: lower case, A-labels (RFC 5890), without the final dot; the first label may be a star.
/// Parse once at the edge with <see cref="Parse"/> or <see cref="TryParse"/>; afterwards <see cref="Ascii"/> is safe to compare byte for byte.
/// </summary>
public sealed record DnsName
{
    private DnsName(string ascii) => Ascii = ascii;

    /// <summary>The name in ASCII, as in <c>xn--bcher-kva.example</c>.</summary>
    public string Ascii { get; }

    /// <summary>The first label is a star.</summary>
    public bool IsWildcard => Ascii.StartsWith("*.", StringComparison.Ordinal);

    /// <summary>The name as people write it, as in <c>bücher.example</c>.</summary>
    public string Unicode => IsWildcard ? "*." + Idna.ToUnicode(Ascii[2..]) : Idna.ToUnicode(Ascii);

    /// <summary>Whether this name is <paramref name="zone"/> or below it.</summary>
    public bool IsWithin(DnsName zone) => Ascii == zone.Ascii || Ascii.EndsWith("." + zone.Ascii, StringComparison.Ordinal);

    public override string ToString() => Ascii;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/> with the fault in words.</exception>
    public static DnsName Parse(string text) => TryParse(text, out var name, out var fault) ? name! : throw NameFaults.Problem(text, fault);

    public static bool TryParse(string? text, out DnsName? name, out NameFault fault)
    {
        name = null;
        var trimmed = text?.Trim() ?? "";
        fault = FaultOfText(trimmed);
        if (fault != NameFault.None)
            return false;
        if (trimmed.EndsWith('.') && trimmed.Length > 1)
            trimmed = trimmed[..^1];
        var wildcard = trimmed.StartsWith("*.", StringComparison.Ordinal);
        var rest = wildcard ? trimmed[2..] : trimmed;
        fault = FaultOfStars(trimmed, rest);
        if (fault != NameFault.None)
            return false;
        if (AsciiOf(rest) is not { } ascii)
        {
            fault = NameFault.BadInternational;
            return false;
        }
        fault = CheckLabels(ascii);
        if (fault == NameFault.None && wildcard && !ascii.Contains('.'))
            fault = NameFault.WildcardTooWide;
        if (fault == NameFault.None && (wildcard ? ascii.Length + 2 : ascii.Length) > 253)
            fault = NameFault.TooLong;
        if (fault != NameFault.None)
            return false;
        name = new DnsName(wildcard ? "*." + ascii : ascii);
        return true;
    }

    private static NameFault FaultOfText(string text)
    {
        if (text.Length == 0)
            return NameFault.Empty;
        if (text.Length > 1000)
            return NameFault.TooLong;
        if (text.Contains("://", StringComparison.Ordinal))
            return NameFault.LooksLikeUrl;
        if (text.Any(char.IsWhiteSpace))
            return NameFault.Blank;
        if (text.Contains('/') || text.Contains(':'))
            return NameFault.LooksLikeUrl;
        return NameFault.None;
    }

    /// <param name="rest">What is behind a leading star and its dot.</param>
    private static NameFault FaultOfStars(string text, string rest)
    {
        if (text == "*")
            return NameFault.BareWildcard;
        if (rest.Contains('*'))
            return NameFault.WildcardMisplaced;
        if (rest.Contains('_'))
            return NameFault.Underscore;
        return NameFault.None;
    }

    /// <summary>Null when it has characters that no name can be written with.</summary>
    private static string? AsciiOf(string text)
    {
        var isAscii = Ascii7(text);
        var lower = isAscii ? text.ToLowerInvariant() : text;
        return isAscii && !lower.Contains("xn--", StringComparison.Ordinal) ? lower : Idna.ToAscii(lower);
    }

    private static NameFault CheckLabels(string ascii)
    {
        var labels = ascii.Split('.');
        foreach (var label in labels)
        {
            if (label.Length == 0)
                return NameFault.EmptyLabel;
            if (label.Length > 63)
                return NameFault.LabelTooLong;
            if (label[0] == '-' || label[^1] == '-')
                return NameFault.HyphenAtEdge;
            foreach (var c in label)
                if (!(char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-'))
                    return NameFault.BadCharacter;
        }
        // A last label of digits only cannot be told from an address (RFC 3696 section 2).
        return labels[^1].All(char.IsAsciiDigit) ? NameFault.LooksLikeAddress : NameFault.None;
    }

    private static bool Ascii7(string s) => s.All(char.IsAscii);
}

/// <summary>The words for each <see cref="NameFault"/>.</summary>
public static class NameFaults
{
    public static (string What, string Cure) Describe(NameFault fault) =>
        fault switch
        {
            NameFault.Empty => ("is empty", "Write a host name such as booking.thistledown.example."),
            NameFault.TooLong => ("is longer than the 253 characters a DNS name may have", "Use a shorter name."),
            NameFault.LabelTooLong => ("has a part between dots longer than 63 characters", "Shorten that part."),
            NameFault.EmptyLabel => ("has nothing between two dots", "Remove the surplus dot."),
            NameFault.Blank => ("has a blank in it", "Remove the blank, or enter two names as two entries."),
            NameFault.Underscore => (
                "has an underscore, which host names never have",
                "Use a hyphen, or the name that clients really connect to."
            ),
            NameFault.HyphenAtEdge => ("has a part that starts or ends with a hyphen", "Remove that hyphen."),
            NameFault.BareWildcard => (
                "is a star alone, which would stand for every name there is",
                "Name the zone as well, as in *.stations.thistledown.example."
            ),
            NameFault.WildcardMisplaced => (
                "has a star elsewhere than alone in its first part; clients do not accept that",
                "Use one star as the whole first part: *.thistledown.example."
            ),
            NameFault.WildcardTooWide => ("has a star above a single label", "Name a zone of at least two parts below the star."),
            NameFault.AddressWithMask => (
                "is a range of addresses; a certificate names single ones",
                "Leave out the part from the slash on."
            ),
            NameFault.LooksLikeAddress => ("ends in a number, as addresses do", "Give a complete address, or a name that ends in letters."),
            NameFault.BadAddress => ("is not a complete IPv4 or IPv6 address", "Write four numbers from 0 to 255, or an IPv6 address."),
            NameFault.BadInternational => (
                "has characters that no international domain name may have, or letters of two scripts that look alike in one part",
                "Check the spelling, or give the ASCII form that starts with xn--."
            ),
            NameFault.LooksLikeUrl => (
                "is an address of a page or has a port, not a host name alone",
                "Leave out the scheme, the port and the path."
            ),
            _ => ("has a character that host names cannot have", "Use letters, digits, hyphens and dots; give several names one by one."),
        };

    public static BeaconProblem Problem(string? text, NameFault fault)
    {
        var (what, cure) = Describe(fault);
        return new BeaconProblem(ProblemCode.NameMalformed, $"The name \"{Shorten(text)}\" {what}.", cure);
    }

    private static string Shorten(string? text) =>
        string.Concat((text ?? "").Select(c => char.IsControl(c) ? '?' : c).Take(80)) + (text?.Length > 80 ? "…" : "");
}
