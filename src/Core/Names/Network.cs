using System.Net;
using System.Net.Sockets;

namespace OrderlyBeacon.Core.Names;

/// <summary>A range of addresses in prefix form (RFC 4632), as <c>10.20.0.0/16</c>; one address alone is a range of one.</summary>
public sealed record Network
{
    private Network(IPAddress first, int bits) => (First, Bits) = (first, bits);

    /// <summary>The range's first address.</summary>
    public IPAddress First { get; }

    /// <summary>How many leading bits are the same in all of it.</summary>
    public int Bits { get; }

    internal byte[] Bytes => First.GetAddressBytes();
    internal byte[] Mask => MaskOf(Bits, Bytes.Length);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/>.</exception>
    public static Network Parse(string text)
    {
        var parts = text.Trim().Split('/');
        if (parts.Length is 1 or 2 && AlternativeName.TryParse("ip:" + parts[0], out var name, out _))
        {
            var address = IPAddress.Parse(name!.Value);
            var most = address.GetAddressBytes().Length * 8;
            var bits = most;
            if (parts.Length > 1 && !int.TryParse(parts[1], out bits))
                bits = -1;
            if (bits >= 0 && bits <= most)
            {
                var network = new Network(address, bits);
                if (network.Bytes.Zip(network.Mask).All(p => (p.First & ~p.Second) == 0))
                    return network;
            }
        }
        throw new BeaconProblem(
            ProblemCode.NameMalformed,
            $"\"{text}\" is not a network.",
            "Write its first address and the length of the prefix, for example 10.20.0.0/16."
        );
    }

    public bool Contains(IPAddress address)
    {
        if (address.AddressFamily != First.AddressFamily)
            return false;
        var mask = Mask;
        return address.GetAddressBytes().Zip(Bytes).Select((p, i) => (p.First & mask[i]) == (p.Second & mask[i])).All(same => same);
    }

    public override string ToString() => $"{First}/{Bits}";

    internal static byte[] MaskOf(int bits, int octets)
    {
        var mask = new byte[octets];
        for (var i = 0; i < octets; i++)
            mask[i] = (byte)(0xFF << Math.Clamp(8 - (bits - 8 * i), 0, 8));
        return mask;
    }
}

/// <summary>Addresses that nobody can have alone, so that no certificate may name them (RFC 6890).</summary>
public static class AddressKinds
{
    private static readonly (string Range, string Kind)[] Never =
    [
        ("0.0.0.0/8", "stands for this host on this network (RFC 791)"),
        ("127.0.0.0/8", "is a loopback address, which every host has (RFC 1122)"),
        ("169.254.0.0/16", "is link-local, which any host on the link can take (RFC 3927)"),
        ("192.0.2.0/24", "is for documentation (RFC 5737)"),
        ("198.51.100.0/24", "is for documentation (RFC 5737)"),
        ("203.0.113.0/24", "is for documentation (RFC 5737)"),
        ("224.0.0.0/4", "is a multicast address (RFC 5771)"),
        ("240.0.0.0/4", "is reserved (RFC 1112)"),
        ("::/128", "stands for no address (RFC 4291)"),
        ("::1/128", "is the loopback address, which every host has (RFC 4291)"),
        ("fe80::/10", "is link-local, which any host on the link can take (RFC 4291)"),
        ("ff00::/8", "is a multicast address (RFC 4291)"),
        ("2001:db8::/32", "is for documentation (RFC 3849)"),
        ("3fff::/20", "is for documentation (RFC 9637)"),
    ];

    private static readonly (Network Range, string Kind)[] Ranges = [.. Never.Select(n => (Network.Parse(n.Range), n.Kind))];

    /// <summary>Why a certificate may not name the address; null when it may. An IPv4 address written as IPv6 is judged as what it is.</summary>
    public static string? Objection(IPAddress address)
    {
        var plain = address.AddressFamily == AddressFamily.InterNetworkV6 && address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address;
        return Ranges.FirstOrDefault(r => r.Range.Contains(plain)).Kind;
    }
}
