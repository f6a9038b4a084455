using System.Net;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Sweeps;

/// <summary>The endpoints of some networks and ports, each by its number: nobody needs to hold them all.</summary>
public sealed class SweepPlan
{
    /// <summary>More in one sweep are refused: a network of 2,048 addresses at 32 ports.</summary>
    public const int MostEndpoints = 65536;

    /// <summary>What servers with TLS usually listen at.</summary>
    public static readonly IReadOnlyList<int> UsualPorts =
    [
        21,
        25,
        110,
        143,
        389,
        443,
        465,
        587,
        636,
        990,
        993,
        995,
        3306,
        5222,
        5432,
        6380,
        8443,
    ];

    private const int MostNetworks = 64,
        MostPorts = 64;

    private SweepPlan(IReadOnlyList<Network> networks, IReadOnlyList<int> ports)
    {
        (Networks, Ports) = (networks, ports);
        Total = networks.Sum(SizeOf) * ports.Count;
    }

    public IReadOnlyList<Network> Networks { get; }
    public IReadOnlyList<int> Ports { get; }

    /// <summary>How many endpoints there are.</summary>
    public long Total { get; }

    /// <param name="networks">Addresses and ranges, as <c>10.20.0.0/24</c>.</param>
    /// <param name="ports">Null and empty: <see cref="UsualPorts"/>.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> or <see cref="ProblemCode.NameMalformed"/>.</exception>
    public static SweepPlan Parse(IReadOnlyList<string> networks, IReadOnlyList<int>? ports)
    {
        if (networks.Count is 0 or > MostNetworks)
            throw Invalid($"{networks.Count} networks are given.", $"Give 1 to {MostNetworks}, for example 10.20.0.0/24.");
        var plan = new SweepPlan(
            [.. networks.Select(Network.Parse).DistinctBy(n => n.ToString())],
            [.. (ports is { Count: > 0 } ? ports : UsualPorts).Distinct().Order()]
        );
        if (plan.Ports.Count > MostPorts || plan.Ports.Any(p => p is < 1 or > 65535))
            throw Invalid("The ports are not usable.", $"Give up to {MostPorts} numbers from 1 to 65535.");
        return plan.Total > MostEndpoints
            ? throw Invalid(
                $"These are {plan.Total} endpoints; a sweep looks at {MostEndpoints} at most.",
                "Take smaller networks or fewer ports."
            )
            : plan;
    }

    /// <summary>That of a number from 0 on: all ports of one address, then those of the next, so that no server meets more than one look after another.</summary>
    public (IPAddress Address, int Port) At(long number)
    {
        var (port, left) = (Ports[(int)(number % Ports.Count)], number / Ports.Count);
        foreach (var network in Networks)
        {
            if (left < SizeOf(network))
                return (AddressOf(network, left), port);
            left -= SizeOf(network);
        }
        throw new ArgumentOutOfRangeException(nameof(number));
    }

    /// <summary>The first of the networks that does not lie within what is permitted; null when all do.</summary>
    public Network? Outside(IReadOnlyList<Network> permitted) =>
        Networks.FirstOrDefault(n => !permitted.Any(p => p.Bits <= n.Bits && p.Contains(n.First)));

    private static long SizeOf(Network n)
    {
        var open = n.First.GetAddressBytes().Length * 8 - n.Bits;
        return open > 24 ? MostEndpoints + 1L : 1L << open;
    }

    private static IPAddress AddressOf(Network n, long number)
    {
        var bytes = n.First.GetAddressBytes();
        for (var i = bytes.Length - 1; i >= 0 && number > 0; i--, number >>= 8)
            bytes[i] |= (byte)(number & 0xFF);
        return new(bytes);
    }

    private static BeaconProblem Invalid(string message, string cure) => new(ProblemCode.InputInvalid, message, cure);
}
