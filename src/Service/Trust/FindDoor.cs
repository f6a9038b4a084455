using System.Net;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Where to look, and what to ask for.</summary>
/// <param name="HostId">The host of the known service that listens there; null when it is none.</param>
public sealed record Door(string Address, int Port, string ServerName, ProbeProtocol Protocol, long? HostId);

/// <summary>Where somebody wants to look: an address, or a name of a known service, which is looked for where that service listens.</summary>
public sealed class FindDoor(BeaconDb db)
{
    private const int UsualPort = 443,
        MostNamed = 5;

    public async Task<Door> RunAsync(LookWish wish, CancellationToken ct)
    {
        var (address, port) = Split(wish.Address);
        var name = wish.ServerName ?? address;
        if (!IPAddress.TryParse(address, out _))
        {
            var known = DnsName.Parse(address).Ascii;
            var service = await NamedAsync(known, ct);
            if (service is null && port is null && await OnlyOneOfAsync(known, ct) is { } only)
            {
                service = only;
                name = wish.ServerName ?? Shapes.Strings(only.NamesJson).FirstOrDefault(n => !n.StartsWith('*')) ?? address;
            }
            var endpoints = service is null ? [] : Shapes.Endpoints(service.EndpointsJson);
            var endpoint =
                endpoints.FirstOrDefault(e => port is null ? e.Tls : e.Port == port) ?? (port is null ? endpoints.FirstOrDefault() : null);
            if (endpoint is not null)
                return new(endpoint.Address, endpoint.Port, name, wish.Protocol ?? endpoint.Protocol, service!.HostId);
        }
        return new(address, port ?? UsualPort, name, wish.Protocol ?? WellKnownPorts.ProtocolAt(port ?? UsualPort), null);
    }

    private Task<HostService?> NamedAsync(string known, CancellationToken ct) =>
        (
            from n in db.ServiceNames.AsNoTracking()
            where n.Name == known
            join s in db.Services on n.ServiceId equals s.Id
            join h in db.Hosts on s.HostId equals h.Id
            where h.State == HostState.Joined
            orderby s.Id
            select s
        ).FirstOrDefaultAsync(ct);

    /// <summary>Who names a host means what it serves: that is clear where it has one service.</summary>
    /// <exception cref="BeaconProblem">It has several.</exception>
    private async Task<HostService?> OnlyOneOfAsync(string name, CancellationToken ct)
    {
        var joined = db.Hosts.AsNoTracking().Where(h => h.State == HostState.Joined);
        if (await FindHost.Called(joined, name).OrderBy(h => h.Name.Length).FirstOrDefaultAsync(ct) is not { } host)
            return null;
        var some = await db
            .Services.AsNoTracking()
            .Where(s => s.HostId == host.Id)
            .OrderBy(s => s.Name)
            .Take(MostNamed + 1)
            .ToListAsync(ct);
        if (some.Count < 2)
            return some.FirstOrDefault();
        var (named, more) = (some.Take(MostNamed).Select(s => s.Name), some.Count > MostNamed ? " and others" : "");
        throw new BeaconProblem(
            ProblemCode.InputInvalid,
            $"{host.Name} is a host with several services: {string.Join(", ", named)}{more}.",
            "Name one of them, or a port of the host."
        );
    }

    private static (string Address, int? Port) Split(string text)
    {
        var t = text.Trim();
        foreach (var scheme in new[] { "https://", "http://" })
            if (t.StartsWith(scheme, StringComparison.OrdinalIgnoreCase))
                t = t[scheme.Length..];
        t = t.Split('/')[0];
        var colon = t.LastIndexOf(':');
        if (t.StartsWith('[') && t.Contains(']'))
            return (t[1..t.IndexOf(']')], colon > t.IndexOf(']') ? Port(t[(colon + 1)..]) : null);
        return colon > 0 && t.IndexOf(':') == colon ? (t[..colon], Port(t[(colon + 1)..])) : (t, null);

        static int Port(string p) =>
            int.TryParse(p, out var n) && n is > 0 and < 65536
                ? n
                : throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{p}\" is not a port.", "Use a number from 1 to 65535.");
    }
}
