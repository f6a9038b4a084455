using System.Net;
using System.Net.Sockets;

namespace OrderlyBeacon.Core.Names;

/// <summary>Forms of a subject alternative name (RFC 5280 section 4.2.1.6) that we tell apart.</summary>
public enum NameKind
{
    Dns,
    Ip,
    Email,
    Uri,

    /// <summary>A distinguished name.</summary>
    Directory,

    /// <summary>Any other form; its text is the tag number.</summary>
    Other,
}

/// <summary>One subject alternative name. DNS names and addresses can be requested; other forms are only read.</summary>
/// <param name="Kind">Its form.</param>
/// <param name="Value">Canonical text: an A-label DNS name, or an address as <see cref="IPAddress.ToString"/> writes it.</param>
public sealed record AlternativeName(NameKind Kind, string Value)
{
    /// <summary>Of a directory name: the name itself.</summary>
    public DistinguishedName? Directory { get; init; }

    public static AlternativeName Dns(DnsName name) => new(NameKind.Dns, name.Ascii);

    public static AlternativeName Ip(IPAddress address) => new(NameKind.Ip, address.ToString());

    public override string ToString() => Kind == NameKind.Dns ? Value : $"{BeaconProblem.SlugOf(Kind)}:{Value}";

    /// <summary>Reads a name as people write it: a DNS name or an address, optionally with <c>dns:</c> or <c>ip:</c> before it.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/>.</exception>
    public static AlternativeName Parse(string text) =>
        TryParse(text, out var name, out var fault) ? name! : throw NameFaults.Problem(text, fault);

    public static bool TryParse(string? text, out AlternativeName? name, out NameFault fault)
    {
        name = null;
        var t = (text ?? "").Trim();
        if (t.StartsWith("dns:", StringComparison.OrdinalIgnoreCase))
            return TryDns(t[4..], out name, out fault);
        var forced = t.StartsWith("ip:", StringComparison.OrdinalIgnoreCase);
        if (forced)
            t = t[3..];
        if (t is ['[', .., ']'])
            t = t[1..^1];
        var slash = t.IndexOf('/');
        if (slash > 0 && TryIp(t[..slash], out _))
        {
            fault = NameFault.AddressWithMask;
            return false;
        }
        if (TryIp(t, out var ip))
        {
            name = Ip(ip!);
            fault = NameFault.None;
            return true;
        }
        if (forced || (t.Length > 0 && t.All(c => char.IsAsciiDigit(c) || c == '.')))
        {
            fault = NameFault.BadAddress;
            return false;
        }
        return TryDns(t, out name, out fault);
    }

    private static bool TryDns(string t, out AlternativeName? name, out NameFault fault)
    {
        var ok = DnsName.TryParse(t, out var dns, out fault);
        name = ok ? Dns(dns!) : null;
        return ok;
    }

    // IPAddress.Parse takes "1" and "0x7f.1": only the full dotted form and IPv6 without a scope are meant here.
    private static bool TryIp(string t, out IPAddress? address)
    {
        if (!IPAddress.TryParse(t, out address))
            return false;
        if (address.AddressFamily == AddressFamily.InterNetwork)
            return t.Split('.') is { Length: 4 } parts
                && parts.All(p => p.Length is > 0 and <= 3 && p.All(char.IsAsciiDigit) && (p.Length == 1 || p[0] != '0'));
        return !t.Contains('%');
    }
}
